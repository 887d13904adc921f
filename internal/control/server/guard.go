package server

import (
	"net/http"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

// counted gives the name under which writes are counted that are told under another: writes that may have changed any
// table have no name.
func counted(table string) string {
	if table == findings.AnyTable {
		return ""
	}
	return table
}

func (s *server) guard(w http.ResponseWriter, r *http.Request) {
	e := s.l.Engine()
	var st control.Status
	s.l.Describe(&st)
	out := findings.Guard(e, st.Feeds)
	if name := r.URL.Query().Get("hour"); name != "" {
		out.HourOf = name
		out.Hour = lastHour(s.l.Book().State(), state.Table, counted(name), time.Now(), func(x *state.Rollup) control.TableStep {
			return control.TableStep{At: x.At, Writes: x.Count[ledger.Write], Drops: x.Drops}
		})
	}
	reply(w, out)
}
