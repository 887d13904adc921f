package rules

import (
	"fmt"
	"strings"
)

// Doubt is what is allowed in a rule and hardly meant.
type Doubt struct{ Rule, Text string }

// Doubts gives what a set holds that is hardly meant, as far as that is seen without knowing any traffic.
func (s *Set) Doubts() (out []Doubt) {
	for i := range s.List() {
		r := &s.rules[i]
		doubt := func(format string, args ...any) { out = append(out, Doubt{r.Name, fmt.Sprintf(format, args...)}) }
		if strings.Contains(r.Text, "%") && !strings.Contains(r.Text, "*") {
			doubt("its text %q holds a %% and no *: * stands for anything, and %% for itself alone", r.Text)
		}
		for j := range i {
			if above := &s.rules[j]; above.covers(r) {
				doubt("it never decides: the rule %s above it matches all that it matches", above.Name)
				break
			}
		}
	}
	return out
}

// covers says whether a rule certainly decides for all that another below it matches.
func (r *Rule) covers(o *Rule) bool {
	if !r.When.None() || len(r.Tables)+len(r.OnlyTables) > 0 {
		return false
	}
	return (r.Pattern == "" || r.Pattern == o.Pattern) &&
		(r.Text == "" || r.Text == o.Text || strings.Trim(r.Text, "*") == "")
}
