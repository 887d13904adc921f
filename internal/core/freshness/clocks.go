// Package freshness keeps the clocks that say whether a kept result is still true.
//
// Every table has a clock, which counts the changes that may have touched it. A result remembers the clocks of all it
// read, taken before its statement was sent to the origin, and is valid while none of them has moved. A write moves the
// clocks of what it may change when it is sent, and stays pending until the origin's reply has arrived.
//
// Where a result depends only on the rows that have certain values in certain columns, it remembers counters of those
// values instead of the table's clock; see Key.
//
// Why that is enough. A result's snapshot lies between its sending and its last byte; a commit lies between its sending
// and its reply. If the snapshot came before the commit and the result is stored after, either the clock moved in
// between or the write was pending when the statement was sent, and the store is refused. While a write is pending
// nothing valid exists for its tables, so no reader can see old after another saw new.
package freshness

import (
	"sync"
	"sync/atomic"
	"unsafe"
)

// Counter counts the changes of something, and how many of them are under way.
type Counter struct {
	changes atomic.Uint64
	pending atomic.Int32
	used    atomic.Uint32 // of a key's counters: a reading rests on it, or did
}

// Changes is how often it has moved.
func (c *Counter) Changes() uint64 { return c.changes.Load() }

// Pending says whether a change of it is under way.
func (c *Counter) Pending() bool { return c.pending.Load() != 0 }

// begin is called before the write is sent. Pending is raised before the counter moves: who sees it moved, and
// so would take it for the present, must also see that the write is under way.
func (c *Counter) begin() {
	c.pending.Add(1)
	c.changes.Add(1)
}

func (c *Counter) end() { c.pending.Add(-1) }

// Clock is one table's count of changes, whichever of its rows they are of.
type Clock struct {
	// Name is the table's full name, or empty for the clock of the whole database.
	Name string

	Counter
	moved atomic.Uint64 // the sequence of its last change, when that began or ended

	mu   sync.Mutex // for making keys, and more counters for them
	keys atomic.Pointer[[]*Key]

	columns atomic.Pointer[[]*Column]
}

// sequence counts the beginnings and ends of changes, of all clocks there are.
var sequence atomic.Uint64

// Sequence gives a moment for UnmovedSince.
func Sequence() uint64 { return sequence.Load() }

// moves notes that the clock moves, before that is over.
func (c *Clock) moves() { c.moved.Store(sequence.Add(1)) }

// UnmovedSince says whether nothing has changed, or been about to, from a moment to this one.
func (r Dependencies) UnmovedSince(moment uint64) bool {
	for _, c := range r {
		if c.pending.Load() != 0 || c.moved.Load() > moment {
			return false
		}
	}
	return true
}

// Clocks are the clocks of one database. Its zero value is not ready; use New.
type Clocks struct {
	// Every moves with a change that may have touched any table. Every stamp holds it.
	Every *Clock
	// Schema moves with a change after which the catalog may be another. No result's stamp holds it: such a change
	// moves Every as well.
	Schema *Clock
	// System moves with a change of the system catalogs that nobody's other results rest on, such as a temporary table.
	// Whatever moves Every may have changed them too.
	System *Clock
	// Grants moves when privileges on tables are given or taken through the larder. What is known of who may read what
	// is out of date then; the results that come from these tables have their own clocks.
	Grants *Clock
	// Shape moves when a definition turns out to have been changed around the larder, or what is declared of one.
	Shape *Clock

	mu     sync.RWMutex
	tables map[string]*Clock
}

// New makes the clocks of one database.
func New() *Clocks {
	return &Clocks{
		Every:  &Clock{},
		Schema: &Clock{Name: schemaClock},
		System: &Clock{Name: systemClock},
		Shape:  &Clock{Name: shapeClock},
		Grants: &Clock{Name: grantsClock},
		tables: map[string]*Clock{},
	}
}

// mostTables is how many tables have a clock of their own.
const mostTables = 100_000

// The names of the clocks that are no table's. No table is named so.
const (
	schemaClock = "(schema)"
	systemClock = "(system catalogs)"
	shapeClock  = "(definitions)"
	grantsClock = "(privileges)"
)

// Table gives the clock of a table by its full name, the same one at every call.
//
// Names come from statements as well, and may be no table's. Beyond a bound all others share the clock of everything.
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
	if len(c.tables) >= mostTables {
		return c.Every // which every write moves
	}
	t = &Clock{Name: name}
	c.tables[name] = t
	return t
}

// Bytes is how much memory the counters of all keys take: what must be known of values to tell what a write changes.
func (c *Clocks) Bytes() (n int64) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for _, t := range c.tables {
		keys := t.keys.Load()
		if keys == nil {
			continue
		}
		for _, k := range *keys {
			for _, x := range *k.cells.Load() {
				n += int64(len(x.byHash)) * int64(unsafe.Sizeof(Counter{}))
			}
		}
	}
	return n
}
