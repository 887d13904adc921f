package server

import (
	"cmp"
	"net/http"
	"time"

	"jollylarder/internal/control"
)

func (s *server) prove(w http.ResponseWriter, r *http.Request) {
	since := cmp.Or(r.URL.Query().Get("since"), control.SinceStart)
	out := s.prover.Prove(s.l.Engine(), s.l.Book().State(), since, time.Now())
	if out == nil {
		problem(
			w,
			http.StatusBadRequest,
			`since %q: expected "minute", "start", "change", or a length from 1m to two years, such as 24h`,
			since,
		)
		return
	}
	reply(w, out)
}
