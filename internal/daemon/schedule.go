package daemon

import "time"

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

// keeps runs a schedule until the larder ends.
func (l *Larder) keeps(s schedule) {
	t := time.NewTimer(0)
	defer t.Stop()
	for {
		select {
		case now := <-t.C:
			t.Reset(time.Until(s.run(now)))
		case <-l.ended:
			return
		}
	}
}

// begin begins what is done from time to time. What may wait for a disk is not to hold up the rest.
func (l *Larder) begin() {
	l.wg.Go(func() {
		l.keeps(schedule{
			{every: 50 * time.Millisecond, do: l.engine.Tick},
			{every: 500 * time.Millisecond, do: func(time.Time) {
				for _, o := range l.origins {
					o.server.EndIdle()
				}
			}},
		})
	})
	l.wg.Go(func() {
		l.keeps(schedule{
			{every: time.Second, do: l.rollups.tick},
			{every: 5 * time.Second, do: func(time.Time) {
				_, kept, limit := l.engine.Cached()
				o := l.engine.Overhead()
				l.collector.look(kept, kept+o.Patterns.Used+o.Texts.Used+o.Sessions.Used, limit+o.Limit)
			}},
		})
	})
}
