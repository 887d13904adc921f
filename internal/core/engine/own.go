package engine

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// What a session has of its own in its server decides what some statements do: those that run what was prepared in SQL,
// code that stands in the statement itself, and those that write temporary tables.

// acts gives the pattern of what a statement does, which is mostly its own.
func (s *Session) acts(p *Pattern, exact []byte) *Pattern {
	switch f := p.Facts; {
	case f.Kind == analysis.KindExecute:
		if q := s.inSQL[f.Executes]; q != nil {
			return q
		}
	case f.Kind == analysis.KindDo && len(exact) <= long:
		if f := s.db.dialect.Facts(s.scan.Syntax, string(exact)); f.Code != nil {
			return p.doing(f.Code)
		}
	case len(f.Drops) > 0 && s.ownsAll(f.Drops):
		return p.doing(&analysis.Facts{Kind: f.Kind, Effect: analysis.System | analysis.Settings, Reasons: f.Reasons})
	}
	return p
}

// doing gives a pattern that does something else, for one statement.
func (p *Pattern) doing(f *analysis.Facts) *Pattern {
	return &Pattern{
		ID:      p.ID,
		Text:    p.Text,
		Facts:   f,
		Numbers: p.Numbers,
		Inputs:  p.Inputs,
		passing: true,
		clock:   freshness.Clock{Name: patternClock},
	}
}

// follows notes what a statement that is sent makes of what the session has of its own.
func (s *Session) follows(d *Decision) {
	f := d.Pattern.Facts
	known := d.does != f
	switch {
	case f.Forgets && f.Forgotten != "" && f.Kind == analysis.KindDeallocate:
		delete(s.inSQL, f.Forgotten)
	case f.Forgets:
		clear(s.inSQL)
		clear(s.temp)
	case d.resolved.SchemaChanges:
		clear(s.temp) // which may do more from now on
		if !known {
			clear(s.inSQL)
		}
	case len(d.resolved.Defines) > 0:
		for _, def := range d.resolved.Defines {
			for _, n := range def.Names {
				delete(s.temp, n) // which may do more from now on
			}
		}
	case f.Prepares != "" && f.Kind == analysis.KindPrepare:
		if s.inSQL == nil || len(s.inSQL) >= mostPast {
			s.inSQL = map[string]*Pattern{}
		}
		var q *Pattern
		if _, twice := s.inSQL[f.Prepares]; !twice { // or it may fail, or the first may have
			q = d.Pattern.doing(f.Prepared)
		}
		s.inSQL[f.Prepares] = q
	case f.Makes != "" && d.resolved.schema != nil && !d.resolved.schema.Checks():
		if s.temp == nil || len(s.temp) >= mostPast {
			s.temp = map[string]bool{}
		}
		s.temp[f.Makes] = true
	}
}

// Numbered gives the statement that stands for a call of a function by its number; it may do anything where that is not
// known.
func (s *Session) Numbered(n uint32) Statement {
	if schema := s.db.current(); schema != nil {
		if name := schema.Numbered(n); name != "" {
			return s.Read([]byte("select " + name + "()")).Clone()
		}
	}
	return Statement{Pattern: s.e.Unreadable(reason.Of(reason.ByNumber))}
}

// owns says whether all of some tables are temporary ones of the session's own.
func (s *Session) owns(names []string) bool {
	for _, n := range names {
		if !s.temp[n] {
			return false
		}
	}
	return true
}

// ownsAll is owns for names as they are written. A table of the catalog's may be meant by none of them.
func (s *Session) ownsAll(names []analysis.Name) bool {
	schema := s.db.current()
	for _, n := range names {
		if schema == nil || !s.temp[n.Name] || !schema.Temporary(n) {
			return false
		}
	}
	return true
}

// What is asked while the catalog is not known may do anything, but mostly does nothing. What that is of consequence
// for in its session alone is judged when the catalog is known: whether settings may have changed, and whether
// something was made that goes when the session ends.

// blind says whether a statement may do anything only because the catalog is not known.
func (d *Decision) blind() bool {
	return d.resolved.schema == nil &&
		d.does.Effect&(analysis.Unknown|analysis.Schema|analysis.System|analysis.Settings) == 0
}

// doubts notes a statement of which it will be judged later whether it changed settings; it is false if that cannot
// wait.
func (s *Session) doubts(d *Decision) bool {
	at := s.db.clocks.Schema.Changes()
	if !d.blind() || len(s.unsure) >= mostPast || len(s.unsure) > 0 && s.unsureAt != at {
		return false
	}
	s.unsureAt = at
	if !slices.Contains(s.unsure, d.Pattern) {
		s.unsure = append(s.unsure, d.Pattern)
	}
	return true
}

// judge settles what was in doubt, now that the catalog is known. One of another moment tells nothing of it.
func (s *Session) judge() {
	schema := s.db.current()
	if schema == nil || s.db.openDefinitions() != nil || s.db.clocks.Schema.Changes() != s.unsureAt ||
		s.may(schema, func(does *catalog.Resolved) bool { return does.Settings || does.Everything }) {
		s.ForgetSettings()
		s.renamings++
	}
	s.temporary, s.unsure = s.mayLeave(), nil
}

// may says whether what is in doubt may do something.
func (s *Session) may(schema catalog.Schema, what func(*catalog.Resolved) bool) bool {
	return slices.ContainsFunc(
		s.unsure,
		func(p *Pattern) bool { return what(schema.Resolve(p.Facts, catalog.Hints{})) },
	)
}

// makes notes whether a statement may make something that goes when the session ends.
func (s *Session) makes(d *Decision) {
	if res := d.resolved; res.SystemChanges && len(res.Defines) == 0 ||
		res.Everything && !(d.blind() && slices.Contains(s.unsure, d.Pattern)) {
		s.temporary = true
	}
}

// mayLeave says whether something of a session that ends may go with it.
func (s *Session) mayLeave() bool {
	if s.temporary || len(s.unsure) == 0 {
		return s.temporary
	}
	schema := s.db.current()
	return schema == nil || s.db.openDefinitions() != nil || s.db.clocks.Schema.Changes() != s.unsureAt ||
		s.may(schema, func(does *catalog.Resolved) bool { return does.SystemChanges || does.Everything })
}
