package freshness

import (
	"slices"
	"strings"
	"sync/atomic"
)

// Key is one or more columns of a table by whose values rows are told apart. It has counters that are found by a
// hash of the values: two values that share a counter make a change drop too much, never too little.
//
// A change that says what values the rows have that it touches moves the counters of those; a change that does not say
// so for this key's columns moves the counter of all others. A reading of the rows with some values rests on both.
type Key struct {
	// Columns are the columns' names, sorted.
	Columns []string
	// Unique says that no two rows have equal values in them.
	Unique bool

	name  string
	table *Clock
	// The last are those that readings are taken of. Changes move all of them, so that what was taken of the ones
	// before stays as it is.
	cells atomic.Pointer[[]*cells]
	// other moves with changes that do not tell the values, and inserted, where the key is unique, with those of them
	// that only add rows: such a change cannot alter a row that is there.
	other, inserted Counter
}

// cells are the counters of a key. When too many values are told apart by too few of them, there are more from then on.
type cells struct {
	byHash []Counter // a power of two

	// ripe is set when no change is under way any more that began when these were not there yet, and so did not move
	// them.
	ripe atomic.Bool
	used atomic.Int64 // how many of byHash
}

const (
	// mostKeys bounds the keys of a table.
	mostKeys = 16
	// mostCells bounds the counters of a key; each takes 16 bytes.
	mostCells = 1 << 20
	// growth is how many times as many come next, which is when one of crowded is used. Then one change in
	// crowded drops what it need not, at most, but where there are mostCells already.
	growth  = 4
	crowded = 8
	// mostTogether bounds the combinations of values that one change tells of the columns of one key.
	mostTogether = 16
)

// FewestCounters is how many counters a key has at first, a power of two. Values that share one are not told apart: tests
// of what is told apart have more of them, and tests of sharing have fewer.
var FewestCounters = 1 << 8

// Key gives the key of these columns, which must be sorted, the same one at every call; nil if there are too many.
func (c *Clock) Key(columns []string, unique bool) *Key {
	name := strings.Join(columns, "\x00")
	if k := c.key(name, unique); k != nil {
		return k
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.key(name, unique); k != nil {
		return k
	}
	var list []*Key
	if have := c.keys.Load(); have != nil {
		list = *have
	}
	if len(list) >= mostKeys {
		return nil
	}
	k := &Key{Columns: columns, Unique: unique, name: name, table: c}
	k.cells.Store(&[]*cells{{byHash: make([]Counter, FewestCounters)}})
	list = append(slices.Clone(list), k)
	c.keys.Store(&list)
	return k
}

func (c *Clock) key(name string, unique bool) *Key {
	if have := c.keys.Load(); have != nil {
		for _, k := range *have {
			if k.name == name && k.Unique == unique {
				return k
			}
		}
	}
	return nil
}

func (x *cells) of(hash uint64) *Counter { return &x.byHash[hash&uint64(len(x.byHash)-1)] }

// use is of for a reading.
func (x *cells) use(hash uint64) *Counter {
	c := x.of(hash)
	if c.used.Load() == 0 && c.used.CompareAndSwap(0, 1) {
		x.used.Add(1)
	}
	return c
}

// ended says, of cells that others have come after, whether nothing rests on a counter, nor ever will: readings are
// taken of others now, and one that was being taken of these is taken anew; see takePinned.
func ended(c *Counter) bool { return c.used.Load() == 0 || Off(EarlierCells) }

// last gives the cells that readings are taken of.
func (k *Key) last() *cells {
	list := *k.cells.Load()
	return list[len(list)-1]
}

// roomy is last, with more put there first if they are too few. Changes that do not know of them yet are pending on the
// table.
func (k *Key) roomy() *cells {
	x := k.last()
	if n := len(x.byHash); x.used.Load() <= int64(n/crowded) || n >= mostCells {
		return x
	}
	k.table.mu.Lock()
	defer k.table.mu.Unlock()
	if now := k.last(); now != x {
		return now
	}
	more := &cells{byHash: make([]Counter, min(growth*len(x.byHash), mostCells))}
	list := append(slices.Clone(*k.cells.Load()), more)
	k.cells.Store(&list)
	return more
}

// ready says whether all changes under way move these cells.
func (k *Key) ready(x *cells) bool {
	if x.ripe.Load() {
		return true
	}
	if k.table.pending.Load() != 0 && !Off(NewKeysWait) {
		return false
	}
	x.ripe.Store(true)
	return true
}
