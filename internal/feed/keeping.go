package feed

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"
)

// Keeping is what all followers have in common: they follow again whatever goes wrong, and say how that stands. K is what
// tells where in its log a server shows a transaction. Its zero value is ready.
type Keeping[K any] struct {
	// Unseen are the transactions that have been told, and which not everybody may see yet.
	Unseen Unseen[K]

	begun, on bool // it has followed; and has since it last connected. Both are of the goroutine of Keep.

	mu     sync.Mutex
	status Status
}

const (
	stalls       = 3 * time.Second // a stream of which so long it is not known how far it has come has stalled
	longestPause = 10 * time.Second
)

// Status implements Follower.
func (k *Keeping[K]) Status() Status {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.status.seen(time.Now())
}

// Set changes the status.
func (k *Keeping[K]) Set(change func(*Status)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	change(&k.status)
}

// Logger gives the one of the options.
func (o *Options) Logger() *slog.Logger {
	if o.Log == nil {
		return slog.Default()
	}
	return o.Log
}

// Keep follows until the context ends. Follow connects and follows until something goes wrong. Forget has it begin as if it
// had never followed, after which everything that was cached is dropped.
func (k *Keeping[K]) Keep(ctx context.Context, o *Options, follow func(context.Context) error, forget func()) {
	defer o.Feed.Running(false)
	pause := time.Second
	for ctx.Err() == nil {
		began, had := time.Now(), k.Unseen.Any()
		k.on = false
		err := guarded(ctx, follow, forget)
		o.Feed.Running(false)
		if ctx.Err() != nil {
			return
		}
		why := "the connection ended"
		if err != nil {
			why = strings.TrimSpace(err.Error())
		}
		k.Set(func(s *Status) { s.Mode, s.Problem = "", why })
		if had && !k.on { // what was told and not seen then may have been cached as it was
			forget()
			k.Unseen.All()
		}
		o.Logger().Warn("direct writes are not seen at this moment", "origin", o.Origin, "database", o.Database, "why", why)
		if time.Since(began) > time.Minute {
			pause = time.Second
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, longestPause)
	}
}

// guarded follows, and makes an error of a fault.
func guarded(ctx context.Context, follow func(context.Context) error, forget func()) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("a fault in the larder: %v", r)
			forget()
		}
	}()
	return follow(ctx)
}

// Begins notes that the stream is followed from here on. A gap says why something may have been left out; everything that
// was cached is dropped then. Bound is how much of its log the server may retain.
func (k *Keeping[K]) Begins(o *Options, gap, from string, bound int64) {
	if gap != "" {
		o.Feed.Lost(time.Now())
		k.Unseen.All()
	}
	first := !k.begun
	k.begun, k.on = true, true
	k.Set(func(x *Status) {
		*x = Status{Mode: Stream, Bound: bound, Transactions: x.Transactions, Rows: x.Rows, Gaps: x.Gaps, Polled: x.Polled}
		if gap != "" && !first {
			x.Gaps++
		}
	})
	o.Feed.Running(true)
	o.Logger().Info("changes are followed by the replication stream", "origin", o.Origin, "database", o.Database, "from", from, "gap", gap)
}

// Pause is how long to wait before it is asked again what everybody sees: longer each time, up to the longest.
type Pause time.Duration

// Next gives the next one.
func (p *Pause) Next(longest time.Duration) time.Duration {
	*p = Pause(min(max(2*time.Duration(*p), time.Millisecond), longest))
	return time.Duration(*p)
}

// Run runs a plan's steps, and says which of them failed: those before it are done.
func (p Plan) Run(ctx context.Context, step func(ctx context.Context, sql string) error) error {
	for i, sql := range p.Steps {
		if err := step(ctx, sql); err != nil {
			return fmt.Errorf("step %d of %d, %s: %w; the steps before it are done, and running this again goes on from there", i+1, len(p.Steps), sql, err)
		}
	}
	return nil
}
