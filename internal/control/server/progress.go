package server

import (
	"encoding/json"
	"net/http"
)

// progress answers a request that takes a while with lines of JSON: how far it is, and at last what it came to.
type progress struct {
	enc *json.Encoder
	to  http.Flusher
	r   *http.Request
}

// begin begins such an answer; it is nil where that cannot be, and says so.
func begin(w http.ResponseWriter, r *http.Request) *progress {
	to, ok := w.(http.Flusher)
	if !ok {
		problem(w, http.StatusInternalServerError, "this connection cannot stream")
		return nil
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	return &progress{json.NewEncoder(w), to, r}
}

// tell writes a line, and says whether somebody still listens.
func (p *progress) tell(line any) bool {
	if p.enc.Encode(line) != nil {
		return false
	}
	p.to.Flush()
	return p.r.Context().Err() == nil
}
