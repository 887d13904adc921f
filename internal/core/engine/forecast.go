package engine

import (
	"time"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// Forecast foretells what a set of rules would do, by the calls that are remembered of the last while, at most so long. What
// is declared otherwise in the set counts for what can be kept, but not for what writes would drop.
func (e *Engine) Forecast(set *rules.Set, now time.Time, longest time.Duration, progress func(float64) bool) (*forecast.Forecast, error) {
	run := forecast.Run{Classes: e.Ledger.Classes(), Limit: e.store.Limit(), Progress: progress}
	e.patterns.each(func(p *Pattern) {
		trace := p.Numbers.Trace(now, longest)
		if len(trace.Asked) == 0 {
			return
		}
		does := e.doesUnder(set, p)
		run.Patterns = append(run.Patterns, forecast.Pattern{
			Trace: trace, Origin: e.fetchTime(p), Bytes: float64(p.Numbers.Bytes()) / float64(max(p.Numbers.Calls(), 1)),
			Rules:    rules.Reading(set.Candidates(p.ID, p.Text), does.Reads),
			Possible: len(does.Reasons) == 0, TimeAccepted: does.OfTime,
		})
	})
	return forecast.Make(run)
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
