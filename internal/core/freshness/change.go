package freshness

import "slices"

// Part is what a change may have altered in one table. With nothing but its clock it is any of its rows.
type Part struct {
	Clock *Clock
	// Values are what is known of the rows: all of them have, before and after the change, one of some values in a
	// column.
	Values []Values
	// Adds is set when it only adds rows.
	Adds bool
	// Sets are the columns that it assigns, if it does nothing else: rows neither come nor go. Empty means that this is
	// not known.
	Sets []string
}

// Values are the hashes of some values of a column; see Hash. There may be none, where the rows have none that can be
// equal to any.
type Values struct {
	Column string
	Hashes []uint64
}

func (p *Part) whole() bool { return len(p.Values) == 0 && !p.Adds && len(p.Sets) == 0 }

// moves calls f with the counters of a key for every value that the rows may have, or with the one of all others. Of
// cells that are not the last, it leaves out what nothing rests on.
func (p *Part) moves(k *Key, f func(*Counter)) {
	hashes, known := p.hashes(k)
	switch {
	case known:
		list := *k.cells.Load()
		for i, x := range list {
			for _, h := range hashes {
				if c := x.of(h); i == len(list)-1 || !ended(c) {
					f(c)
				}
			}
		}
	case Off(OtherColumns):
	case k.Unique && p.Adds:
		f(&k.inserted)
	default:
		f(&k.other)
	}
}

// hashes gives those of the values that the rows may have in a key, if that is known.
func (p *Part) hashes(k *Key) (all []uint64, known bool) {
	for i, column := range k.Columns {
		at := slices.IndexFunc(p.Values, func(v Values) bool { return v.Column == column })
		if at < 0 {
			return nil, false
		}
		here := p.Values[at].Hashes
		if i == 0 {
			all = here
			continue
		}
		if len(all)*len(here) > mostTogether {
			return nil, false
		}
		var both []uint64
		for _, a := range all {
			for _, b := range here {
				both = append(both, Together(a, b))
			}
		}
		all = both
	}
	return all, true
}

// Together gives the hash of the values of several columns of a key, in their order, two at a time.
func Together(a, b uint64) uint64 {
	h := a*0x9e3779b97f4a7c15 ^ b
	h ^= h >> 29
	return h * 0xbf58476d1ce4e5b9
}

// Change is what one write, or one transaction, may have altered. Its zero value is no change.
type Change struct {
	parts []Part
}

// mostParts is how many parts of a change may be of one table, before they are taken for one of any of its rows.
const mostParts = 64

// Add takes in the tables of a further write, any of whose rows it may have altered.
func (c *Change) Add(clocks ...*Clock) {
	for _, k := range clocks {
		c.AddPart(Part{Clock: k})
	}
}

// AddPart takes in a part of a further write.
func (c *Change) AddPart(p Part) {
	same := 0
	for i := range c.parts {
		if c.parts[i].Clock == p.Clock {
			if c.parts[i].whole() {
				return
			}
			same++
		}
	}
	if same >= mostParts {
		p = Part{Clock: p.Clock}
	}
	if p.whole() && same > 0 {
		c.parts = slices.DeleteFunc(slices.Clone(c.parts), func(o Part) bool { return o.Clock == p.Clock })
	}
	c.parts = append(c.parts, p) // behind those that somebody may look at
}

// AddAll takes in another change.
func (c *Change) AddAll(o Change) {
	for _, p := range o.parts {
		c.AddPart(p)
	}
}

// Empty says whether nothing is in it.
func (c *Change) Empty() bool { return len(c.parts) == 0 }

// Has says whether it may have altered any row of a clock's table.
func (c *Change) Has(k *Clock) bool {
	return slices.ContainsFunc(c.parts, func(p Part) bool { return p.Clock == k && p.whole() })
}

// Parts gives what is in it, until it is cleared.
func (c *Change) Parts() []Part { return c.parts }

// Clear takes everything out.
func (c *Change) Clear() {
	clear(c.parts)
	c.parts = c.parts[:0]
}

// Clone gives one that stays as it is when the other is cleared.
func (c *Change) Clone() Change { return Change{slices.Clone(c.parts)} }

// Touches says whether the change may have altered any table that a result with these readings depends on. Every, which
// is in all readings, stands for every table.
func (c *Change) Touches(r Dependencies) bool {
	if Off(OwnWrites) {
		return false
	}
	for _, p := range c.parts {
		if p.Clock.Name == "" || slices.Contains(r, p.Clock) {
			return true
		}
	}
	return false
}

// Begin moves the counters and makes the change pending. It must be called before the write, or the commit, is sent.
func (c Change) Begin() Pending {
	p := Pending{begun: make([]begun, 0, len(c.parts))}
	for i := range c.parts {
		part := &c.parts[i]
		b := begun{clock: part.Clock, counters: make([]*Counter, 0, usualCounters)}
		move := func(k *Counter) {
			k.begin()
			b.counters = append(b.counters, k)
		}
		move(&part.Clock.Counter) // before the keys are looked up: who makes one later sees that this is pending
		part.moveColumns(move)
		if keys := part.Clock.keys.Load(); keys != nil {
			for _, k := range *keys {
				part.moves(k, move)
			}
		}
		part.Clock.moves()
		p.begun = append(p.begun, b)
	}
	return p
}

// usualCounters is for how many counters of one table there is room at first.
const usualCounters = 8

// Pending is a change whose outcome has not arrived. Its zero value is none.
type Pending struct {
	begun  []begun
	guards []guard
	atEnd  []func()
}

// begun is what a change has moved for one of its parts.
type begun struct {
	clock    *Clock
	counters []*Counter
}

// guard moves one clock at the end of a change if another has moved since it was sent.
type guard struct {
	watched *Clock
	seen    uint64
	moves   *Clock
}

// Add makes a further change part of the pending one.
func (p *Pending) Add(more Pending) {
	if p.Empty() && p.guards == nil && p.atEnd == nil {
		*p = more
		return
	}
	p.begun = append(p.begun, more.begun...)
	p.guards = append(p.guards, more.guards...)
	p.atEnd = append(p.atEnd, more.atEnd...)
}

// AtEnd has a function called when the outcome has arrived, before the change is over.
func (p *Pending) AtEnd(f func()) { p.atEnd = append(p.atEnd, f) }

// Guard takes into account that a write may have waited at the origin while the schema was changed, and then have done
// what nobody knew of when it was sent, such as calling a new trigger: if the schema's clock has moved from seen by the
// change's end, every clock moves.
func (p *Pending) Guard(c *Clocks, seen uint64) {
	p.guards = append(p.guards, guard{c.Schema, seen, c.Every})
}

// Moved calls f with every counter that the change has moved, and the clock of its table.
func (p *Pending) Moved(f func(*Clock, *Counter)) {
	for i := range p.begun {
		for _, k := range p.begun[i].counters {
			f(p.begun[i].clock, k)
		}
	}
}

// Empty says whether nothing is pending.
func (p *Pending) Empty() bool { return len(p.begun) == 0 }

// End says that the outcome has arrived. It must be called before the writer gets it.
func (p *Pending) End() {
	for _, g := range p.guards {
		if g.watched.Changes() != g.seen && !Off(SchemaMeanwhile) {
			g.moves.changes.Add(1)
			g.moves.moves()
		}
	}
	for _, f := range p.atEnd {
		f()
	}
	for i := range p.begun { // before they are no longer pending
		p.begun[i].clock.moves()
	}
	p.Moved(func(_ *Clock, k *Counter) { k.end() })
	p.begun, p.guards, p.atEnd = nil, nil, nil
}

// Settle ends a change whose outcome never arrived: the clocks move once more, since it may have come true late.
func (p *Pending) Settle() {
	p.Moved(func(_ *Clock, k *Counter) { k.changes.Add(1) })
	p.End()
}
