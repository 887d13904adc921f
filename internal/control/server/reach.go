package server

import (
	"fmt"
	"slices"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
)

// mostMatched bounds how many rules are held against how many patterns to say what each is about, as their product.
const mostMatched = 5_000_000

// reach says for each rule of a set how many of the patterns that are known it matches, and for how many of them it may
// decide; nil where that would take too long.
func (s *server) reach(set *rules.Set) map[*rules.Rule]control.RuleReach {
	e := s.l.Engine()
	var list []*engine.Pattern
	e.Patterns(func(p *engine.Pattern) { list = append(list, p) })
	if len(list)*len(set.List()) > mostMatched {
		return nil
	}
	out := map[*rules.Rule]control.RuleReach{}
	for i := range set.List() {
		out[&set.List()[i]] = control.RuleReach{}
	}
	for _, p := range list {
		all, decide := set.Matching(p.ID, p.Text, e.Does(p).Reads)
		for i, r := range all {
			x := out[r]
			x.Matches++
			if i < decide {
				x.Decides++
			}
			out[r] = x
		}
	}
	return out
}

// reaches puts that into a list of a set's rules.
func (s *server) reaches(set *rules.Set, list []control.Rule) {
	reach := s.reach(set)
	for i := range set.List() {
		if x, ok := reach[&set.List()[i]]; ok {
			list[i].Reach = &x
		}
	}
}

// idle says why a rule does nothing as far as is known, or nothing if it does something. What names a pattern that has
// not been seen is said elsewhere.
func (s *server) idle(r *rules.Rule, reach map[*rules.Rule]control.RuleReach) string {
	x, known := reach[r]
	switch {
	case !known || x.Decides > 0 || r.Pattern != "" && x.Matches == 0:
		return ""
	case x.Matches > 0:
		return fmt.Sprintf("it decides nothing: rules above it decide for the patterns that it matches, %d so far", x.Matches)
	}
	if missing := s.missingTables(append(slices.Clone(r.Tables), r.OnlyTables...)); len(missing) > 0 {
		return fmt.Sprintf("it matches no pattern so far, and no database has a table %s", strings.Join(missing, " or "))
	}
	return "it matches no pattern that has been seen so far"
}

// missingTables gives those of some tables, named in full or alone, that none of the databases has; none where the
// tables of one are not known.
func (s *server) missingTables(names []string) (out []string) {
	has := map[string]bool{}
	databases, unknown := 0, false
	s.l.Engine().Databases(func(_ string, known, _ bool, tables []string) {
		databases++
		unknown = unknown || !known
		for _, t := range tables {
			_, alone, _ := strings.Cut(t, ".")
			has[t], has[alone] = true, true
		}
	})
	if databases == 0 || unknown {
		return nil
	}
	return slices.DeleteFunc(names, func(name string) bool { return has[name] })
}
