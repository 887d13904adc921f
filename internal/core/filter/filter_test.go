package filter

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type statement map[string]any

func (s statement) Texts(field string) []string {
	if t, ok := s[field].(string); ok {
		return []string{t}
	}
	return nil
}

func (s statement) Number(field string) (float64, bool) {
	n, ok := s[field].(float64)
	return n, ok
}

var board = statement{"app": "quay-boards", "outcome": "bypass", "text": "select * from Ports order by id", "took": 7.5, "rows": 3.0,
	"reason": "no rule caches this pattern", "label.route": "/boards", "client": "10.1.2.3:400"}

func TestMatch(t *testing.T) {
	for text, want := range map[string]bool{
		"": true, "ports": true, "PORTS": true, `"order by"`: true, "vessels": false,
		"app=quay-boards": true, "app=crew-tablet,quay-boards": true, "app!=quay-boards": false, "app=quay": false, "app=quay*": true,
		"took>5ms": true, "took>0.01s": false, "took<8ms rows=3": true, "rows!=3": false, "outcome!=hit": true,
		"label.route=/boards": true, "label.other=x": false, "label.other!=x": true, `reason="no rule caches this pattern"`: true,
		"client=10.1.*": true, "client=10.2.*": false, "app=quay-boards outcome=hit": false,
	} {
		f, err := Parse(text, OfStatements)
		require.NoError(t, err, text)
		assert.Equal(t, want, f.Match(board), text)
	}
}

func TestErrorsSayWhereAndWhat(t *testing.T) {
	for text, want := range map[string]string{
		"ports colour=red": `at character 7: there is no "colour" to filter by: expected app, user`,
		"app>x":            "at character 4: app is no number",
		"took>soon":        `at character 6: "soon" is no time`,
		"rows=many":        `at character 6: "many" is no number`,
		"outcome=lost":     `at character 9: outcome is never "lost": expected hit, miss, bypass, write`,
		"app=":             "at character 5: a value is missing behind app=",
		`app="x`:           "at character 1: a quote is not closed",
		"app<=x":           `at character 4: "<=" is not understood`,
	} {
		_, err := Parse(text, OfStatements)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestComplete(t *testing.T) {
	apps := func(field string) []string {
		return map[string][]string{"app": {"quay-boards", "booking-web"}}[field]
	}
	for text, want := range map[string][]string{
		"ports o": {"outcome="}, "outcome=h": {"outcome=hit"}, "app=": {"app=quay-boards", "app=booking-web"},
		"app=quay-boards,b": {"app=quay-boards,booking-web"}, "to": {"took>"}, "label": {"label."}, "zz": nil,
	} {
		_, got := Complete(text, OfStatements, apps)
		assert.Equal(t, want, got, text)
	}
	tables := func(string) []string { return []string{"public.fares", "public.ferries", "stock.fuel"} }
	for text, want := range map[string][]string{
		"table=fa": {"table=public.fares"}, "table=f": {"table=public.fares", "table=public.ferries", "table=stock.fuel"}, "table=public.fe": {"table=public.ferries"},
		"table=st": {"table=stock.fuel"}, "table=x": nil, "table=public.fares": nil,
	} {
		_, got := Complete(text, OfPatterns, tables)
		assert.Equal(t, want, got, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(`app=a,b "c d" took>5ms`)
	f.Fuzz(func(t *testing.T, text string) {
		if got, err := Parse(text, OfStatements); err == nil {
			got.Match(board)
		}
		Complete(text, OfStatements, nil)
	})
}
