package rules

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
)

// What is hardly meant is found before any traffic is known.
func TestDoubts(t *testing.T) {
	for name, c := range map[string]struct {
		rules []Rule
		want  []string
	}{
		"nothing": {[]Rule{{Pattern: "a-b-c"}, {Text: "select 100% of*"}, {Text: "*"}}, nil},
		"another wildcard": {[]Rule{{Name: "fares", Text: "select % from fares%"}}, []string{
			`fares: its text "select % from fares%" holds a % and no *: * stands for any text, and % only for itself`}},
		"all above":          {[]Rule{{Name: "all", Text: "*"}, {Name: "fares", Pattern: "a-b-c"}}, []string{"fares: it never decides: the rule all above it matches the same statements"}},
		"the same above":     {[]Rule{{Name: "one", Text: "select*"}, {Name: "two", Text: "select*"}}, []string{"two: it never decides: the rule one above it matches the same statements"}},
		"tables above":       {[]Rule{{Text: "*", Tables: []string{"fares"}}, {Pattern: "a-b-c"}}, nil},
		"some callers above": {[]Rule{{Text: "*", When: Conditions{Application: "x"}}, {Pattern: "a-b-c"}}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, d := range NewSet(c.rules).Doubts() {
				got = append(got, d.Rule+": "+d.Text)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// Those that match and may decide are those by which it is decided; a rule that is said never to decide does so for
// nobody.
func TestMatchingRulesAreThoseThatDecide(t *testing.T) {
	ids, texts := []statement.ID{"a-a-a", "b-b-b"}, []string{"select 1", "select 2 from fares"}
	tables := [][]string{nil, {"public.fares"}, {"public.fares", "public.piers"}}
	rapid.Check(t, func(t *rapid.T) {
		var list []Rule
		for i := range rapid.IntRange(0, 8).Draw(t, "rules") {
			r := Rule{Name: fmt.Sprint("r", i)}
			r.Pattern = rapid.SampledFrom(append(ids, "")).Draw(t, "pattern")
			r.Text = rapid.SampledFrom([]string{"", "*", "select 1", "select*", "* fares"}).Draw(t, "text")
			r.Tables = rapid.SampledFrom([][]string{nil, {"fares"}, {"piers"}}).Draw(t, "tables")
			r.OnlyTables = rapid.SampledFrom([][]string{nil, nil, {"fares"}}).Draw(t, "only tables")
			r.When.Application = rapid.SampledFrom([]string{"", "boards"}).Draw(t, "application")
			list = append(list, r)
		}
		set := NewSet(list)
		decides := map[string]bool{}
		for _, id := range ids {
			for _, text := range texts {
				for _, reads := range tables {
					reach := make([]Reach, len(list))
					set.AddReach(reach, id, text, reads)
					deciding := ThatRead(set.Candidates(id, text), reads)
					for i := range set.List() {
						r := &set.List()[i]
						require.Equal(t, slices.Contains(deciding, r), reach[i].Decides == 1, r.Name)
						require.LessOrEqual(t, reach[i].Decides, reach[i].Matches)
						require.Equal(t, r.about(id, text) && r.reads(reads), reach[i].Matches == 1, r.Name)
						decides[r.Name] = decides[r.Name] || reach[i].Decides > 0
					}
				}
			}
		}
		for _, d := range set.Doubts() {
			if strings.HasPrefix(d.Text, "it never decides") {
				require.False(t, decides[d.Rule], d.Rule)
			}
		}
	})
}
