package metrics

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil"
	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// scrape reads all families, in the format that holds native histograms.
func scrape(t *testing.T, h http.Handler) map[string]*dto.MetricFamily {
	r := httptest.NewRequest("GET", "/metrics", nil)
	r.Header.Set("Accept", "application/vnd.google.protobuf;proto=io.prometheus.client.MetricFamily;encoding=delimited")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	require.Equal(t, http.StatusOK, w.Code, w.Body.String())
	dec := expfmt.NewDecoder(w.Body, expfmt.ResponseFormat(w.Header()))
	out := map[string]*dto.MetricFamily{}
	for {
		var f dto.MetricFamily
		if dec.Decode(&f) != nil {
			return out
		}
		out[f.GetName()] = &f
	}
}

func TestExposition(t *testing.T) {
	now := time.Now()
	e, err := larder.New(engine.Options{Dialect: dialect.Dialect}, now)
	require.NoError(t, err)
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache}}))
	s := e.NewSession(engine.Identity{Database: "skerrow", Application: "booking-web"})
	h := Handler(Source{Engine: e, Clients: func() int { return 3 }, Feeds: func() []Feed { return []Feed{{Database: "skerrow", Lag: time.Second, Known: true, Following: true}} }})
	scrape(t, h) // while there is next to nothing
	const patterns = 3 * mostPatterns
	for i := range patterns { // more than are told apart
		p := s.Read(fmt.Appendf(nil, "select c%d from berths", i)).Pattern
		p.Numbers.Record(&ledger.Record{Outcome: ledger.Miss, Took: 4 * time.Millisecond})
		p.Numbers.Record(&ledger.Record{Outcome: ledger.Hit, Took: 50 * time.Microsecond, Saved: time.Duration(i) * time.Microsecond})
	}
	for i := range 200 {
		e.Ledger.Application(fmt.Sprint("app", i)).Record(&ledger.Record{Outcome: ledger.Bypass, Took: time.Second})
	}
	problems, err := testutil.GatherAndLint(registry(Source{Engine: e, Clients: func() int { return 3 }, Feeds: func() []Feed { return nil }}))
	require.NoError(t, err)
	for _, p := range problems {
		assert.Failf(t, "a name is not as Prometheus has them", "%s: %s", p.Metric, p.Text)
	}
	got := scrape(t, h)
	labels := func(family, label string) int {
		seen := map[string]bool{}
		for _, m := range got[family].GetMetric() {
			for _, l := range m.GetLabel() {
				if l.GetName() == label {
					seen[l.GetValue()] = true
				}
			}
		}
		return len(seen)
	}
	assert.LessOrEqual(t, labels("jollylarder_pattern_statements_total", "pattern"), mostPatterns+1)
	assert.LessOrEqual(t, labels("jollylarder_statements_total", "application"), 65)
	var saved float64
	for _, m := range got["jollylarder_pattern_saved_seconds"].GetMetric() {
		saved += m.GetGauge().GetValue()
	}
	assert.InDelta(t, float64(patterns*(patterns-1)/2)/1e6, saved, 1e-9, "those beyond the bound are in the sum")
	assert.InDelta(t, 1, got["jollylarder_feed_lag_seconds"].GetMetric()[0].GetGauge().GetValue(), 1e-9)
	assert.InDelta(t, 3, got["jollylarder_clients"].GetMetric()[0].GetGauge().GetValue(), 1e-9)
	for _, m := range got["jollylarder_answer_seconds"].GetMetric() {
		x := m.GetHistogram()
		assert.Equal(t, uint64(patterns), x.GetSampleCount())
		assert.Equal(t, int32(schema), x.GetSchema())
		assert.NotEmpty(t, x.GetPositiveSpan())
		want := map[string]float64{"memory": 50e-6 * patterns, "origin": 4e-3 * patterns}[m.GetLabel()[0].GetValue()]
		assert.InEpsilon(t, want, x.GetSampleSum(), 0.01)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	assert.True(t, strings.Contains(w.Body.String(), "# TYPE jollylarder_statements_total counter"), "and as text")
}

// What the documents name is exposed, and everything that is exposed is named there.
func TestDocumentsNameWhatIsExposed(t *testing.T) {
	exposed := map[string]bool{}
	for _, d := range all {
		exposed[regexp.MustCompile(`fqName: "(\w+)"`).FindStringSubmatch(d.String())[1]] = true
	}
	named := map[string]bool{}
	for _, file := range []string{"metrics.md", "alerts.yml"} {
		text, err := os.ReadFile("../../docs/" + file)
		require.NoError(t, err)
		for _, name := range regexp.MustCompile(`jollylarder_\w+`).FindAllString(string(text), -1) {
			base := strings.TrimSuffix(strings.TrimSuffix(name, "_sum"), "_count")
			assert.True(t, exposed[base], "%s names %s", file, name)
			named[base] = true
		}
	}
	assert.Equal(t, exposed, named)
}
