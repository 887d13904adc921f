package engine

import (
	"maps"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/store"
)

// keepers remembers which entries rest on which clock, so that what a write dropped is found without looking at the
// rest. The write itself does not wait for it: its results are invalid from the moment the clock moves.
type keepers struct {
	mu     sync.Mutex
	lists  map[string][]*store.Entry // by table, in full; "" for the whole database
	pruned map[string]int            // length of a list after it was last pruned
	moved  map[string]bool           // tables whose clock moved since the last reclaim
	tables map[string]*TableDrops
}

// TableDrops is what writes to one table did.
type TableDrops struct {
	Table         string
	Writes, Drops uint64
	LastDrop      time.Time
}

func clockName(db *database, c *freshness.Clock) string { return db.name + "\x00" + c.Name }

// keep puts a result into memory.
func (e *Engine) keep(db *database, key []byte, entry *store.Entry) {
	if old := e.store.Get(key); old != nil && !old.Stamp.Valid() {
		e.drop(old)
	}
	e.store.Put(key, entry)
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.pruned == nil {
		k.pruned, k.moved = map[string]int{}, map[string]bool{}
	}
	for _, c := range entry.Stamp.Readings() {
		name := clockName(db, c)
		list := append(k.lists[name], entry)
		if len(list) > 2*k.pruned[name]+64 {
			list = slices.DeleteFunc(list, (*store.Entry).Gone)
			k.pruned[name] = len(list)
		}
		k.lists[name] = list
	}
}

// wrote notes that a write moved clocks, for the next reclaim.
func (e *Engine) wrote(db *database, clocks []*freshness.Clock) {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.moved == nil {
		k.pruned, k.moved = map[string]int{}, map[string]bool{}
	}
	for _, c := range clocks {
		k.moved[clockName(db, c)] = true
		k.table(c.Name).Writes++
	}
}

func (k *keepers) table(name string) *TableDrops {
	t := k.tables[name]
	if t == nil {
		t = &TableDrops{Table: name}
		k.tables[name] = t
	}
	return t
}

// drop takes an invalid entry out and counts it.
func (e *Engine) drop(entry *store.Entry) bool {
	if !entry.Release() {
		return false
	}
	e.store.Remove(entry)
	e.Ledger.Drops.Add(1)
	entry.Numbers.Drops.Add(1)
	return true
}

// release takes an entry out that is not wrong but no longer wanted.
func (e *Engine) release(entry *store.Entry) bool {
	if !entry.Release() {
		return false
	}
	e.store.Remove(entry)
	return true
}

// reclaim frees the memory of results that writes dropped, and tells the watchers.
func (e *Engine) reclaim(now time.Time) {
	k := &e.keepers
	type work struct {
		name    string
		entries []*store.Entry
	}
	k.mu.Lock()
	if len(k.moved) == 0 {
		k.mu.Unlock()
		return
	}
	var todo []work
	for name := range k.moved {
		todo = append(todo, work{name, k.lists[name]})
		k.lists[name] = nil
	}
	clear(k.moved)
	k.mu.Unlock()
	slices.SortFunc(todo, func(a, b work) int { return len(b.name) - len(a.name) }) // a table before the whole
	for _, w := range todo {
		e.reclaimList(now, w.name, w.entries)
	}
}

func (e *Engine) reclaimList(now time.Time, name string, entries []*store.Entry) {
	i := slices.Index([]byte(name), 0)
	dbName, table := name[:i], name[i+1:]
	dropped := 0
	var still []*store.Entry
	for _, entry := range entries {
		switch {
		case entry.Gone():
		case entry.Stamp.Valid(): // kept anew after the write
			still = append(still, entry)
		case e.drop(entry):
			dropped++
		}
	}
	k := &e.keepers
	k.mu.Lock()
	k.lists[name] = append(k.lists[name], still...)
	t := k.table(table)
	if dropped > 0 {
		t.Drops += uint64(dropped)
		t.LastDrop = now
	}
	k.mu.Unlock()
	if dropped > 0 && e.stream.watched() {
		e.stream.send(Event{At: now, Database: dbName, Table: table, Dropped: dropped})
	}
}

// Tables gives what writes to each table did, by name.
func (e *Engine) Tables() []TableDrops {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []TableDrops
	for _, name := range slices.Sorted(maps.Keys(k.tables)) {
		out = append(out, *k.tables[name])
	}
	return out
}

// DropPattern takes out every result of a pattern and gives their number; DropTable every result that rests on a
// table, named in full; DropAll everything. What is being fetched at that moment is not kept either: who drops by hand
// knows of a change that the larder has not seen, and the fetch may have come before it.
func (e *Engine) DropPattern(id statement.ID) int {
	p := e.Pattern(id)
	if p == nil {
		return 0
	}
	move(&p.clock)
	return e.dropWhere(func(entry *store.Entry) bool { return entry.Pattern == id })
}

// DropTable is described at DropPattern.
func (e *Engine) DropTable(table string) int {
	e.mu.RLock()
	for _, db := range e.databases {
		move(db.clocks.Table(table))
	}
	e.mu.RUnlock()
	return e.dropWhere(func(entry *store.Entry) bool {
		return slices.ContainsFunc(entry.Stamp.Readings(), func(c *freshness.Clock) bool { return c.Name == table })
	})
}

// DropAll is described at DropPattern.
func (e *Engine) DropAll() int {
	e.mu.RLock()
	for _, db := range e.databases {
		move(db.clocks.Every, db.clocks.Schema)
	}
	e.mu.RUnlock()
	return e.dropWhere(func(*store.Entry) bool { return true })
}

func move(clocks ...*freshness.Clock) {
	var c freshness.Change
	c.Add(clocks...)
	p := c.Begin()
	p.End()
}

func (e *Engine) dropWhere(is func(*store.Entry) bool) int {
	n := 0
	e.store.All(func(entry *store.Entry) bool {
		if is(entry) && e.release(entry) {
			n++
		}
		return true
	})
	return n
}

// KeptOf gives how many results of a pattern are kept, and their bytes.
func (e *Engine) KeptOf() map[statement.ID]Holding {
	out := map[statement.ID]Holding{}
	e.store.All(func(entry *store.Entry) bool {
		h := out[entry.Pattern]
		h.Results++
		h.Bytes += int64(entry.Size())
		out[entry.Pattern] = h
		return true
	})
	return out
}

// Holding is what is kept of one pattern.
type Holding struct {
	Results int
	Bytes   int64
}
