package server

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/state"
)

// shelf is a book that holds nothing but the numbers.
type shelf struct {
	Book
	state *state.Store
}

func (s *shelf) State() *state.Store { return s.state }

// proving is a larder whose numbers were taken down for some hours.
type proving struct {
	*bare
	book *shelf
}

func (p *proving) Book() Book { return p.book }

func ask[T any](t *testing.T, h http.Handler, method, path, body string) (out T, code int) {
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest(method, path, bytes.NewReader([]byte(body))))
	_ = json.Unmarshal(w.Body.Bytes(), &out)
	return out, w.Code
}

// Over any stretch the parts add up to the whole, and each way is measured from what was taken down.
func TestProving(t *testing.T) {
	st := state.Open("", time.Now())
	defer st.Close()
	now := time.Now()
	ms := time.Millisecond
	kept := ledger.Sums{Count: [4]uint64{100, 10, 0, 0}, Waited: [4]time.Duration{10 * ms, 50 * ms}, Saved: 380 * ms, Own: 2 * ms}
	kept.Samples = ledger.Samples{Count: 4, Took: 16, Squares: 64.4}
	passed := ledger.Sums{Count: [4]uint64{0, 0, 40, 0}, Waited: [4]time.Duration{0, 0, 200 * ms}, Cacheable: 200 * ms, Before: ledger.Part{Calls: 40, Waited: 200 * ms}}
	for m := range 180 { // an hour in which nothing is kept, and then two in which it is
		at := now.Add(time.Duration(m-181) * time.Minute).Truncate(time.Minute)
		x := kept
		if m < 60 {
			x = passed
		}
		rows := []state.Rollup{{At: at, Kind: state.Everything, Minutes: 1, Sums: x.Plus(passed), Compared: x.Samples.Count, Drops: 3}}
		for kind, name := range map[state.Kind]string{state.Pattern: "bado-kife-ruma", state.Application: "booking-web", state.Rule: "boards"} {
			rows = append(rows, state.Rollup{At: at, Kind: kind, Name: name, Text: map[state.Kind]string{state.Pattern: "select n from berths"}[kind], Minutes: 1, Sums: x})
		}
		st.AddRollups(append(rows, state.Rollup{At: at, Kind: state.Pattern, Name: "nina-sola-tiku", Minutes: 1, Sums: passed}), at)
	}
	h := New(&proving{withPatterns(t, 1), &shelf{state: st}})
	p, code := ask[control.Proof](t, h, "GET", "/v1/prove?since=1h", "")
	require.Equal(t, http.StatusOK, code)
	assert.InDelta(t, 60, float64(p.Minutes), 5) // time goes on meanwhile
	n := float64(p.Minutes)
	assert.InDelta(t, 380*n, p.Sums.Saved, 1e-6)
	assert.InDelta(t, p.Sums.Saved, p.Saved.Fetches, 1e-6)
	assert.Equal(t, uint64(3*n), p.Drops)
	require.Len(t, p.Patterns, 2)
	one := p.Patterns[0]
	assert.Equal(t, "select n from berths", one.Text)
	assert.InDelta(t, 5, one.BeforeMean, 1e-9, "as it was hours ago")
	assert.InDelta(t, 60.0/110, one.AfterMean, 1e-6)
	require.NotNil(t, p.Saved.Before)
	assert.InDelta(t, n*(110*5-60), p.Saved.Before.Saved, 1e-3)
	require.NotNil(t, p.Saved.Sample)
	assert.InDelta(t, n*(100*4-10-2), p.Saved.Sample.Saved, 1e-3)
	assert.Positive(t, p.Saved.Sample.Error)
	assert.InDelta(t, 1, p.Saved.Sample.Covers, 1e-9, "all hits are of the pattern that was sampled")
	assert.Equal(t, "boards", p.Rules[0].Name)
	assert.Nil(t, p.Rules[0].Ways.Before)
	assert.Len(t, p.Series, int(n))
	for _, since := range []string{"soon", "1s", "200000h"} {
		_, code := ask[control.Problem](t, h, "GET", "/v1/prove?since="+since, "")
		assert.Equal(t, http.StatusBadRequest, code, since)
	}
	live, _ := ask[control.Proof](t, h, "GET", "/v1/prove", "")
	assert.Equal(t, uint64(2), live.Sums.Calls(), "since the larder started")
	minute, _ := ask[control.Proof](t, h, "GET", "/v1/prove?since=minute", "")
	assert.Len(t, minute.Series, 60)
}

// A limit below what is in use is refused, unless it is said that results may go; nothing is changed by a wrong one.
func TestLimits(t *testing.T) {
	l := withPatterns(t, 1)
	h := New(l)
	p, code := ask[control.Problem](t, h, "PUT", "/v1/stock/limit", `{"bytes": 1000}`)
	assert.Equal(t, http.StatusBadRequest, code)
	assert.Contains(t, p.Detail, "expected at least 1MiB")
	_, _, limit := l.e.Cached()
	assert.Equal(t, int64(256<<20), limit)
	_, code = ask[control.Limit](t, h, "PUT", "/v1/stock/limit", `{"bytes": 2097152}`)
	assert.Equal(t, http.StatusOK, code)
	_, _, limit = l.e.Cached()
	assert.Equal(t, int64(2<<20), limit)
	assert.Equal(t, []int64{64 << 10, 128 << 10, 256 << 10, 512 << 10, 1 << 20, 2 << 20, 4 << 20, 8 << 20}, curveLimits(2<<20, 0), "about what is in use, and about the limit")
	assert.Contains(t, curveLimits(1_000_000_007, 900_000_000), int64(1_000_000_007))
}
