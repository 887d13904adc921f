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

// Minus gives what came between two sums.
func (s Sums) Minus(o Sums) Sums {
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

// tally sums records since it was made.
type tally struct {
	count            [len(Outcomes)]atomic.Uint64
	waited           [len(Outcomes)]atomic.Int64
	spared, keepable atomic.Int64
}

// Record counts one statement.
func (t *tally) Record(r Record) {
	t.count[r.Outcome].Add(1)
	t.waited[r.Outcome].Add(int64(r.Took))
	if r.Spared != 0 {
		t.spared.Add(int64(r.Spared))
	}
	if r.Keepable && r.Outcome != Hit {
		t.keepable.Add(int64(r.Took))
	}
}

// add adds sums that were counted elsewhere.
func (t *tally) add(s Sums) {
	for i := range s.Count {
		t.count[i].Add(s.Count[i])
		t.waited[i].Add(int64(s.Waited[i]))
	}
	t.spared.Add(int64(s.Spared))
	t.keepable.Add(int64(s.Keepable))
}

func (t *tally) calls() (n uint64) {
	for i := range t.count {
		n += t.count[i].Load()
	}
	return n
}

func (t *tally) total() Sums {
	var s Sums
	for i := range s.Count {
		s.Count[i] = t.count[i].Load()
		s.Waited[i] = time.Duration(t.waited[i].Load())
	}
	s.Spared = time.Duration(t.spared.Load())
	s.Keepable = time.Duration(t.keepable.Load())
	return s
}

// ring holds the sums of the last minute in slots.
type ring struct {
	mu     sync.Mutex // of what follows, which only Tick and readers touch
	before Sums
	size   int
	slots  []Sums // nil while nothing was counted in any of them
	next   int
	idle   int // slots in a row in which nothing was
}

// close closes the present slot; total is what has been counted since the beginning.
func (t *ring) close(total Sums) {
	t.mu.Lock()
	defer t.mu.Unlock()
	slot := total.Minus(t.before)
	t.before = total
	if slot != (Sums{}) {
		t.idle = 0
	} else if t.idle++; t.idle >= t.size {
		t.slots = nil
	}
	if t.slots == nil {
		if t.idle > 0 {
			return
		}
		t.slots = make([]Sums, t.size)
	}
	t.slots[t.next] = slot
	t.next = (t.next + 1) % t.size
}

// skip has sums not be part of the present slot.
func (t *ring) skip(s Sums) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.before = t.before.plus(s)
}

// Slots gives the closed slots of the last minute, oldest first.
func (t *ring) Slots() []Sums {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.slots == nil {
		return make([]Sums, t.size)
	}
	return append(append([]Sums{}, t.slots[t.next:]...), t.slots[:t.next]...)
}

// Minute gives the sums over the last minute's closed slots.
func (t *ring) Minute() Sums {
	t.mu.Lock()
	defer t.mu.Unlock()
	var s Sums
	for _, x := range t.slots {
		s = s.plus(x)
	}
	return s
}

// Tally sums records since it was made, and over the last minute.
type Tally struct {
	parts [lanes]struct {
		tally
		_ [48]byte // the next lane's counts are on another line
	}
	ring
}

// Record counts one statement.
func (t *Tally) Record(r Record) { t.parts[r.Lane%lanes].Record(r) }

// Total gives the sums since the beginning.
func (t *Tally) Total() (s Sums) {
	for i := range t.parts {
		s = s.plus(t.parts[i].total())
	}
	return s
}

func (t *Tally) tick() { t.close(t.Total()) }
