package server

import (
	"context"
	"net/http"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/trial/live"
)

// trials sees to it that there is one at a time: two would switch keeping off and on for each other.
type trials struct {
	mu   sync.Mutex
	stop context.CancelFunc // of the one that is under way, or nil
}

// begin gives a context for a trial, unless there is one.
func (t *trials) begin(ctx context.Context) (context.Context, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.stop != nil {
		return nil, false
	}
	ctx, t.stop = context.WithCancel(ctx)
	return ctx, true
}

func (t *trials) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.stop()
	t.stop = nil
}

// stopTrial has the trial that is under way end with the rounds that it has completed.
func (s *server) stopTrial(w http.ResponseWriter, _ *http.Request) {
	s.trials.mu.Lock()
	defer s.trials.mu.Unlock()
	if s.trials.stop != nil {
		s.trials.stop()
	}
	reply(w, struct{}{})
}

// trial makes a live trial. It ends, and keeping is on again, when whoever asked for it goes.
func (s *server) trial(w http.ResponseWriter, r *http.Request) {
	var in control.Trial
	if !read(w, r, &in) {
		return
	}
	e := s.l.Engine()
	switch {
	case e.CachingOff():
		problem(w, http.StatusConflict, "caching is off: there is nothing to compare; jollylarder caching on allows it again")
		return
	case !e.Caches():
		problem(w, http.StatusConflict, "no rule is caching: there is nothing to compare; apply a rule, or resume a paused one")
		return
	}
	t := live.Live{Engine: e.Engine, Slice: time.Duration(in.Slice * float64(time.Millisecond)), Rounds: in.Rounds}
	if err := t.Check(); err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	ctx, ok := s.trials.begin(r.Context())
	if !ok {
		problem(w, http.StatusConflict, "another live trial is running: wait for its end")
		return
	}
	defer s.trials.end()
	p := begin(w, r)
	if p == nil {
		return
	}
	t.Progress = func(done float64, what string) { p.tell(control.TrialLine{Done: done, Doing: what}) }
	out, err := t.Run(ctx)
	if err != nil {
		p.tell(control.TrialLine{Problem: err.Error()})
		return
	}
	p.tell(control.TrialLine{Done: 1, Result: &out})
}
