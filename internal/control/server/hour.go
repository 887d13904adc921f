package server

import (
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

// lastHour gives what was counted of a subject in each of the last 60 whole minutes, the oldest first, as told by step;
// minutes of which nothing is remembered are empty.
func lastHour[T any](st *state.Store, kind state.Kind, name string, now time.Time, step func(*state.Rollup) T) []T {
	end := now.Truncate(time.Minute)
	from := end.Add(-time.Hour)
	minutes := make([]state.Rollup, 60)
	for i := range minutes {
		minutes[i].At = from.Add(time.Duration(i) * time.Minute)
	}
	for _, x := range st.Series(kind, name, from, end, time.Minute) {
		if i := int(x.At.Sub(from) / time.Minute); i >= 0 && i < len(minutes) {
			x.At = minutes[i].At
			minutes[i] = x
		}
	}
	out := make([]T, len(minutes))
	for i := range minutes {
		out[i] = step(&minutes[i])
	}
	return out
}

// calls gives the last hour of the calls of a pattern or a rule.
func (s *server) calls(kind state.Kind, name string) []control.ProofStep {
	return lastHour(s.l.Book().State(), kind, name, time.Now(), findings.Step)
}
