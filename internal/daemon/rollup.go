package daemon

import (
	"cmp"
	"encoding/json"
	"slices"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/state"
)

// rollups takes the numbers of each minute down, and what came true of what was applied.
type rollups struct {
	l    *Larder
	last map[statement.ID]counted
	at   time.Time
}

// counted is what had been counted of a pattern.
type counted struct {
	sums  ledger.Sums
	drops uint64
}

// minute is how long a step of the numbers is.
const minute = time.Minute

// tick is called from time to time; at the end of each minute it takes down what came.
func (r *rollups) tick(now time.Time) {
	at := now.Truncate(minute)
	if r.last == nil {
		r.last, r.at = map[statement.ID]counted{}, at
		r.take(at) // what was before is nobody's
		return
	}
	if !at.After(r.at) {
		return
	}
	rows := r.take(r.at)
	r.at = at
	r.l.state.AddRollups(rows, now)
	r.l.state.Flush()
	r.cameTrue(now)
	r.l.rememberInputs()
}

// take gives what was counted since it was last called.
func (r *rollups) take(at time.Time) []state.Rollup {
	e := r.l.engine
	total := state.Rollup{At: at}
	var list []state.Rollup
	seen := map[statement.ID]counted{}
	e.Patterns(func(p *engine.Pattern) {
		now := counted{p.Numbers.Total(), p.Numbers.Drops.Load()}
		old := r.last[p.ID]
		seen[p.ID] = now
		if now == old {
			return
		}
		row := state.Rollup{At: at, Pattern: string(p.ID), Text: p.Text, Drops: now.drops - min(old.drops, now.drops)}
		add := func(to *uint64, o ledger.Outcome) {
			*to = now.sums.Count[o] - min(old.sums.Count[o], now.sums.Count[o])
			row.Calls += *to
		}
		add(&row.Hits, ledger.Hit)
		add(&row.Misses, ledger.Miss)
		add(&row.Passes, ledger.Pass)
		add(&row.Writes, ledger.Write)
		row.Waited, row.Spared = max(now.sums.AllWaited()-old.sums.AllWaited(), 0), now.sums.Spared-old.sums.Spared
		list = append(list, row)
		sumInto(&total, row)
	})
	r.last = seen
	slices.SortFunc(list, func(a, b state.Rollup) int { return cmp.Compare(b.Waited+b.Spared, a.Waited+a.Spared) })
	if len(list) > state.PatternsEach {
		others := state.Rollup{At: at, Pattern: state.Others}
		for _, row := range list[state.PatternsEach:] {
			sumInto(&others, row)
		}
		list = append(list[:state.PatternsEach], others)
	}
	return append(list, total)
}

func sumInto(to *state.Rollup, r state.Rollup) {
	to.Calls += r.Calls
	to.Hits += r.Hits
	to.Misses += r.Misses
	to.Passes += r.Passes
	to.Writes += r.Writes
	to.Drops += r.Drops
	to.Waited += r.Waited
	to.Spared += r.Spared
}

// cameTrue notes of each change of the rules what came true within an hour and a day of it, or until the next change.
func (r *rollups) cameTrue(now time.Time) {
	until := now
	why := ""
	for _, e := range r.l.state.History(100) { // the latest first
		for _, after := range []time.Duration{time.Hour, 24 * time.Hour} {
			day := after > time.Hour
			have := e.Hour
			if day {
				have = e.Day
			}
			end := e.At.Add(after)
			if have != "" || now.Before(end) && why == "" {
				continue
			}
			reason := ""
			if until.Before(end) {
				end, reason = until, why
			}
			sum, minutes := r.l.state.Sum("", e.At.Truncate(minute).Add(minute), end)
			if minutes == 0 {
				continue
			}
			m := float64(minutes)
			_, bytes, _ := r.l.engine.Kept()
			measured := control.Measured{Minutes: minutes, Until: reason, Calls: float64(sum.Calls) / m, Hits: float64(sum.Hits) / m,
				OfAll: float64(sum.Hits) / float64(max(sum.Calls, 1)), Spared: float64(sum.Spared) / float64(time.Millisecond) / m,
				Origin: float64(sum.Calls-sum.Hits) / m / 60, Drops: float64(sum.Drops) / m, Memory: float64(bytes)}
			text, _ := json.Marshal(measured)
			r.l.state.CameTrue(e.ID, day, string(text))
		}
		if now.Sub(e.At) > 48*time.Hour {
			break
		}
		until, why = e.At, "the next change"
	}
}

// rememberInputs remembers what is to be fetched at the start, where values may be kept.
func (l *Larder) rememberInputs() {
	l.mu.Lock()
	allowed := l.cfg.KeepValues
	l.mu.Unlock()
	if !allowed {
		return
	}
	for _, r := range l.engine.Rules().List() {
		if r.FetchAtStart > 0 {
			if keys := l.engine.MostUsed(r.Name, r.FetchAtStart); len(keys) > 0 {
				l.state.PutInputs(r.Name, keys)
			}
		}
	}
}

// fetchAtStart has fetched what was remembered. What no rule asks for any more is forgotten, and everything where values may
// not be kept.
func (l *Larder) fetchAtStart() {
	var wanted []string
	for _, r := range l.engine.Rules().List() {
		if r.FetchAtStart > 0 && l.cfg.KeepValues {
			wanted = append(wanted, r.Name)
		}
	}
	l.state.ForgetInputs(wanted)
	for _, name := range wanted {
		r := l.engine.Rules().Named(name)
		keys := l.state.Inputs(name)
		l.engine.FetchAtStart(r, keys[:min(len(keys), r.FetchAtStart)])
	}
}
