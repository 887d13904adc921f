package ledger

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Slot is how long one slot of a lane and of the totals lasts, and PatternSlot one of a pattern.
const (
	Slot        = time.Second
	PatternSlot = 5 * time.Second
)

// mostApplications bounds the lanes: names come from clients. Those beyond it share one.
const mostApplications = 64

// Others is the name of the lane that the applications beyond the bound share.
const Others = "(others)"

// Ledger holds the tallies. Make it with New.
type Ledger struct {
	// Total sums all applications.
	Total Everything
	// Began is when counting began, and Drops how many results were dropped by writes since.
	Began time.Time
	Drops atomic.Uint64

	rules sync.Map // string to *Tally: asked for at every statement that a rule keeps, and hardly ever added to

	mu       sync.RWMutex
	apps     map[string]*Tally
	callers  map[Caller]*Caller
	patterns []*Pattern

	lastSlot, lastPatternSlot time.Time
}

// New makes a ledger.
func New(now time.Time) *Ledger {
	l := &Ledger{
		Began:           now,
		apps:            map[string]*Tally{},
		callers:         map[Caller]*Caller{},
		lastSlot:        now,
		lastPatternSlot: now,
	}
	l.Total.of = l
	return l
}

// Everything is the sum over all applications. It is added up when asked for: a tally of its own would be one more that
// every statement of every connection writes to.
type Everything struct{ of *Ledger }

// Total gives the sums since the beginning.
func (e Everything) Total() (s Sums) {
	e.of.Applications(func(_ string, t *Tally) { s = s.Plus(t.Total()) })
	return s
}

// Minute gives the sums over the last minute's closed slots.
func (e Everything) Minute() (s Sums) {
	e.of.Applications(func(_ string, t *Tally) { s = s.Plus(t.Minute()) })
	return s
}

// Application gives the tally of an application, the same one at every call.
func (l *Ledger) Application(name string) *Tally {
	if name == "" {
		name = "(unnamed)"
	}
	l.mu.RLock()
	t := l.apps[name]
	l.mu.RUnlock()
	if t != nil {
		return t
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.apps) >= mostApplications {
		name = Others
	}
	if t := l.apps[name]; t != nil {
		return t
	}
	fresh := &Tally{ring: ring{size: 60}}
	l.apps[name] = fresh
	return fresh
}

// Applications calls f for every application, in order of name.
func (l *Ledger) Applications(f func(name string, t *Tally)) {
	l.mu.RLock()
	names := make([]string, 0, len(l.apps))
	for n := range l.apps {
		names = append(names, n)
	}
	l.mu.RUnlock()
	slices.Sort(names)
	for _, n := range names {
		l.mu.RLock()
		t := l.apps[n]
		l.mu.RUnlock()
		f(n, t)
	}
}

// Rule gives the tally of a rule by its name, the same one at every call.
func (l *Ledger) Rule(name string) *Tally {
	if t, ok := l.rules.Load(name); ok {
		return t.(*Tally)
	}
	t, _ := l.rules.LoadOrStore(name, &Tally{ring: ring{size: 60}})
	return t.(*Tally)
}

// Counted gives the tally of a rule by its name, or nil if nothing was counted of it: who only looks makes none.
func (l *Ledger) Counted(rule string) *Tally {
	if t, ok := l.rules.Load(rule); ok {
		return t.(*Tally)
	}
	return nil
}

// Rules calls f for every rule that something was counted of, in order of name.
func (l *Ledger) Rules(f func(name string, t *Tally)) {
	var names []string
	l.rules.Range(func(name, _ any) bool {
		names = append(names, name.(string))
		return true
	})
	slices.Sort(names)
	for _, n := range names {
		f(n, l.Rule(n))
	}
}

// NewPattern makes the numbers of one more pattern.
func (l *Ledger) NewPattern() *Pattern {
	p := &Pattern{ring: ring{size: 12}}
	l.mu.Lock()
	l.patterns = append(l.patterns, p)
	l.mu.Unlock()
	return p
}

// Merge takes patterns out and adds what was counted of them to another.
func (l *Ledger) Merge(out []*Pattern, into *Pattern) {
	gone := make(map[*Pattern]bool, len(out))
	for _, p := range out {
		gone[p] = true
		into.absorb(p)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	left := make([]*Pattern, 0, len(l.patterns))
	for _, p := range l.patterns {
		if !gone[p] {
			left = append(left, p)
		}
	}
	l.patterns = left
}

// Tick closes the slots that have ended by now. It is to be called about once a second; a call too late puts what
// came in the meantime into one slot.
func (l *Ledger) Tick(now time.Time) {
	if now.Sub(l.lastSlot) >= Slot {
		l.lastSlot = now
		l.Applications(func(_ string, t *Tally) { t.tick() })
		l.Rules(func(_ string, t *Tally) { t.tick() })
	}
	if now.Sub(l.lastPatternSlot) >= PatternSlot {
		l.lastPatternSlot = now
		l.mu.RLock()
		patterns := l.patterns
		l.mu.RUnlock()
		for _, p := range patterns {
			p.tick(now)
		}
	}
}
