// Package freshness keeps the clocks that say whether a kept result is still true.
//
// Every table has a clock, which counts the changes that may have touched it. A result remembers the clocks of all it
// read, taken before its statement was sent to the origin, and is valid while none of them has moved. A write moves the
// clocks of what it may change when it is sent, and stays pending until the origin's reply has arrived.
//
// Why that is enough. A result's snapshot lies between its sending and its last byte; a commit lies between its
// sending and its reply. If the snapshot came before the commit and the result is stored after, either the clock moved
// in between or the write was pending when the statement was sent, and the store is refused. While a write is pending nothing valid
// exists for its tables, so no reader can see old after another saw new.
package freshness

import (
	"slices"
	"sync"
	"sync/atomic"
)

// Clock is one table's count of changes.
type Clock struct {
	// Name is the table's full name, or empty for the clock of the whole database.
	Name string

	changes atomic.Uint64
	pending atomic.Int64
}

// Changes is how often the clock has moved.
func (c *Clock) Changes() uint64 { return c.changes.Load() }

// begin is called before the write is sent. Pending is raised before the clock moves: who sees the moved clock, and
// so would take it for the present, must also see that the write is under way.
func (c *Clock) begin() {
	c.pending.Add(1)
	c.changes.Add(1)
}

func (c *Clock) end() { c.pending.Add(-1) }

// Clocks are the clocks of one database. Its zero value is not ready; use New.
type Clocks struct {
	// Every moves with a change that may have touched any table. Every stamp holds it.
	Every *Clock
	// Schema moves with a change after which the catalog may be another. No result's stamp holds it: such a change
	// moves Every as well.
	Schema *Clock

	mu     sync.RWMutex
	tables map[string]*Clock
}

// New makes the clocks of one database.
func New() *Clocks {
	return &Clocks{Every: &Clock{}, Schema: &Clock{Name: schemaClock}, tables: map[string]*Clock{}}
}

// schemaClock is the name of the schema's clock. No table is named so.
const schemaClock = "(schema)"

// Table gives the clock of a table by its full name, the same one at every call.
func (c *Clocks) Table(name string) *Clock {
	c.mu.RLock()
	t := c.tables[name]
	c.mu.RUnlock()
	if t != nil {
		return t
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if t := c.tables[name]; t != nil {
		return t
	}
	t = &Clock{Name: name}
	c.tables[name] = t
	return t
}

// Readings are the clocks that one result depends on.
type Readings []*Clock

// Readings gives the readings of a result that depends on these tables.
func (c *Clocks) Readings(tables []string) Readings {
	r := Readings{c.Every}
	for _, t := range tables {
		r = append(r, c.Table(t))
	}
	return r
}

// Stamp is what readings' clocks showed at one moment.
type Stamp struct {
	readings Readings
	changes  []uint64
	quiet    bool // nothing was pending
}

// Take reads the clocks. It must be called before the statement is sent to the origin.
func (r Readings) Take() Stamp {
	s := Stamp{readings: r, changes: make([]uint64, len(r)), quiet: true}
	for i, c := range r {
		s.changes[i] = c.changes.Load()
		if c.pending.Load() != 0 && !disabled.pendingAtSending {
			s.quiet = false
		}
	}
	return s
}

// Valid says whether no clock has moved since. It takes no lock.
func (s *Stamp) Valid() bool {
	if disabled.clockMoved {
		return true
	}
	for i, c := range s.readings {
		if c.changes.Load() != s.changes[i] {
			return false
		}
	}
	return true
}

// Storable says whether a result whose last byte has arrived may be kept: nothing was pending when its statement was
// sent, and no clock has moved since. A write that is pending only now began in between, and so moved a clock.
func (s *Stamp) Storable() bool { return s.quiet && s.Valid() }

// Moved gives the first reading whose clock has moved, or nil.
func (s *Stamp) Moved() *Clock {
	for i, c := range s.readings {
		if c.changes.Load() != s.changes[i] {
			return c
		}
	}
	return nil
}

// Readings gives what the stamp was taken of.
func (s *Stamp) Readings() Readings { return s.readings }

// Change is what one write, or one transaction, may have altered. Its zero value is no change.
type Change struct {
	clocks []*Clock
}

// Add takes in the tables of a further write.
func (c *Change) Add(clocks ...*Clock) {
	for _, k := range clocks {
		if !slices.Contains(c.clocks, k) {
			c.clocks = append(c.clocks, k)
		}
	}
}

// Empty says whether nothing is in it.
func (c *Change) Empty() bool { return len(c.clocks) == 0 }

// Clocks gives the clocks in it.
func (c *Change) Clocks() []*Clock { return c.clocks }

// Clear takes everything out.
func (c *Change) Clear() { c.clocks = c.clocks[:0] }

// Touches says whether the change may have altered what a result with these readings depends on. Every, which is in
// all readings, stands for every table.
func (c *Change) Touches(r Readings) bool {
	for _, k := range c.clocks {
		if k.Name == "" || slices.Contains(r, k) {
			return true
		}
	}
	return false
}

// Begin moves the clocks and makes the change pending. It must be called before the write, or the commit, is sent.
func (c Change) Begin() Pending {
	p := Pending{clocks: slices.Clone(c.clocks)}
	for _, k := range p.clocks {
		k.begin()
	}
	return p
}

// Pending is a change whose outcome has not arrived. Its zero value is none.
type Pending struct {
	clocks []*Clock
}

// Add makes a further change part of the pending one.
func (p *Pending) Add(more Pending) { p.clocks = append(p.clocks, more.clocks...) }

// Clocks gives what is pending.
func (p *Pending) Clocks() []*Clock { return p.clocks }

// Empty says whether nothing is pending.
func (p *Pending) Empty() bool { return len(p.clocks) == 0 }

// End says that the outcome has arrived. It must be called before the writer gets it.
func (p *Pending) End() {
	for _, k := range p.clocks {
		k.end()
	}
	p.clocks = nil
}

// Settle ends a change whose outcome never arrived: the clocks move once more, since it may have come true late.
func (p *Pending) Settle() {
	for _, k := range p.clocks {
		k.changes.Add(1)
	}
	p.End()
}

// disabled switches safeguards off, for tests that show that the checker finds what they guard against.
var disabled struct {
	clockMoved, pendingAtSending bool
}
