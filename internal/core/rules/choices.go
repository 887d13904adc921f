package rules

import (
	"maps"
	"slices"
	"time"

	"jollylarder/internal/core/statement"
)

// Choices are the patterns that the larder has chosen within advised rules, by the rules' names, each with its TTL.
type Choices map[string]map[statement.ID]time.Duration

// With gives the set with what the larder has chosen: a pattern that it chose is cached as the advised rule says, for
// the TTL of the choice, or the rule's if that is shorter. A choice for a rule that is not there or not advised, and one
// of a pattern that the rule refuses, counts for nothing.
func (s *Set) With(c Choices) *Set {
	out := *s
	out.chosen, out.keeps = map[int]map[statement.ID]*Rule{}, false
	for i := range out.rules {
		r := &out.rules[i]
		out.keeps = out.keeps || r.Caches()
		if r.Action != Advised {
			continue
		}
		for id, ttl := range c[r.Name] {
			if slices.Contains(r.NeverPatterns, id) {
				continue
			}
			chosen := *r
			chosen.by, chosen.Action = r, Cache
			if chosen.TTL == 0 || ttl > 0 && ttl < r.TTL {
				chosen.TTL = ttl
			}
			if out.chosen[i] == nil {
				out.chosen[i] = map[statement.ID]*Rule{}
			}
			out.chosen[i][id] = &chosen
			out.keeps = out.keeps || chosen.Caches()
		}
	}
	return &out
}

// Chosen gives how many patterns the larder has chosen within a rule of the set.
func (s *Set) Chosen(r *Rule) int {
	for i := range s.List() {
		if &s.rules[i] == r {
			return len(s.chosen[i])
		}
	}
	return 0
}

// Choices gives what the larder has chosen, as it was given to With.
func (s *Set) Choices() Choices {
	out := Choices{}
	if s == nil {
		return out
	}
	for i, list := range s.chosen {
		name := s.rules[i].Name
		out[name] = map[statement.ID]time.Duration{}
		for id, r := range list {
			out[name][id] = r.TTL
		}
	}
	return out
}

// Equal says whether two choices are the same.
func (c Choices) Equal(o Choices) bool {
	return maps.EqualFunc(c.some(), o.some(), func(a, b map[statement.ID]time.Duration) bool { return maps.Equal(a, b) })
}

// some gives the choices without rules within which nothing is chosen.
func (c Choices) some() Choices {
	out := maps.Clone(c)
	maps.DeleteFunc(out, func(_ string, list map[statement.ID]time.Duration) bool { return len(list) == 0 })
	return out
}
