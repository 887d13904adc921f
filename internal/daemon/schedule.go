package daemon

import (
	"time"

	"jollylarder/internal/core/choices"
)

// job is something that is done from time to time.
type job struct {
	every time.Duration
	do    func(now time.Time)
	next  time.Time
}

// schedule is jobs that are done one after the other, each when it is due. One that was due several times is done once.
type schedule []*job

// run does what is due, and says when something will be.
func (s schedule) run(now time.Time) (next time.Time) {
	for _, j := range s {
		if !now.Before(j.next) {
			j.do(now)
			j.next = now.Add(j.every)
		}
		if next.IsZero() || j.next.Before(next) {
			next = j.next
		}
	}
	return next
}

// runUntil runs a schedule until a channel is closed.
func (s schedule) runUntil(end <-chan struct{}) {
	t := time.NewTimer(0)
	defer t.Stop()
	for {
		select {
		case now := <-t.C:
			t.Reset(time.Until(s.run(now)))
		case <-end:
			return
		}
	}
}

// begin begins what is done from time to time. What may wait for a disk is not to hold up the rest.
func (l *Larder) begin() {
	l.wg.Go(func() {
		schedule{
			{every: 50 * time.Millisecond, do: func(now time.Time) { l.engine.Tick(now); l.beats(now) }},
			{every: 500 * time.Millisecond, do: func(time.Time) {
				for _, o := range l.origins {
					o.server.EndIdle()
				}
			}},
		}.runUntil(l.ended)
	})
	l.alone.Go(func() {
		schedule{
			{every: time.Second, do: l.rollups.tick},
			{every: choices.Every, do: l.choose},
			{every: 5 * time.Second, do: func(time.Time) {
				_, kept, limit := l.engine.Cached()
				o := l.engine.Overhead()
				l.collector.look(kept, kept+o.Patterns.Used+o.Texts.Used+o.Sessions.Used, limit+o.Limit)
			}},
		}.runUntil(l.retired)
	})
}
