package server

import (
	"net/http"

	"jollylarder/internal/control"
	"jollylarder/internal/findings"
)

func (s *server) guard(w http.ResponseWriter, _ *http.Request) {
	e := s.l.Engine()
	var st control.Status
	s.l.Describe(&st)
	reply(w, findings.Guard(e, st.Feeds))
}
