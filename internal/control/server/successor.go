package server

import (
	"net/http"

	"jollylarder/internal/control"
)

// succeed has another process take over.
func (s *server) succeed(w http.ResponseWriter, _ *http.Request) {
	process, err := s.l.Succeed()
	if err != nil {
		problem(w, http.StatusConflict, "%v", err)
		return
	}
	reply(w, control.Successor{Process: process})
}
