package server

import (
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

// lastHour gives what was counted of a subject in each of the last 60 whole minutes, the oldest first; minutes of which
// nothing is remembered are empty.
func lastHour(st *state.Store, kind state.Kind, name string, now time.Time) []control.ProofStep {
	end := now.Truncate(time.Minute)
	from := end.Add(-time.Hour)
	out := make([]control.ProofStep, 60)
	for i := range out {
		out[i].At = from.Add(time.Duration(i) * time.Minute)
	}
	for _, x := range st.Series(kind, name, from, end, time.Minute) {
		i := int(x.At.Sub(from) / time.Minute)
		if i < 0 || i >= len(out) {
			continue
		}
		at := out[i].At
		out[i] = findings.Step(&x)
		out[i].At = at
	}
	return out
}
