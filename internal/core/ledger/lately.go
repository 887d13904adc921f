package ledger

import (
	"slices"
	"sync"
	"time"

	"jollylarder/internal/core/reason"
)

// lately remembers what a pattern's calls were at some moments of the last hour, so that it can be said of the calls
// since then, and not of all since the beginning, why they passed.
type lately struct {
	mu    sync.Mutex
	marks []latelyMark // the oldest first
}

// latelyMark is what a pattern's calls had come to at a moment. Every pattern in use has some, so that they are few and
// short.
type latelyMark struct {
	at     time.Time
	counts [len(Sums{}.Count)]uint64
	passed []ReasonCount // the same slice as before while nothing passed
}

// markedFrom is from which call on a pattern has marks.
const markedFrom = 3

// LatelyStep is how far these moments are apart, and LatelySpan how far they reach back.
const (
	LatelyStep = 15 * time.Minute
	LatelySpan = time.Hour
)

// mark notes a moment, if the last one was long enough ago.
func (l *lately) mark(p *Pattern, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := len(l.marks)
	if n == 0 && p.Calls() < markedFrom { // most patterns of a flood never come again
		return
	}
	if n > 0 && now.Sub(l.marks[n-1].at) < LatelyStep {
		return
	}
	for len(l.marks) > 1 && now.Sub(l.marks[1].at) >= LatelySpan {
		l.marks = slices.Delete(l.marks, 0, 1)
	}
	m := latelyMark{at: now, counts: p.Total().Count}
	if n = len(l.marks); n > 0 && m.counts == l.marks[n-1].counts {
		return // nothing has been asked since
	}
	m.passed = p.Reasons()
	if n > 0 && slices.Equal(m.passed, l.marks[n-1].passed) {
		m.passed = l.marks[n-1].passed
	}
	l.marks = append(l.marks, m)
}

// Lately is what became of a pattern's calls since a moment, of which there may be none.
type Lately struct {
	Since               time.Time
	Calls, Hits, Misses uint64
	Bypassed            []ReasonCount // the most frequent first
}

// Lately gives what became of the calls of about the last hour.
func (p *Pattern) Lately(now time.Time) Lately {
	l := &p.lately
	l.mu.Lock()
	defer l.mu.Unlock()
	total := p.Total().Count
	out := Lately{Calls: p.Calls(), Hits: total[Hit], Misses: total[Miss], Bypassed: p.Reasons()}
	if len(l.marks) == 0 {
		return out
	}
	first := &l.marks[0]
	if out.Since = first.at; out.Since.Before(now.Add(-LatelySpan)) {
		out.Since = now.Add(-LatelySpan)
	}
	for _, n := range first.counts {
		out.Calls -= n
	}
	out.Hits, out.Misses = out.Hits-first.counts[Hit], out.Misses-first.counts[Miss]
	before := map[reason.Reason]uint64{}
	for _, r := range first.passed {
		before[r.Reason] = r.Count
	}
	left := out.Bypassed[:0]
	for _, r := range out.Bypassed {
		if r.Count -= before[r.Reason]; r.Count > 0 {
			left = append(left, r)
		}
	}
	slices.SortFunc(left, byFrequency)
	out.Bypassed = left
	return out
}
