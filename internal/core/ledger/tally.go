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
	// Saved is the waiting that hits avoided, each measured by the last fetch of its own result, less Own; Cacheable is
	// the part of Waited spent at the origin on results that a rule could have kept.
	Saved, Cacheable time.Duration
	// Own is what the larder itself added to the time of misses, and Followed the part of Waited in which hits waited
	// for what another session was fetching.
	Own, Followed time.Duration
	// Before are the calls that could have been kept and that no rule in force kept, and Hindered those that a rule
	// keeps and that something of their session or moment kept from memory; with what was waited for them.
	Before, Hindered Part
	// Samples are the control samples, by what the origin took for them.
	Samples Samples
}

// Part is some of the calls, and what was waited for them.
type Part struct {
	Calls  uint64
	Waited time.Duration
}

// Mean is what was waited for one of them on average, or 0.
func (p Part) Mean() time.Duration {
	if p.Calls == 0 {
		return 0
	}
	return p.Waited / time.Duration(p.Calls)
}

// After are the calls of patterns while a rule kept them: what came from memory and what did not.
func (s Sums) After() Part {
	return Part{s.Count[Hit] + s.Count[Miss] + s.Hindered.Calls, s.Waited[Hit] + s.Waited[Miss] + s.Hindered.Waited}
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
func (s Sums) Minus(o Sums) Sums { return s.plus(o, -1) }

// Plus adds sums of other stretches or others.
func (s Sums) Plus(o Sums) Sums { return s.plus(o, 1) }

func (s Sums) plus(o Sums, sign int64) Sums {
	d := time.Duration(sign)
	for i := range s.Count {
		s.Count[i] += uint64(sign) * o.Count[i]
		s.Waited[i] += d * o.Waited[i]
	}
	s.Saved += d * o.Saved
	s.Cacheable += d * o.Cacheable
	s.Own += d * o.Own
	s.Followed += d * o.Followed
	s.Before.add(o.Before, sign)
	s.Hindered.add(o.Hindered, sign)
	s.Samples = s.Samples.plus(o.Samples, sign)
	return s
}

func (p *Part) add(o Part, sign int64) {
	p.Calls += uint64(sign) * o.Calls
	p.Waited += time.Duration(sign) * o.Waited
}

// tally sums records since it was made.
type tally struct {
	count            [len(Outcomes)]atomic.Uint64
	waited           [len(Outcomes)]atomic.Int64
	saved, cacheable atomic.Int64
	seldom           atomic.Pointer[seldom]
}

// seldom is what is not counted at most calls.
type seldom struct {
	own, followed    atomic.Int64
	before, hindered struct {
		calls  atomic.Uint64
		waited atomic.Int64
	}
	mu      sync.Mutex
	samples Samples
}

func (t *tally) rest() *seldom {
	x := t.seldom.Load()
	if x == nil {
		x = &seldom{}
		if !t.seldom.CompareAndSwap(nil, x) {
			x = t.seldom.Load()
		}
	}
	return x
}

// Record counts one statement.
func (t *tally) Record(r *Record) {
	t.count[r.Outcome].Add(1)
	t.waited[r.Outcome].Add(int64(r.Took))
	if n := r.Saved - r.Own; n != 0 {
		t.saved.Add(int64(n))
	}
	if r.Outcome == Hit && r.Followed == 0 {
		return
	}
	if r.Cacheable && r.Outcome != Hit {
		t.cacheable.Add(int64(r.Took))
	}
	if r.Own == 0 && r.Followed == 0 && !(r.Cacheable && r.Outcome == Bypass) {
		return
	}
	x := t.rest()
	x.own.Add(int64(r.Own))
	x.followed.Add(int64(r.Followed))
	if r.Cacheable && r.Outcome == Bypass && !r.LeftOut {
		part := &x.before
		if r.Ruled {
			part = &x.hindered
		}
		part.calls.Add(1)
		part.waited.Add(int64(r.Took))
	}
}

// sample counts a control sample for which the origin took so long.
func (t *tally) sample(took time.Duration) {
	x := t.rest()
	x.mu.Lock()
	x.samples.add(took)
	x.mu.Unlock()
}

// add adds sums that were counted elsewhere.
func (t *tally) add(s Sums) {
	for i := range s.Count {
		t.count[i].Add(s.Count[i])
		t.waited[i].Add(int64(s.Waited[i]))
	}
	t.saved.Add(int64(s.Saved))
	t.cacheable.Add(int64(s.Cacheable))
	x := t.rest()
	x.own.Add(int64(s.Own))
	x.followed.Add(int64(s.Followed))
	x.before.calls.Add(s.Before.Calls)
	x.before.waited.Add(int64(s.Before.Waited))
	x.hindered.calls.Add(s.Hindered.Calls)
	x.hindered.waited.Add(int64(s.Hindered.Waited))
	x.mu.Lock()
	x.samples = x.samples.plus(s.Samples, 1)
	x.mu.Unlock()
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
	s.Saved = time.Duration(t.saved.Load())
	s.Cacheable = time.Duration(t.cacheable.Load())
	if x := t.seldom.Load(); x != nil {
		s.Own, s.Followed = time.Duration(x.own.Load()), time.Duration(x.followed.Load())
		s.Before = Part{x.before.calls.Load(), time.Duration(x.before.waited.Load())}
		s.Hindered = Part{x.hindered.calls.Load(), time.Duration(x.hindered.waited.Load())}
		x.mu.Lock()
		s.Samples = x.samples
		x.mu.Unlock()
	}
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
	t.before = t.before.Plus(s)
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
		s = s.Plus(x)
	}
	return s
}

// Tally sums records since it was made, and over the last minute.
type Tally struct {
	parts [lanes]struct {
		tally
		_ [40]byte // the next lane's counts are on another line
	}
	ring
}

// Record counts one statement.
func (t *Tally) Record(r *Record) { t.parts[r.Lane%lanes].Record(r) }

// Sample counts a control sample for which the origin took so long.
func (t *Tally) Sample(took time.Duration) { t.parts[0].sample(took) }

// Total gives the sums since the beginning.
func (t *Tally) Total() (s Sums) {
	for i := range t.parts {
		s = s.Plus(t.parts[i].total())
	}
	return s
}

func (t *Tally) tick() { t.close(t.Total()) }
