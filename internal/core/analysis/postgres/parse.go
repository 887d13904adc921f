// Package postgres reads facts from the parse tree of PostgreSQL's own grammar.
package postgres

import (
	"errors"
	"regexp"
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/postgres/grammar"
	"jollylarder/internal/core/reason"
)

// Facts parses one statement string and says what it does. It never fails: what cannot be read may do anything.
func Facts(sql string) *analysis.Facts {
	tree, err := grammar.Parse(sql)
	switch {
	case errors.Is(err, grammar.ErrLong):
		return analysis.Unreadable(reason.Of(reason.TooLongToRead))
	case errors.Is(err, grammar.ErrDeep):
		return analysis.Unreadable(reason.Of(reason.TooDeepToRead))
	case err != nil:
		return analysis.Unreadable(reason.About(reason.NotUnderstood, masked(err.Error())))
	}
	r := newReader()
	for _, s := range tree.Stmts {
		if s.Stmt != nil {
			r.statement(s.Stmt)
		}
	}
	r.finish()
	switch len(tree.Stmts) {
	case 0:
		r.f.Kind = analysis.KindEmpty
		r.f.Bypasses(reason.NoStatement)
	case 1:
		if r.f.Kind == analysis.KindUnknown {
			return analysis.Unreadable(reason.About(reason.NotUnderstood, "the grammar gives no statement"))
		}
	default:
		r.f.Kind = analysis.KindSeveral
		r.f.Bypasses(reason.Several)
	}
	return r.f
}

// harmlessNear is the end of an error message that shows a place in the statement by a keyword or a sign.
var harmlessNear = regexp.MustCompile(
	`(?i)^.* at or near "(select|from|where|and|or|not|in|is|as|on|join|left|right|inner|outer|group|order|by|having|limit|offset|union|values|insert|into|` +
		`update|set|delete|returning|create|alter|drop|table|index|view|with|case|when|then|else|end|between|like|null|distinct|all|using|for|if|exists|grant|revoke|to|begin|commit|` +
		`[(),;.*=<>:+-]{1,3})"$`,
)

// masked leaves out the place in the statement that an error message shows, unless that cannot be a literal: where the
// statement is not understood, any other word may be one.
func masked(message string) string {
	before, _, shown := strings.Cut(message, " at or near ")
	if !shown || harmlessNear.MatchString(message) {
		return message
	}
	return before
}

func newReader() *reader {
	return &reader{f: &analysis.Facts{}, parameters: map[int]int{}}
}

// reader collects the facts of one statement string.
type reader struct {
	analysis.Lists
	f         *analysis.Facts
	body      bool             // it is that of a function, a view or the like, whose literals nobody else looks at
	plans     bool             // of a function that keeps what was read of it for the rest of a session
	mentioned struct{ _ byte } // the list of tables that are mentioned, of which only the names are of interest

	scope     *analysis.Scope // what names mean where the walk is
	ctes      *cte
	outermost bool // the next query is a whole statement

	parameters map[int]int // how often each is mentioned
}

// finish draws the conclusions that need all of it.
func (r *reader) finish() {
	f := r.f
	inPins := map[int]map[int]bool{}
	for _, p := range f.Pins {
		for _, v := range p.Values {
			if v.Parameter > 0 {
				if inPins[v.Parameter] == nil {
					inPins[v.Parameter] = map[int]bool{}
				}
				inPins[v.Parameter][v.At] = true
			}
		}
	}
	for n, mentions := range r.parameters {
		if mentions > len(inPins[n]) && inPins[n] != nil {
			f.Mixed = append(f.Mixed, n)
		}
	}
	slices.Sort(f.Mixed)
}
