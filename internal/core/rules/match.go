package rules

import (
	"iter"
	"slices"
	"strings"

	"jollylarder/internal/core/statement"
)

// Candidates gives the rules that may decide for statements of a pattern, in their order: those whose pattern and text
// match, up to the first that holds whatever the tables and the caller are. In place of an advised rule within which the
// larder chose the pattern stands what it chose.
func (s *Set) Candidates(id statement.ID, text string) (out []*Rule) {
	for i, r := range s.about(id, text) {
		if c := s.chosen[i][id]; c != nil {
			r = c
		}
		out = append(out, r)
		if r.When.None() && len(r.Tables) == 0 && len(r.OnlyTables) == 0 {
			break
		}
	}
	return out
}

// Reach is how many of some patterns a rule matches, and for how many of these it may decide: for the others a rule
// above it does, whoever asks.
type Reach struct{ Matches, Decides int }

// AddReach counts a pattern that reads some tables, named in full, with the rules that match it. Reach is that of each
// rule, in their order.
func (s *Set) AddReach(reach []Reach, id statement.ID, text string, tables []string) {
	decided := false
	for i, r := range s.about(id, text) {
		if !r.reads(tables) {
			continue
		}
		reach[i].Matches++
		if !decided {
			reach[i].Decides++
			decided = r.When.None()
		}
	}
}

// about gives the rules whose pattern and text match, with their places, in their order.
func (s *Set) about(id statement.ID, text string) iter.Seq2[int, *Rule] {
	return func(yield func(int, *Rule) bool) {
		if s == nil {
			return
		}
		own, general := s.byPattern[id], s.general
		for len(own) > 0 || len(general) > 0 {
			var i int
			if len(general) == 0 || len(own) > 0 && own[0] < general[0] {
				i, own = own[0], own[1:]
			} else {
				i, general = general[0], general[1:]
			}
			if r := &s.rules[i]; r.about(id, text) && !yield(i, r) {
				return
			}
		}
	}
}

// reads says whether a rule's tables match what a pattern reads.
func (r *Rule) reads(tables []string) bool {
	if len(r.Tables) > 0 && !slices.ContainsFunc(tables, func(t string) bool { return listed(r.Tables, t) }) {
		return false
	}
	return len(r.OnlyTables) == 0 ||
		len(tables) > 0 && !slices.ContainsFunc(tables, func(t string) bool { return !listed(r.OnlyTables, t) })
}

// MayChoose says whether a pattern that reads some tables, named in full, may be chosen within an advised rule.
func (r *Rule) MayChoose(reads []string) bool {
	return !slices.ContainsFunc(reads, func(t string) bool { return listed(r.NeverTables, t) })
}

// about says whether a rule's pattern and text match.
func (r *Rule) about(id statement.ID, text string) bool {
	return (r.Pattern == "" || r.Pattern == id) && (r.Text == "" || like(text, r.Text))
}

// like says whether a text is as a glob says, in which a star stands for anything.
func like(text, glob string) bool {
	star := strings.IndexByte(glob, '*')
	if star < 0 {
		return text == glob
	}
	if !strings.HasPrefix(text, glob[:star]) {
		return false
	}
	text, glob = text[star:], glob[star+1:]
	for {
		star = strings.IndexByte(glob, '*')
		if star < 0 {
			return strings.HasSuffix(text, glob)
		}
		i := strings.Index(text, glob[:star])
		if i < 0 {
			return false
		}
		text, glob = text[i+star:], glob[star+1:]
	}
}

// ThatRead gives those of some candidates whose tables match what a pattern reads, named in full; up to the first that
// holds for every caller. What the larder chose does not hold where the pattern reads a table that is never to be chosen:
// there the advised rule itself stands.
func ThatRead(list []*Rule, reads []string) []*Rule {
	if !slices.ContainsFunc(list, func(r *Rule) bool { return len(r.Tables)+len(r.OnlyTables)+len(r.NeverTables) > 0 }) {
		return list
	}
	var out []*Rule
	for _, r := range list {
		if !r.reads(reads) {
			continue
		}
		if r.by != nil && !r.MayChoose(reads) {
			r = r.by
		}
		if out = append(out, r); r.When.None() {
			break
		}
	}
	return out
}

// listed says whether a table, named in full, is in a list, in full or by its name alone.
func listed(list []string, table string) bool {
	_, alone, _ := strings.Cut(table, ".")
	return slices.Contains(list, table) || slices.Contains(list, alone)
}

// For gives those of some rules that hold for a caller, but for the labels of his statements; up to the first that
// holds whatever those are.
func For(list []*Rule, who *Caller) (out []*Rule) {
	for _, r := range list {
		if r.When.holdFor(who) {
			if out = append(out, r); len(r.When.Labels) == 0 {
				break
			}
		}
	}
	return out
}

// Deciding gives the first of some rules whose conditions hold for a caller, or nil.
func Deciding(list []*Rule, who *Caller) *Rule { return Labelled(For(list, who), who.Comment) }

// Labelled gives the first of some rules, which hold for a caller, that holds of the labels in his statement's comment;
// or nil.
func Labelled(list []*Rule, comment []byte) *Rule {
	var labels []statement.Label
	read := false
	for _, r := range list {
		if len(r.When.Labels) > 0 && !read {
			labels, read = statement.Labels(comment), true
		}
		if r.When.holdOf(labels) {
			return r
		}
	}
	return nil
}
