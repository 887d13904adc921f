package rules

import (
	"fmt"
	"strings"

	"jollylarder/internal/core/statement"
)

// Doubt is what is allowed in a rule and hardly meant.
type Doubt struct{ Rule, Text string }

// Doubts gives what a set holds that is hardly meant, as far as that is seen without knowing any traffic.
func (s *Set) Doubts() (out []Doubt) {
	type about struct {
		pattern statement.ID
		text    string
	}
	first := map[about]*Rule{} // of those that hold for every caller and any tables
	for i := range s.List() {
		r := &s.rules[i]
		doubt := func(format string, args ...any) { out = append(out, Doubt{r.Name, fmt.Sprintf(format, args...)}) }
		if strings.Contains(r.Text, "%") && !strings.Contains(r.Text, "*") {
			doubt("its text %q holds a %% and no *: * stands for any text, and %% only for itself", r.Text)
		}
		text := r.Text
		if strings.Trim(text, "*") == "" {
			text = "" // any
		}
		for _, wider := range [...]about{{}, {"", text}, {r.Pattern, ""}, {r.Pattern, text}} {
			if above := first[wider]; above != nil {
				doubt("it never decides: the rule %s above it matches the same statements", above.Name)
				break
			}
		}
		if here := (about{r.Pattern, text}); first[here] == nil && r.When.None() && len(r.Tables)+len(r.OnlyTables) == 0 {
			first[here] = r
		}
	}
	return out
}
