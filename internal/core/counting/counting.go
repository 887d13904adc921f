// Package counting counts statements in the ledger: in all, by pattern and by rule.
package counting

import (
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
)

// Counter counts what an engine does in its ledger. Make it with New.
type Counter struct {
	engine.Unmoved
	ledger *ledger.Ledger
}

// New makes a counter.
func New(l *ledger.Ledger) *Counter { return &Counter{ledger: l} }

// Ended counts a statement, but for the larder's own: no client waits for those.
func (c *Counter) Ended(x *engine.Ended) {
	if x.Session.Own {
		return
	}
	x.Application.Record(&x.Record)
	x.Numbers.Record(&x.Record)
	if x.OfRule != nil {
		x.OfRule.Record(&x.Record)
	}
}

// Sampled counts how long the origin took for a control sample.
func (c *Counter) Sampled(x *engine.Sampled) {
	if x.Failed {
		return
	}
	x.Numbers.Sample(x.Took)
	x.Application.Sample(x.Took)
	c.ledger.Rule(x.Rule.Name).Sample(x.Took)
}
