package ledger

import (
	"cmp"
	"slices"
	"sync"
	"time"
)

// lately remembers what a pattern's calls were at some moments of the last hour, so that it can be said of the calls since
// then, and not of all since the beginning, why they passed.
type lately struct {
	mu    sync.Mutex
	at    []time.Time
	sums  []Sums
	notes [][]ReasonCount // the same slice while nothing passed
}

// LatelyStep is how far these moments are apart, and LatelySpan how far they reach back.
const (
	LatelyStep = 5 * time.Minute
	LatelySpan = time.Hour
)

// mark notes a moment, if the last one was long enough ago.
func (l *lately) mark(p *Pattern, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if n := len(l.at); n > 0 && now.Sub(l.at[n-1]) < LatelyStep {
		return
	}
	for len(l.at) > 1 && now.Sub(l.at[1]) >= LatelySpan {
		l.at, l.sums, l.notes = slices.Delete(l.at, 0, 1), slices.Delete(l.sums, 0, 1), slices.Delete(l.notes, 0, 1)
	}
	total := p.Total()
	if n := len(l.at); n > 0 && total == l.sums[n-1] {
		return // nothing has been asked since
	}
	notes := p.Reasons()
	if n := len(l.at); n > 0 && slices.Equal(notes, l.notes[n-1]) {
		notes = l.notes[n-1]
	}
	l.at, l.sums, l.notes = append(l.at, now), append(l.sums, total), append(l.notes, notes)
}

// Lately is what became of a pattern's calls since a moment, of which there may be none.
type Lately struct {
	Since  time.Time
	Sums   Sums
	Passed []ReasonCount // the most frequent first
}

// Lately gives what became of the calls of about the last hour.
func (p *Pattern) Lately(now time.Time) Lately {
	l := &p.lately
	l.mu.Lock()
	defer l.mu.Unlock()
	out := Lately{Sums: p.Total(), Passed: p.Reasons()}
	if len(l.at) == 0 {
		return out
	}
	out.Since, out.Sums = l.at[0], out.Sums.Minus(l.sums[0])
	if from := now.Add(-LatelySpan); out.Since.Before(from) {
		out.Since = from
	}
	before := map[string]uint64{}
	for _, r := range l.notes[0] {
		before[r.Reason] = r.Count
	}
	left := out.Passed[:0]
	for _, r := range out.Passed {
		if r.Count -= before[r.Reason]; r.Count > 0 {
			left = append(left, r)
		}
	}
	slices.SortFunc(left, func(a, b ReasonCount) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Reason, b.Reason))
	})
	out.Passed = left
	return out
}
