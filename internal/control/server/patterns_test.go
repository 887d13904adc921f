package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/core/analysis"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	core "jollylarder/internal/core/larder"
	"jollylarder/internal/core/statement"
)

// bare is a larder with nothing around it.
type bare struct {
	e      *core.Larder
	values bool
}

func (l *bare) Engine() *core.Larder                          { return l.e }
func (l *bare) Render(string, []byte, []byte, *control.Event) {}
func (l *bare) Plan(context.Context, string, []string, string) ([]string, string, error) {
	return nil, "", nil
}
func (l *bare) Succeed() (int, error)    { return 0, nil }
func (l *bare) ConfiguredMemory() int64  { return 256 << 20 }
func (l *bare) Process() control.Process { return control.Process{} }
func (l *bare) Describe(*control.Status) {}
func (l *bare) Book() Book               { return nil }
func (l *bare) ShowsValues() bool        { return l.values }

// withPatterns makes a larder that has seen so many patterns.
func withPatterns(t testing.TB, n int) *bare {
	facts := func(*statement.Syntax, string) *analysis.Facts {
		return &analysis.Facts{Kind: analysis.KindSelect, Reads: []analysis.Name{{Name: "berths"}}}
	}
	now := time.Now()
	kind := *dialect.Dialect
	kind.Facts = facts
	e, err := core.New(engine.Options{Dialect: &kind, Overhead: 4 << 30}, now) // room for all of them
	require.NoError(t, err)
	s := e.NewSession(engine.Identity{Database: "skerrow", User: "ines", Application: "quay-boards"})
	for call := range 2 {
		for i := range n {
			d := s.Begin(&engine.Request{Statement: s.Read(fmt.Appendf(nil, "select c%d from berths", i))}, now)
			d.Sent(now)
			d.End(engine.Result{Took: time.Duration(i+call) * time.Microsecond}, now)
		}
	}
	e.Tick(now.Add(5 * time.Second))
	known := 0
	e.Patterns(func(*engine.Pattern) { known++ })
	require.Equal(t, n, known)
	return &bare{e: e}
}

func get(h http.Handler, path string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
	return w
}

func TestPatternsByOrderFilterAndLimit(t *testing.T) {
	h := New(withPatterns(t, 40))
	ask := func(filter, order, limit string) (list control.PatternList) {
		w := get(h, "/v1/patterns?"+url.Values{"filter": {filter}, "order": {order}, "limit": {limit}}.Encode())
		require.Equal(t, http.StatusOK, w.Code, w.Body.String())
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &list))
		return list
	}
	list := ask("", "waited", "3")
	assert.Equal(t, 40, list.All)
	assert.Equal(t, 40, list.Matching)
	require.Len(t, list.Patterns, 3)
	assert.Equal(t, "select c39 from berths", list.Patterns[0].Text)
	list = ask("app=quay-boards c7", "calls", "")
	assert.Equal(t, 1, list.Matching)
	assert.Equal(t, "not possible", list.Patterns[0].Advice.Kind, "no catalog has been read")
	assert.Zero(t, ask("app=crew-tablet", "", "").Matching)
	assert.Equal(t, 40, ask("can=no advice=not calls=2 took<1s verb=select rule=none", "", "").Matching)
	var paged []string
	for _, offset := range []string{"0", "15", "30", "40"} {
		w := get(h, "/v1/patterns?order=calls&limit=15&offset="+offset)
		require.Equal(t, http.StatusOK, w.Code, w.Body.String())
		list = control.PatternList{}
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &list))
		assert.Equal(t, 40, list.Matching)
		for _, p := range list.Patterns {
			paged = append(paged, p.ID)
		}
	}
	slices.Sort(paged)
	assert.Len(t, slices.Compact(paged), 40, "page by page it is all of them, each once")
	for path, want := range map[string]string{
		"/v1/patterns?limit=1001":          "from 1 to 1000",
		"/v1/patterns?limit=0":             "from 1 to 1000",
		"/v1/patterns?offset=-1":           "offset \\\"-1\\\"",
		"/v1/patterns?filter=colour%3Dred": "at character 1: there is no \\\"colour\\\" to filter by",
		"/v1/patterns?order=size":          "there is no order \\\"size\\\"",
		"/v1/patterns?limit=none":          "limit \\\"none\\\"",
		"/v1/stream?filter=took%3Ex":       "is no time",
	} {
		w := get(h, path)
		assert.Equal(t, http.StatusBadRequest, w.Code)
		assert.Contains(t, w.Body.String(), want)
	}
	w := get(h, "/v1/stream?values=true")
	assert.Equal(t, http.StatusForbidden, w.Code)
	assert.Contains(t, w.Body.String(), "set show_values = true in the configuration to allow it")
}

// What the terminal asks once a second, with as many patterns as are told apart.
func BenchmarkFiftyThousandPatterns(b *testing.B) {
	h := http.HandlerFunc((&server{l: withPatterns(b, 48_900)}).patterns) // which remembers no answer
	for _, q := range []string{"", "filter=c777", "filter=app%3Dquay-boards+took%3E5ms", "order=slowest"} {
		b.Run(q, func(b *testing.B) {
			for b.Loop() {
				if w := get(h, "/v1/patterns?"+q); w.Code != http.StatusOK {
					b.Fatal(w.Body.String())
				}
			}
		})
	}
}
