package engine

import (
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/rules"
)

// DoesUnder is Does with what another set of rules declares.
func (e *Engine) DoesUnder(set *rules.Set, p *Pattern) *catalog.Resolved {
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
