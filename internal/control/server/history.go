package server

import (
	"math"
	"net/http"
	"slices"
	"strconv"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

func (s *server) history(w http.ResponseWriter, r *http.Request) {
	most := 100
	if text := r.URL.Query().Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			problem(w, http.StatusBadRequest, "limit %q: expected how many entries to give", text)
			return
		}
		most = n
	}
	out := []control.Entry{}
	for i, e := range s.l.Book().State().History(most) {
		out = append(out, entry(e, false))
		if i == 0 {
			out[0].Since = s.since()
		}
	}
	for _, e := range s.l.Book().State().Choices(most) {
		out = append(out, choiceEntry(&e))
	}
	slices.SortStableFunc(out, func(a, b control.Entry) int { return b.At.Compare(a.At) })
	reply(w, out[:min(len(out), most)])
}

// leastSince is how long rules have to be in force before anything is said of what came true: a minute's worth of the
// first moment is mostly chance.
const leastSince = 10 * time.Second

// since says what came true since the rules in force were put in force.
func (s *server) since() *control.Measured {
	sums, drops, length := s.l.Book().Since()
	if length < leastSince {
		return nil
	}
	m := length.Minutes()
	_, bytes, _ := s.l.Engine().Cached()
	calls, hits := float64(sums.Calls()), float64(sums.Count[ledger.Hit])
	return &control.Measured{
		Minutes: int(m),
		Calls:   calls / m,
		Hits:    hits / m,
		OfAll:   hits / max(calls, 1),
		Saved:   findings.Milliseconds(sums.Saved) / m,
		Origin:  (calls - hits) / m / 60,
		Drops:   float64(drops) / m,
		Memory:  float64(bytes),
	}
}

func (s *server) historyEntry(w http.ResponseWriter, r *http.Request) {
	id, _ := strconv.ParseInt(r.PathValue("id"), 10, 64)
	for _, e := range s.l.Book().State().Choices(math.MaxInt) {
		if e.ID == -id {
			reply(w, choiceEntry(&e))
			return
		}
	}
	e, ok := s.l.Book().State().Entry(id)
	if !ok {
		problem(w, http.StatusNotFound, "the history has no entry %q", r.PathValue("id"))
		return
	}
	reply(w, entry(e, true))
}

func entry(e state.Entry, whole bool) control.Entry {
	out := control.Entry{ID: e.ID, At: e.At, Kind: e.Kind, Restores: e.Restores, Who: e.Who, Why: e.Why, Changes: e.Changes}
	out.Forecast, out.Hour, out.Day = decode[control.Forecast](
		e.Forecast,
	), decode[control.Measured](
		e.Hour,
	), decode[control.Measured](
		e.Day,
	)
	if whole {
		out.Text = string(e.Text)
	}
	return out
}
