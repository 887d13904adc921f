package engine

import (
	"time"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// Forecast foretells what a set of rules would do, by the calls that are remembered of the last while, at most so long. What
// is declared otherwise in the set counts for what can be kept, but not for what writes would drop.
func (e *Engine) Forecast(set *rules.Set, now time.Time, longest time.Duration, progress func(float64) bool) (*forecast.Forecast, error) {
	return forecast.Make(e.replay(set, now, longest, progress))
}

// MemoryCurve foretells what the rules in force would do with each of some limits of memory, in bytes.
func (e *Engine) MemoryCurve(limits []int64, now time.Time, longest time.Duration, progress func(float64) bool) ([]*forecast.Forecast, error) {
	run := e.replay(e.Rules(), now, longest, progress)
	rooms := make([]int64, len(limits))
	for i, l := range limits {
		rooms[i] = e.store.ForResults(l)
	}
	list, err := forecast.Curve(run, rooms)
	for i := range list {
		list[i].Limit = limits[i]
	}
	return list, err
}

func (e *Engine) replay(set *rules.Set, now time.Time, longest time.Duration, progress func(float64) bool) forecast.Run {
	run := forecast.Run{Classes: e.Inputs.Classes(), Limit: e.store.ForResults(e.store.Limit()), Progress: progress}
	e.patterns.each(func(p *Pattern) {
		trace := p.Inputs.Trace(now, longest)
		if len(trace.Asked) == 0 {
			return
		}
		does := e.doesUnder(set, p)
		reply := float64(p.Numbers.Bytes()) / float64(max(p.Numbers.Calls(), 1))
		kept := reply + store.Overhead
		if n := p.Numbers.Kept.Held.Load(); n > 0 {
			kept = float64(p.Numbers.Kept.HeldBytes.Load()) / float64(n)
		}
		run.Patterns = append(run.Patterns, forecast.Pattern{
			Trace: trace, Origin: e.fetchTime(p), Bytes: reply, Kept: kept,
			Rules:    rules.Reading(set.Candidates(p.ID, p.Text), does.Reads),
			Possible: len(does.Reasons) == 0, TimeAccepted: does.OfTime,
		})
	})
	return run
}

// fetchTime is how long a fetch of a pattern takes: lately, if it was fetched lately, since it is the shorter the less else the
// origin has to do.
func (e *Engine) fetchTime(p *Pattern) time.Duration {
	lately := p.Numbers.Minute()
	if n := lately.Calls() - lately.Count[ledger.Hit]; n >= enoughFetches {
		return (lately.AllWaited() - lately.Waited[ledger.Hit]) / time.Duration(n)
	}
	return p.Numbers.Origin().Mean()
}

const enoughFetches = 10

// doesUnder is Does with what another set of rules declares.
func (e *Engine) doesUnder(set *rules.Set, p *Pattern) *catalog.Resolved {
	have := p.resolved.Load()
	if have == nil || set.SameDeclarations(e.Rules()) {
		return e.Does(p)
	}
	c := (*have)[0].db.catalog.Load()
	if c == nil {
		return e.Does(p)
	}
	return c.read.With(set.Functions()).Resolve(p.Facts, catalog.Hints{Declared: set.Declared(p.ID, p.Text)})
}
