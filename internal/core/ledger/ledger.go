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

	mu       sync.RWMutex
	apps     map[string]*Tally
	patterns []*Pattern

	lastSlot, lastPatternSlot time.Time
}

// New makes a ledger.
func New(now time.Time) *Ledger {
	l := &Ledger{Began: now, apps: map[string]*Tally{}, lastSlot: now, lastPatternSlot: now}
	l.Total.of = l
	return l
}

// Everything is the sum over all applications. It is added up when asked for: a tally of its own would be one more that
// every statement of every connection writes to.
type Everything struct{ of *Ledger }

// Total gives the sums since the beginning.
func (e Everything) Total() (s Sums) {
	e.of.Applications(func(_ string, t *Tally) { s = s.plus(t.Total()) })
	return s
}

// Minute gives the sums over the last minute's closed slots.
func (e Everything) Minute() (s Sums) {
	e.of.Applications(func(_ string, t *Tally) { s = s.plus(t.Minute()) })
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
	fresh := newTally(60)
	l.apps[name] = &fresh
	return &fresh
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

// NewPattern makes the numbers of one more pattern.
func (l *Ledger) NewPattern() *Pattern {
	p := &Pattern{Tally: newTally(12)}
	l.mu.Lock()
	l.patterns = append(l.patterns, p)
	l.mu.Unlock()
	return p
}

// Tick closes the slots that have ended by now. It is to be called about once a second; a call too late puts what
// came in the meantime into one slot.
func (l *Ledger) Tick(now time.Time) {
	if now.Sub(l.lastSlot) >= Slot {
		l.lastSlot = now
		l.Applications(func(_ string, t *Tally) { t.tick() })
	}
	if now.Sub(l.lastPatternSlot) >= PatternSlot {
		l.lastPatternSlot = now
		l.mu.RLock()
		patterns := l.patterns
		l.mu.RUnlock()
		for _, p := range patterns {
			p.tick()
		}
	}
}

// Pattern is the numbers of one pattern.
type Pattern struct {
	Tally
	Rows, Bytes, Failed, Drops atomic.Uint64
	// Origin and Memory are how long replies took, from where they came.
	Origin, Memory Distribution

	reasons atomic.Pointer[[]*reason]
}

type reason struct {
	text  string
	count atomic.Uint64
}

// Record counts one statement of the pattern.
func (p *Pattern) Record(r Record) {
	p.Tally.Record(r)
	p.Rows.Add(uint64(r.Rows))
	p.Bytes.Add(uint64(r.Bytes))
	if r.Failed {
		p.Failed.Add(1)
	}
	if r.Outcome == Hit {
		p.Memory.Add(r.Took)
	} else {
		p.Origin.Add(r.Took)
	}
	if r.Reason != "" {
		p.reason(r.Reason).Add(1)
	}
}

func (p *Pattern) reason(text string) *atomic.Uint64 {
	for {
		have := p.reasons.Load()
		var list []*reason
		if have != nil {
			list = *have
		}
		for _, r := range list {
			if r.text == text {
				return &r.count
			}
		}
		longer := append(slices.Clone(list), &reason{text: text})
		if p.reasons.CompareAndSwap(have, &longer) {
			return &longer[len(longer)-1].count
		}
	}
}

// ReasonCount is how often statements passed for one reason.
type ReasonCount struct {
	Reason string
	Count  uint64
}

// Reasons gives why statements of the pattern passed, the most frequent first.
func (p *Pattern) Reasons() []ReasonCount {
	var out []ReasonCount
	if list := p.reasons.Load(); list != nil {
		for _, r := range *list {
			out = append(out, ReasonCount{r.text, r.count.Load()})
		}
	}
	slices.SortStableFunc(out, func(a, b ReasonCount) int { return int(b.Count) - int(a.Count) })
	return out
}
