package ledger

import (
	"sync"
	"sync/atomic"
	"time"
)

// Sums are counts and times over some stretch.
type Sums struct {
	Count [len(Outcomes)]uint64
	// Waited is the time that clients waited, by outcome.
	Waited [len(Outcomes)]time.Duration
	// Spared is the waiting that hits avoided; Keepable is the part of Waited spent at the origin on results that a
	// rule could have kept.
	Spared, Keepable time.Duration
}

// Calls is the number of statements.
func (s Sums) Calls() uint64 {
	var n uint64
	for _, c := range s.Count {
		n += c
	}
	return n
}

// AllWaited is the time waited over all outcomes.
func (s Sums) AllWaited() time.Duration {
	var d time.Duration
	for _, w := range s.Waited {
		d += w
	}
	return d
}

func (s Sums) minus(o Sums) Sums {
	for i := range s.Count {
		s.Count[i] -= o.Count[i]
		s.Waited[i] -= o.Waited[i]
	}
	s.Spared -= o.Spared
	s.Keepable -= o.Keepable
	return s
}

func (s Sums) plus(o Sums) Sums {
	for i := range s.Count {
		s.Count[i] += o.Count[i]
		s.Waited[i] += o.Waited[i]
	}
	s.Spared += o.Spared
	s.Keepable += o.Keepable
	return s
}

// Tally sums records since it was made, and over the last minute.
type Tally struct {
	count            [len(Outcomes)]atomic.Uint64
	waited           [len(Outcomes)]atomic.Int64
	spared, keepable atomic.Int64

	mu     sync.Mutex // of what follows, which only Tick and readers touch
	before Sums
	slots  []Sums // a ring of the last minute
	next   int
}

func newTally(slots int) Tally { return Tally{slots: make([]Sums, slots)} }

// Record counts one statement.
func (t *Tally) Record(r Record) {
	t.count[r.Outcome].Add(1)
	t.waited[r.Outcome].Add(int64(r.Took))
	if r.Spared != 0 {
		t.spared.Add(int64(r.Spared))
	}
	if r.Keepable && r.Outcome != Hit {
		t.keepable.Add(int64(r.Took))
	}
}

// Total gives the sums since the beginning.
func (t *Tally) Total() Sums {
	var s Sums
	for i := range s.Count {
		s.Count[i] = t.count[i].Load()
		s.Waited[i] = time.Duration(t.waited[i].Load())
	}
	s.Spared = time.Duration(t.spared.Load())
	s.Keepable = time.Duration(t.keepable.Load())
	return s
}

// tick closes the present slot.
func (t *Tally) tick() {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.Total()
	t.slots[t.next] = now.minus(t.before)
	t.before = now
	t.next = (t.next + 1) % len(t.slots)
}

// Slots gives the closed slots of the last minute, oldest first.
func (t *Tally) Slots() []Sums {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append(append([]Sums{}, t.slots[t.next:]...), t.slots[:t.next]...)
}

// Minute gives the sums over the last minute's closed slots.
func (t *Tally) Minute() Sums {
	t.mu.Lock()
	defer t.mu.Unlock()
	var s Sums
	for _, x := range t.slots {
		s = s.plus(x)
	}
	return s
}
