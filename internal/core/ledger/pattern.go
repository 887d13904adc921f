package ledger

import (
	"cmp"
	"slices"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/reason"
)

// Pattern is the numbers of one pattern. Make it with Ledger.NewPattern.
type Pattern struct {
	Drops  atomic.Uint64
	Cached Caching
	// Merged is how many patterns were merged into this one.
	Merged atomic.Uint64
	base   numbers
	hot    atomic.Pointer[[lanes]numbers] // where connections are told apart, when it is asked often
	ring
	lately lately
}

// Caching is what became of a pattern's results in memory.
type Caching struct {
	// Held is how many are kept now, and HeldBytes what they take.
	Held, HeldBytes atomic.Int64
	// Stored is how many were kept in all. Of those that are gone, Unused were never used, Evicted made room for
	// others, and Expired had come to the end of their TTL.
	Stored, Unused, Evicted, Expired atomic.Uint64
	// TooLarge is how many were not kept for their size, and Largest the largest of those, in bytes.
	TooLarge atomic.Uint64
	Largest  atomic.Int64
}

// lanes is into how many parts the numbers of a pattern that is asked often are split, so that connections do not wait
// for each other's processor to write to the same memory. hotFrom is from how many calls on that is done.
const (
	lanes   = 16
	hotFrom = 2000
)

// numbers are what is counted at every call.
type numbers struct {
	tally
	rows, bytes, failed atomic.Uint64
	origin, memory      Distribution
	reasons             atomic.Pointer[[]*passed]
	callers             atomic.Pointer[callers]
	_                   [64]byte // the next lane's numbers are on other lines
}

// passed is how often statements passed for one reason.
type passed struct {
	why   reason.Reason
	count atomic.Uint64
}

// parts calls f for all parts of the numbers.
func (p *Pattern) parts(f func(*numbers)) {
	f(&p.base)
	if hot := p.hot.Load(); hot != nil {
		for i := range hot {
			f(&hot[i])
		}
	}
}

// Total gives the sums since the beginning.
func (p *Pattern) Total() (s Sums) {
	p.parts(func(n *numbers) { s = s.Plus(n.total()) })
	return s
}

// Calls is the number of statements.
func (p *Pattern) Calls() (calls uint64) {
	p.parts(func(n *numbers) { calls += n.calls() })
	return calls
}

// Rows is how many rows the replies to all statements had.
func (p *Pattern) Rows() (sum uint64) {
	p.parts(func(n *numbers) { sum += n.rows.Load() })
	return sum
}

// Bytes is how many bytes the replies to all statements had.
func (p *Pattern) Bytes() (sum uint64) {
	p.parts(func(n *numbers) { sum += n.bytes.Load() })
	return sum
}

// Failed is how many statements failed.
func (p *Pattern) Failed() (sum uint64) {
	p.parts(func(n *numbers) { sum += n.failed.Load() })
	return sum
}

// Origin gives how long replies from the origin took.
func (p *Pattern) Origin() *Distribution {
	return p.times(func(n *numbers) *Distribution { return &n.origin })
}

// Memory gives how long replies from memory took.
func (p *Pattern) Memory() *Distribution {
	return p.times(func(n *numbers) *Distribution { return &n.memory })
}

// Times gives how long all replies took, wherever they came from, as far as that was counted until now.
func (p *Pattern) Times() (t Times) {
	p.parts(func(n *numbers) {
		for _, d := range []*Distribution{&n.origin, &n.memory} {
			for i, count := range d.times() {
				t[i] += count
			}
		}
	})
	return t
}

func (p *Pattern) times(of func(*numbers) *Distribution) *Distribution {
	if p.hot.Load() == nil {
		return of(&p.base)
	}
	sum := &Distribution{}
	p.parts(func(n *numbers) { sum.Merge(of(n)) })
	return sum
}

// Sample counts one control sample, for which the origin took so long.
func (p *Pattern) Sample(took time.Duration) { p.base.sample(took) }

// Record counts one statement of the pattern.
func (p *Pattern) Record(r *Record) {
	n := &p.base
	if hot := p.hot.Load(); hot != nil {
		n = &hot[r.Lane%lanes]
	} else if n.origin.Count() == hotFrom || n.memory.Count() == hotFrom {
		p.hot.CompareAndSwap(nil, new([lanes]numbers))
	}
	n.Record(r)
	if r.Caller != nil {
		n.called(r.Caller)
	}
	n.rows.Add(uint64(r.Rows))
	n.bytes.Add(uint64(r.Bytes))
	if r.Failed {
		n.failed.Add(1)
	}
	switch {
	case r.Here: // neither has needed any time
	case r.Outcome == Hit:
		n.memory.Add(r.Took)
	default:
		n.origin.Add(r.Took)
	}
	if r.Reason.Some() {
		n.passed(&r.Reason).Add(1)
	}
}

func (n *numbers) passed(why *reason.Reason) *atomic.Uint64 {
	for {
		have := n.reasons.Load()
		var list []*passed
		if have != nil {
			list = *have
		}
		for _, r := range list {
			if r.why == *why {
				return &r.count
			}
		}
		longer := append(slices.Clone(list), &passed{why: *why})
		if n.reasons.CompareAndSwap(have, &longer) {
			return &longer[len(longer)-1].count
		}
	}
}

// ReasonCount is how often statements passed for one reason.
type ReasonCount struct {
	Reason reason.Reason
	Count  uint64
}

// byFrequency has the most frequent first, and equal ones always in the same order.
func byFrequency(a, b ReasonCount) int {
	return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Reason.String(), b.Reason.String()))
}

// Reasons gives why statements of the pattern passed, the most frequent first.
func (p *Pattern) Reasons() []ReasonCount {
	sums := map[reason.Reason]uint64{}
	p.parts(func(n *numbers) {
		if list := n.reasons.Load(); list != nil {
			for _, r := range *list {
				sums[r.why] += r.count.Load()
			}
		}
	})
	var out []ReasonCount
	for why, n := range sums {
		out = append(out, ReasonCount{why, n})
	}
	slices.SortFunc(out, byFrequency)
	return out
}

// tick closes the present slot.
func (p *Pattern) tick(now time.Time) {
	p.close(p.Total())
	p.lately.mark(p, now)
}

// absorb adds what was counted of another pattern that is no longer told apart.
func (p *Pattern) absorb(o *Pattern) {
	total := o.Total()
	p.base.add(total)
	p.skip(total)
	p.base.rows.Add(o.Rows())
	p.base.bytes.Add(o.Bytes())
	p.base.failed.Add(o.Failed())
	p.Drops.Add(o.Drops.Load())
	p.Merged.Add(o.Merged.Load() + 1)
	for _, x := range []struct{ into, from *atomic.Uint64 }{
		{&p.Cached.Stored, &o.Cached.Stored}, {&p.Cached.Unused, &o.Cached.Unused}, {&p.Cached.Evicted, &o.Cached.Evicted},
		{&p.Cached.Expired, &o.Cached.Expired}, {&p.Cached.TooLarge, &o.Cached.TooLarge},
	} {
		x.into.Add(x.from.Load())
	}
	p.Cached.Largest.Store(max(p.Cached.Largest.Load(), o.Cached.Largest.Load()))
	p.base.origin.Merge(o.Origin())
	p.base.memory.Merge(o.Memory())
}
