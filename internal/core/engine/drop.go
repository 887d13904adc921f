package engine

import (
	"maps"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/store"
)

// keepers counts what writes did to each table, and remembers what they moved until the results that they dropped have
// been taken out. A write does not wait for that: results are invalid from the moment that a counter moves.
type keepers struct {
	mu      sync.Mutex
	moved   map[*freshness.Counter]moved // since the last reclaim
	tables  map[string]*TableDrops
	recent  []*WriteSeen // the last that dropped something
	rotated time.Time
}

// moved is whose counter has moved, and by what write last.
type moved struct {
	db    *database
	clock *freshness.Clock
	write *WriteSeen
}

// TableDrops is what writes to one table did.
type TableDrops struct {
	Table         string
	Writes, Drops uint64
	// Narrow are the writes of which it was known which rows they alter.
	Narrow uint64
	// Around are the writes that no client of the larder sent.
	Around   uint64
	LastDrop time.Time
	// Minute is how many writes there were in the last minute.
	Minute uint64

	of    map[statement.ID]uint64 // the drops by pattern; an empty ID is for those of patterns beyond a bound
	slots [12]uint64              // of five seconds each: writes in all, when the slot began
	slot  int
}

// mostDroppedOf bounds the patterns that drops are told apart by, for each table.
const mostDroppedOf = 64

// dropped counts results that were dropped, by pattern.
func (t *TableDrops) dropped(of map[statement.ID]uint64) {
	for id, n := range of {
		t.Drops += n
		if _, known := t.of[id]; !known && len(t.of) >= mostDroppedOf {
			id = ""
		}
		if t.of == nil {
			t.of = map[statement.ID]uint64{}
		}
		t.of[id] += n
	}
}

// rotate begins the next slot.
func (t *TableDrops) rotate() {
	t.slot = (t.slot + 1) % len(t.slots)
	t.Minute = t.Writes - t.slots[t.slot]
	t.slots[t.slot] = t.Writes
}

// WriteSeen is a write, or a transaction, that dropped something.
type WriteSeen struct {
	At       time.Time
	Database string
	// Pattern is that of the statement that made it count: of the write, or the end of its transaction. It is nil for
	// what a feed told, and Around is set if that was of no client of the larder.
	Pattern     *Pattern
	Around      bool
	Application string
	// Tables are those it wrote, and By the columns by which it was known what rows of them, or none.
	Tables, By []string
	// Dropped are the results that it dropped, by pattern, and Saved how many others rest on the same tables.
	Dropped map[statement.ID]int
	Saved   int

	parts []freshness.Part // what Tables and By are made of, when it drops something
}

// told fills in what is told of a write that dropped something.
func (w *WriteSeen) told() {
	for _, part := range w.parts {
		if !slices.Contains(w.Tables, part.Clock.Name) {
			w.Tables = append(w.Tables, part.Clock.Name)
		}
		for _, v := range part.Values {
			if name := part.Clock.Name + "." + v.Column; !slices.Contains(w.By, name) && w.Pattern != nil {
				w.By = append(w.By, name)
			}
		}
	}
	w.parts = nil
}

// mostRecent bounds the writes that are remembered.
const mostRecent = 64

// keep puts a result into memory.
func (e *Engine) keep(key []byte, entry *store.Entry) {
	if old := e.store.Get(entry.Rule, key); old != nil && !old.Stamp.Valid() {
		e.drop(old)
	}
	for _, o := range e.opts.Observers {
		o.Cached(key, entry.Reply)
	}
	e.store.Put(key, entry)
}

// toReclaim has what rests on the counters that a change has moved taken out. What a client's write has moved already
// stays its own.
func (e *Engine) toReclaim(db *database, p *freshness.Pending, w *WriteSeen) {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	p.Moved(func(clock *freshness.Clock, c *freshness.Counter) {
		if k.moved[c].write == nil {
			k.moved[c] = moved{db, clock, w}
		}
	})
}

// source is the statement that made a write count, and whose it was.
type source struct {
	pattern     *Pattern
	application string
	blind       bool // it was only asked, while the catalog was not known
}

// wrote notes that a write moved clocks, for the next reclaim.
func (e *Engine) wrote(db *database, c *freshness.Change, p *freshness.Pending, by source, now time.Time) {
	w := &WriteSeen{At: now, Database: db.name, Pattern: by.pattern, Application: by.application, parts: c.Parts()}
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range w.parts {
		t := k.table(w.parts[i].Clock.Name)
		t.Writes++
		if len(w.parts[i].Values) > 0 {
			t.Narrow++
		}
	}
	p.Moved(func(clock *freshness.Clock, c *freshness.Counter) { k.moved[c] = moved{db, clock, w} })
	db.feed.wroteThrough(w.parts, now)
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
	if !e.store.Release(entry) {
		return false
	}
	e.store.Remove(entry)
	for _, o := range e.opts.Observers {
		o.Dropped(entry)
	}
	e.Ledger.Drops.Add(1)
	entry.Numbers.Drops.Add(1)
	if r := entry.Rule; r != nil && r.Refetch && entry.Uses.Load() > 0 {
		if key, ok := e.identities.spell(entry.Key()); ok {
			e.again.add(key, r.Name, mostAgain)
		}
	}
	return true
}

// release takes an entry out that is not wrong but no longer wanted.
func (e *Engine) release(entry *store.Entry) bool {
	if !e.store.Release(entry) {
		return false
	}
	e.store.Remove(entry)
	return true
}

// reclaim frees the memory of results that writes dropped, and tells the observers.
func (e *Engine) reclaim(now time.Time) {
	k := &e.keepers
	k.mu.Lock()
	todo := k.moved
	if len(todo) == 0 {
		k.mu.Unlock()
		return
	}
	k.moved = map[*freshness.Counter]moved{}
	k.mu.Unlock()
	type total struct {
		db    *database
		table string
		of    map[statement.ID]uint64
	}
	totals := map[*freshness.Clock]*total{}
	var list []*store.Entry
	for _, whole := range []bool{false, true} { // a table before the whole
		for counter, m := range todo {
			if whole != (m.clock.Name == "") {
				continue
			}
			list = e.store.DependOn(counter, list[:0])
			for _, entry := range list {
				if entry.Stamp.Valid() || !e.drop(entry) { // kept anew after the write, or dropped already
					continue
				}
				t := totals[m.clock]
				if t == nil {
					t = &total{m.db, m.clock.Name, map[statement.ID]uint64{}}
					totals[m.clock] = t
				}
				t.of[entry.Pattern]++
				if m.write != nil {
					e.droppedBy(m, entry)
				}
			}
		}
	}
	k.mu.Lock()
	for _, t := range totals {
		count := k.table(t.table)
		count.dropped(t.of)
		count.LastDrop = now
	}
	k.mu.Unlock()
	for _, t := range totals {
		dropped := 0
		for _, n := range t.of {
			dropped += int(n)
		}
		for _, o := range e.opts.Observers {
			o.Reclaimed(now, t.db.name, t.table, dropped)
		}
	}
}

// droppedBy notes which write dropped an entry.
func (e *Engine) droppedBy(m moved, entry *store.Entry) {
	k := &e.keepers
	saved := e.store.Readers(m.clock)
	k.mu.Lock()
	defer k.mu.Unlock()
	w := m.write
	if w.Dropped == nil {
		w.told()
		w.Dropped = map[statement.ID]int{}
		k.recent = append(k.recent, w)
		if len(k.recent) > mostRecent {
			k.recent = slices.Delete(k.recent, 0, 1)
		}
	}
	w.Dropped[entry.Pattern]++
	w.Saved = saved
}

// RecentWrites gives the last writes that dropped something, the latest last.
func (e *Engine) RecentWrites() []WriteSeen {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	out := make([]WriteSeen, 0, len(k.recent))
	for _, w := range k.recent {
		c := *w
		c.Dropped = maps.Clone(w.Dropped)
		out = append(out, c)
	}
	return out
}

// rotate closes the slots of the tables' writes that have ended by now.
func (k *keepers) rotate(now time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if now.Sub(k.rotated) < 5*time.Second {
		return
	}
	k.rotated = now
	for _, t := range k.tables {
		t.rotate()
	}
}

// WritesAMinute gives how many writes of the last minute may have changed one of some tables.
func (e *Engine) WritesAMinute(tables []string) uint64 {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	var n uint64
	if t := k.tables[""]; t != nil {
		n = t.Minute
	}
	for _, name := range tables {
		if t := k.tables[name]; t != nil {
			n += t.Minute
		}
	}
	return n
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

// DroppedOf gives how many results of each pattern were dropped by writes to each table.
func (e *Engine) DroppedOf() map[string]map[statement.ID]uint64 {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	out := map[string]map[statement.ID]uint64{}
	for name, t := range k.tables {
		if len(t.of) > 0 {
			out[name] = maps.Clone(t.of)
		}
	}
	return out
}

// DropPattern takes out every result of a pattern and gives their number. As with all that is dropped by hand, what is
// being fetched at that moment is not kept either: she knows of a change that the larder has not seen, and the fetch may
// have come before it.
func (e *Engine) DropPattern(id statement.ID) int {
	p := e.Pattern(id)
	if p == nil {
		return 0
	}
	move(&p.clock)
	return e.dropWhere(func(entry *store.Entry) bool { return entry.Pattern == id })
}

// DropRule takes out every result of the patterns that a rule may decide for, and gives their number.
func (e *Engine) DropRule(name string) (n int) {
	return e.dropPatterns(func(p *Pattern) bool {
		return slices.ContainsFunc(e.RulesOf(p), func(r *rules.Rule) bool { return r.Name == name })
	})
}

// dropPatterns takes out every result of some patterns.
func (e *Engine) dropPatterns(is func(*Pattern) bool) int {
	ids := map[statement.ID]bool{}
	e.patterns.each(func(p *Pattern) {
		if is(p) {
			move(&p.clock)
			ids[p.ID] = true
		}
	})
	return e.dropWhere(func(entry *store.Entry) bool { return ids[entry.Pattern] })
}

// DropTable takes out every result that rests on a table, named in full, also those that only their age ends, and gives
// their number.
func (e *Engine) DropTable(table string) int {
	e.mu.RLock()
	for _, db := range e.databases {
		move(db.clocks.Table(table))
	}
	e.mu.RUnlock()
	// Results that are answered whatever is written do not rest on its clock.
	aged := e.dropPatterns(func(p *Pattern) bool {
		return slices.ContainsFunc(e.RulesOf(p), func(r *rules.Rule) bool { return r.TTLOnly }) &&
			slices.Contains(e.Does(p).Reads, table)
	})
	return aged + e.dropWhere(func(entry *store.Entry) bool {
		return slices.ContainsFunc(entry.Dependencies, func(c *freshness.Clock) bool { return c.Name == table })
	})
}

// DropAll takes out every result, and gives their number.
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

// KeptReading gives how many results are kept that rest on a table, named in full.
func (e *Engine) KeptReading(table string) (n int) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, db := range e.databases {
		clock := db.clocks.Table(table)
		if table == "" {
			clock = db.clocks.Every
		}
		n += e.store.Readers(clock)
	}
	return n
}
