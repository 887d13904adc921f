package server

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/findings"
)

// reaches remembers what the rules of the last few texts were about: terminals ask for it every second.
type reaches struct {
	mu sync.Mutex
	by map[string]reached
}

// reached is what was found of one text, when, and how long that took.
type reached struct {
	at   time.Time
	took time.Duration
	list []rules.Reach
}

const (
	// mostReaches is of how many texts that is remembered.
	mostReaches = 16
	// restEach is for how many times as long as it took it is remembered.
	restEach = 50
)

// reach says of each rule of a set, in their order, for how many of the patterns that are known it may decide.
func (s *server) reach(text []byte, set *rules.Set) []rules.Reach {
	x := &s.reaches
	x.mu.Lock()
	defer x.mu.Unlock()
	began := time.Now()
	if have, ok := x.by[string(text)]; ok && began.Sub(have.at) < restEach*have.took {
		return have.list
	}
	list := make([]rules.Reach, len(set.List()))
	e := s.l.Engine()
	e.Patterns(func(p *engine.Pattern) { set.AddReach(list, p.ID, p.Text, e.Does(p).Reads) })
	if x.by == nil || len(x.by) >= mostReaches {
		x.by = map[string]reached{}
	}
	x.by[string(text)] = reached{began, time.Since(began), list}
	return list
}

// done gives that for an answer, with what each rule has done.
func (s *server) done(list []rules.Reach, set *rules.Set) (out []control.RuleReach) {
	l := s.l.Engine().Ledger
	for i, x := range list {
		one := control.RuleReach{Matches: x.Matches, Decides: x.Decides, Chosen: s.l.Engine().Rules().Chosen(&set.List()[i])}
		if t := l.Counted(set.List()[i].Name); t != nil {
			minute, total := findings.Sums(t.Minute()), findings.Sums(t.Total())
			one.Minute, one.Total = &minute, &total
		}
		out = append(out, one)
	}
	return out
}

// idle says why a rule does nothing as far as is known, or nothing if it does something. What names a pattern that has
// not been seen is said elsewhere. Missing gives those of some tables that no database has.
func idle(r *rules.Rule, x rules.Reach, missing func([]string) []string) string {
	switch {
	case x.Decides > 0 || r.Pattern != "" && x.Matches == 0:
		return ""
	case x.Matches > 0:
		return fmt.Sprintf("it decides nothing: rules above it decide for the patterns that it matches, %d so far", x.Matches)
	}
	if none := missing(slices.Concat(r.Tables, r.OnlyTables)); len(none) > 0 {
		return "it matches no pattern so far, and no database has a table " + strings.Join(none, " or ")
	}
	return "it matches no pattern seen so far"
}

// missingTables gives what tells those of some tables, named in full or alone, that none of the databases has; none
// where the tables of one are not known.
func (s *server) missingTables() func(names []string) []string {
	has := map[string]bool{}
	all := true
	s.l.Engine().Databases(func(_ string, known, _ bool, tables []string) {
		all = all && known
		for _, t := range tables {
			_, alone, _ := strings.Cut(t, ".")
			has[t], has[alone] = true, true
		}
	})
	return func(names []string) []string {
		if !all || len(has) == 0 {
			return nil
		}
		return slices.DeleteFunc(names, func(name string) bool { return has[name] })
	}
}
