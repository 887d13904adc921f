package daemon

import (
	"time"

	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// put puts rules in force, with what the larder has chosen within those that are advised. It is called with apply held.
func (b *ruleBook) put(set *rules.Set) {
	b.choosing.Lock()
	forgot := b.chooser.Forget(set)
	chosen, all := b.chooser.Choices(), b.chooser.All()
	b.choosing.Unlock()
	b.engine.SetRules(set.With(chosen))
	if forgot { // or a rule of that name would go on with it one day
		b.state.PutChosen(all)
	}
}

// choose makes one round of decisions within the advised rules, and puts them in force.
func (b *ruleBook) choose(now time.Time) []choices.Change {
	b.apply.Lock()
	defer b.apply.Unlock()
	b.choosing.Lock()
	changes, outcomes := b.engine.Choose(b.chooser, now)
	chosen, all := b.chooser.Choices(), b.chooser.All()
	b.choosing.Unlock()
	set := b.engine.Rules()
	if next := set.With(chosen); !next.Choices().Equal(set.Choices()) { // the rules may allow less than was chosen
		b.engine.SetRules(next)
	}
	if len(outcomes) > 0 {
		b.state.CameOf(outcomes)
	}
	if len(changes) > 0 {
		b.state.AddChoices(changes)
		b.state.PutChosen(all)
	}
	return changes
}

// Chosen implements controlserver.Book.
func (b *ruleBook) Chosen() []choices.Choice {
	b.choosing.Lock()
	defer b.choosing.Unlock()
	return b.chooser.All()
}

// Brought implements controlserver.Book.
func (b *ruleBook) Brought(rule string, id statement.ID, total ledger.Sums) (choices.Rate, bool) {
	b.choosing.Lock()
	defer b.choosing.Unlock()
	return b.chooser.Actual(rule, id, total, time.Now())
}

// Against implements controlserver.Book.
func (b *ruleBook) Against(p *engine.Pattern) string {
	b.choosing.Lock()
	defer b.choosing.Unlock()
	return b.engine.Against(b.chooser, p, time.Now())
}

// Advised implements controlserver.Book.
func (b *ruleBook) Advised(set *rules.Set) *rules.Set {
	b.choosing.Lock()
	c := b.chooser.Clone()
	b.choosing.Unlock()
	return b.engine.Advised(c, set, time.Now())
}

// choose makes one round of decisions, and tells of them.
func (l *Larder) choose(now time.Time) {
	for _, c := range l.book.choose(now) {
		l.log.Info("within an advised rule: "+c.Kind, "rule", c.Rule, "pattern", string(c.Pattern), "ttl", rules.FormatTTL(c.After), "why", c.Why)
	}
}
