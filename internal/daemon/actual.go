package daemon

import (
	"encoding/json"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/state"
)

// outcome is a time over which it is to be measured what came true of a change of the rules: whole minutes, in which
// nothing else was in force. It is empty, with from not before to, if the change was in force for no whole minute.
type outcome struct {
	entry    state.Entry
	day      bool // its first day, or else its first hour
	from, to time.Time
	until    string // why it ends early; empty if it does not
}

// outcomes gives those that can be measured by now, of a history whose latest entry comes first. What a change did in its
// first day is asked only if it was in force for longer than an hour.
func outcomes(history []state.Entry, now time.Time) (out []outcome) {
	var next time.Time // when the rules were changed again
	for _, e := range history {
		for _, after := range []time.Duration{time.Hour, 24 * time.Hour} {
			x := outcome{entry: e, day: after > time.Hour, from: e.At.Truncate(minute), to: e.At.Add(after)}
			if x.from.Before(e.At) {
				x.from = x.from.Add(minute)
			}
			have := e.Hour
			if x.day {
				have = e.Day
			}
			if !next.IsZero() && next.Before(x.to) {
				x.to, x.until = next, "the next change"
				if x.day && !next.After(e.At.Add(time.Hour)) {
					continue
				}
			}
			x.to = x.to.Truncate(minute)
			if have == "" && !now.Before(x.to) {
				out = append(out, x)
			}
		}
		if now.Sub(e.At) > 48*time.Hour {
			break
		}
		next = e.At
	}
	return out
}

// actualOf notes of each change of the rules what came true within an hour and a day of it, or until the next change.
func (r *rollups) actualOf(now time.Time) {
	for _, x := range outcomes(r.l.state.History(100), now) {
		measured := control.Measured{Until: x.until}
		if x.from.Before(x.to) {
			sum := r.l.state.Sum(state.Everything, "", x.from, x.to)
			if sum.Minutes == 0 {
				continue // the larder did not run
			}
			measured = measuredOf(&sum, x.until)
		}
		text, _ := json.Marshal(measured)
		r.l.state.Actual(x.entry.ID, x.day, string(text))
	}
}

// measuredOf gives what some minutes brought.
func measuredOf(sum *state.Rollup, until string) control.Measured {
	m := float64(sum.Minutes)
	calls, hits := float64(sum.Calls()), float64(sum.Count[ledger.Hit])
	return control.Measured{
		Minutes: int(sum.Minutes),
		Until:   until,
		Calls:   calls / m,
		Hits:    hits / m,
		OfAll:   hits / max(calls, 1),
		Saved:   float64(sum.Saved) / float64(time.Millisecond) / m,
		Origin:  (calls - hits) / m / 60,
		Drops:   float64(sum.Drops) / m,
		Memory:  sum.Memory,
	}
}
