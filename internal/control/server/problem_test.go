package server

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
)

// Whatever the API refuses, it refuses in one form, with what is wrong and what to do; and nothing is done.
func TestRefusalsAreProblemDetails(t *testing.T) {
	l := withPatterns(t, 1)
	h := (&server{l: l}).handler()
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		says               string
	}{
		"no such path":          {"GET", "/v1/hold", "", http.StatusNotFound, "the control API has no /v1/hold: docs/api.md lists its paths"},
		"another method":        {"POST", "/v1/caching", "{}", http.StatusMethodNotAllowed, "/v1/caching does not take POST: expected PUT"},
		"no JSON":               {"PUT", "/v1/caching", "on", http.StatusBadRequest, "the request is not understood"},
		"a field left out":      {"PUT", "/v1/caching", "{}", http.StatusBadRequest, `"on" is missing: expected {"on": true} or {"on": false}`},
		"a field it has not":    {"PUT", "/v1/caching", `{"off": true}`, http.StatusBadRequest, `unknown field "off"`},
		"no such pattern":       {"GET", "/v1/patterns/bado-kife-ruma", "", http.StatusNotFound, "GET /v1/patterns lists all"},
		"nothing to be dropped": {"POST", "/v1/drop", "{}", http.StatusBadRequest, "the request names nothing to drop: expected"},
		"a filter with a fault": {"GET", "/v1/patterns?filter=colour%3Dred", "", http.StatusBadRequest, "at character 1"},
	} {
		t.Run(name, func(t *testing.T) {
			w := httptest.NewRecorder()
			h.ServeHTTP(w, httptest.NewRequest(c.method, c.path, strings.NewReader(c.body)))
			assert.Equal(t, c.status, w.Code)
			assert.Equal(t, control.ProblemType, w.Header().Get("Content-Type"))
			var p control.Problem
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &p))
			assert.Equal(t, control.Problem{Title: http.StatusText(c.status), Status: c.status, Detail: p.Detail}, p)
			assert.Contains(t, p.Detail, c.says)
			if c.status == http.StatusMethodNotAllowed {
				assert.Equal(t, "PUT", w.Header().Get("Allow"))
			}
		})
	}
	assert.False(t, l.Engine().CachingOff(), "what is not understood switches nothing off")
}
