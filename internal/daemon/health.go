package daemon

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/wire/link"
)

// stall is how long what the larder does from time to time may be overdue before it counts as one that hangs. It runs
// twenty times a second; a machine that is suspended or swaps may take seconds.
const stall = 20 * time.Second

// beats notes that what is done from time to time is done.
func (l *Larder) beats(now time.Time) { l.beat.Store(&now) }

// Healthy gives an error if the larder hangs, so that only a new start helps.
func (l *Larder) Healthy() error {
	last := l.beat.Load()
	if last == nil {
		return nil // it has not begun
	}
	if late := time.Since(*last); late > stall {
		return fmt.Errorf("what the larder does twenty times a second has not been done for %s", late.Round(time.Second))
	}
	return nil
}

// Ready gives an error if clients that connect now are not served.
func (l *Larder) Ready() error {
	if l.stopping.Load() {
		return errors.New("the larder is stopping: use another")
	}
	return l.Healthy()
}

// longestReach bounds how long an origin is tried.
const longestReach = 3 * time.Second

// Reachable gives an error for those origins that cannot be reached. It may connect to them.
func (l *Larder) Reachable(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, longestReach)
	defer stop()
	problems := make([]error, len(l.origins))
	var wg sync.WaitGroup
	for i, o := range l.origins {
		wg.Go(func() {
			if err := o.server.Reach(ctx); err != nil {
				cfg := &l.cfg.Origins[i] // of which name and address do not change
				problems[i] = fmt.Errorf("the origin%s cannot be reached at %s: %w: %s", after(" ", cfg.Name), cfg.Address, err, link.Hint(err))
			}
		})
	}
	wg.Wait()
	return errors.Join(problems...)
}

// healthHandlers answer supervisors and load balancers: 200 if all is well, else 503 with what is not.
func (l *Larder) healthHandlers(mux *http.ServeMux) {
	answer := func(w http.ResponseWriter, well string, err error) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		if err != nil {
			w.WriteHeader(http.StatusServiceUnavailable)
			well = strings.TrimSpace(err.Error())
		}
		fmt.Fprintln(w, well)
	}
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { answer(w, "healthy", l.Healthy()) })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, r *http.Request) {
		err := l.Ready()
		if err == nil && r.URL.Query().Has("origins") {
			err = l.Reachable(r.Context())
		}
		answer(w, "ready", err)
	})
}
