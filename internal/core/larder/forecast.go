package larder

import (
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// Forecast foretells what a set of rules would do, by the calls that are remembered of the last while, at most so long.
// What is declared otherwise in the set counts for what can be kept, but not for what writes would drop.
func (l *Larder) Forecast(
	set *rules.Set,
	now time.Time,
	longest time.Duration,
	progress func(float64) bool,
) (*forecast.Forecast, error) {
	return forecast.Make(l.replay(set, now, longest, progress))
}

// MemoryCurve foretells what the rules in force would do with each of some limits of memory, in bytes.
func (l *Larder) MemoryCurve(
	limits []int64,
	now time.Time,
	longest time.Duration,
	progress func(float64) bool,
) ([]*forecast.Forecast, error) {
	run := l.replay(l.Rules(), now, longest, progress)
	rooms := make([]int64, len(limits))
	for i, limit := range limits {
		rooms[i] = l.RoomFor(limit)
	}
	list, err := forecast.Curve(run, rooms)
	for i := range list {
		list[i].Limit = limits[i]
	}
	return list, err
}

func (l *Larder) replay(
	set *rules.Set,
	now time.Time,
	longest time.Duration,
	progress func(float64) bool,
) forecast.Run {
	run := forecast.Run{Classes: l.Inputs.Classes(), Limit: l.RoomFor(l.Limit()), Progress: progress}
	l.Patterns(func(p *engine.Pattern) {
		trace := p.Inputs.Trace(now, longest)
		if len(trace.Asked) == 0 {
			return
		}
		known := trace.Span
		if trace.Whole {
			known = max(known, min(now.Sub(l.Ledger.Began), longest))
		}
		does := l.DoesUnder(set, p)
		reply := float64(p.Numbers.Bytes()) / float64(max(p.Numbers.Calls(), 1))
		kept := reply + store.Overhead
		if n := p.Numbers.Cached.Held.Load(); n > 0 {
			kept = float64(p.Numbers.Cached.HeldBytes.Load()) / float64(n)
		}
		run.Patterns = append(run.Patterns, forecast.Pattern{
			Trace: trace, Known: known, Origin: fetchTime(p), Bytes: reply, Cached: kept,
			Rules:    rules.ThatRead(set.Candidates(p.ID, p.Text), does.Reads),
			Possible: len(does.Reasons) == 0, TimeAccepted: does.OfTime,
		})
	})
	return run
}

// fetchTime is how long a fetch of a pattern takes: lately, if it was fetched lately, since it is the shorter the less
// else the origin has to do.
func fetchTime(p *engine.Pattern) time.Duration {
	lately := p.Numbers.Minute()
	if n := lately.Calls() - lately.Count[ledger.Hit]; n >= enoughFetches {
		return (lately.AllWaited() - lately.Waited[ledger.Hit]) / time.Duration(n)
	}
	return p.Numbers.Origin().Mean()
}

const enoughFetches = 10
