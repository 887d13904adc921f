package engine

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/statement"
)

// Feed takes what a change feed tells of one database. It is safe for concurrent use.
type Feed struct {
	e  *Engine
	db *database

	following atomic.Bool

	mu   sync.Mutex
	told time.Time // all that was committed before has been told, but of tables that are counted
	own  map[string][]time.Time

	counted     map[string]bool // tables of which only counters tell
	countedTold time.Time       // all that was committed before has been told of those
}

// RowChange is one row that a committed transaction has written, or, without values, any rows of the table.
type RowChange struct {
	Schema, Table string
	Kind          analysis.Events
	// Old and New are the values of its columns before and after, as far as they are known.
	Old, New []ColumnValue
	// Sets are the columns that an update has changed, where that is known, and Told those that a change of would be
	// told.
	Sets, Told []string
}

// ColumnValue is the value of a column as text in UTF-8, or nil for null.
type ColumnValue struct {
	Column string
	Value  []byte
}

// Feed gives the one of a database.
func (e *Engine) Feed(origin, database string) *Feed {
	db := e.database(origin, database)
	return &db.feed
}

// Changed takes what one transaction has written that was committed around the larder or through it.
func (f *Feed) Changed(rows []RowChange, now time.Time) { f.Committing(rows, now)() }

// Unsure takes what may have been written, perhaps before anybody looked.
func (f *Feed) Unsure(rows []RowChange, now time.Time) { f.changed(rows, false, now)() }

// Committing is Changed for a transaction that not everybody may see yet, although the server has told of it. A read of
// this moment may still show the rows as they were, so that none is cached until visible is called.
func (f *Feed) Committing(rows []RowChange, now time.Time) (visible func()) {
	return f.changed(rows, true, now)
}

func (f *Feed) changed(rows []RowChange, sure bool, now time.Time) (visible func()) {
	var c freshness.Change
	tables := map[string]*toldTable{}
	schema := f.db.current()
	around := false
	for i := range rows {
		r := &rows[i]
		name := r.Schema + "." + r.Table
		t := tables[name]
		if t == nil {
			t = &toldTable{clock: f.db.clocks.Table(name), told: catalog.ToldTable}
			if tables[name] = t; schema != nil {
				t.told, t.columns = schema.Told(r.Schema, r.Table), schema.PinColumns(r.Schema, r.Table)
			}
			if t.told == catalog.ToldLess {
				c.Add(f.db.clocks.Every)
			}
			around = sure && f.countsAround(name, now) || around
		}
		c.AddPart(f.part(r, t, schema))
	}
	return f.begin(c, around, now)
}

// toldTable is what is known of a table of which a feed tells.
type toldTable struct {
	clock   *freshness.Clock
	told    catalog.Told
	columns []catalog.Column // whose values are told apart
}

// countsAround counts a change of a table that is of none of the larder's clients, and says whether it is one.
func (f *Feed) countsAround(table string, now time.Time) bool {
	around := f.isAround(table, now)
	if around {
		f.e.countAround(table)
	}
	return around
}

// part gives what a row's change may have altered.
func (f *Feed) part(r *RowChange, t *toldTable, schema catalog.Schema) freshness.Part {
	part := freshness.Part{Clock: t.clock}
	if t.told != catalog.ToldRows {
		return part
	}
	part.Adds = r.Kind == analysis.Insert
	if r.Kind == analysis.Update && len(r.Sets) > 0 {
		part.Sets = schema.Assigned(r.Schema, r.Table, r.Sets, r.Told)
	}
	if r.Kind&analysis.Truncate == 0 {
		for _, column := range t.columns {
			if hashes, ok := r.hashes(&f.db.dialect.Values, column); ok {
				part.Values = append(part.Values, freshness.Values{Column: column.Name, Hashes: hashes})
			}
		}
	}
	return part
}

// begin moves the clocks of what a feed tells of.
func (f *Feed) begin(c freshness.Change, around bool, now time.Time) (end func()) {
	p := c.Begin()
	f.e.told(f.db, &c, &p, around, now)
	return p.End
}

// Ran is Committing for a statement of which the server tells as text, and in which schema it ran. Own is set if it uses
// temporary tables, of which the catalog has no names. One that may do anything, or change a definition, moves every
// clock of the origin.
func (f *Feed) Ran(s *statement.Syntax, path, text string, own bool, now time.Time) (visible func()) {
	facts := f.db.dialect.Facts(s, text)
	f.db.privileges.mayChange(facts, false, now)
	schema := f.db.current()
	if schema == nil {
		return f.Redefining(now)
	}
	does := schema.Resolve(facts, catalog.Hints{Path: []string{path}})
	if own && does.IfOwn != nil {
		does = does.IfOwn
	}
	if does.Everything || does.SchemaChanges || does.Granted || len(does.Defines) > 0 || facts.Effect&(analysis.Schema|analysis.Unknown|analysis.Shared) != 0 {
		return f.Redefining(now)
	}
	var c freshness.Change
	around := false
	for _, name := range does.Writes {
		c.Add(f.db.clocks.Table(name))
		around = f.countsAround(name, now) || around
	}
	return f.begin(c, around, now)
}

// hashes gives those of a column's values before and after, if they are known.
func (r *RowChange) hashes(read *dialect.Values, column catalog.Column) (all []uint64, ok bool) {
	var sides [][]ColumnValue
	if r.Kind != analysis.Insert {
		sides = append(sides, r.Old)
	}
	if r.Kind != analysis.Delete {
		sides = append(sides, r.New)
	}
	for _, side := range sides {
		i := slices.IndexFunc(side, func(v ColumnValue) bool { return v.Column == column.Name })
		if i < 0 {
			return nil, false
		}
		if side[i].Value == nil {
			continue // which nothing is equal to
		}
		v, ok := read.Read(dialect.Written{Bytes: side[i].Value, UTF8: true}, column.Type)
		if !ok {
			return nil, false
		}
		all = append(all, v.Hash())
	}
	return all, true
}

// Lost takes into account that the feed may have left out something: every clock of the database moves.
func (f *Feed) Lost(now time.Time) {
	if freshness.Off(freshness.FeedGaps) {
		return
	}
	var c freshness.Change
	c.Add(f.db.clocks.Every)
	f.begin(c, true, now)()
}

// Redefined takes into account that a table turned out to be defined otherwise than before.
func (f *Feed) Redefined(now time.Time) { f.Redefining(now)() }

// Redefining is Redefined where not everybody may see that yet; see Committing.
func (f *Feed) Redefining(now time.Time) (visible func()) {
	var c freshness.Change
	c.Add(f.e.everyDatabase(f.db.origin)...)
	return f.begin(c, true, now)
}

// Running notes whether the feed is being followed.
func (f *Feed) Running(on bool) { f.following.Store(on) }

// Told notes that all that was committed before a moment has been told.
func (f *Feed) Told(before time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if before.After(f.told) {
		f.told = before
	}
}

// Counted notes the same of tables of which only counters tell, which comes later.
func (f *Feed) Counted(tables []string, before time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.counted, f.countedTold = map[string]bool{}, before
	for _, t := range tables {
		f.counted[t] = true
	}
}

// mostPatience is how long a suspect waits for a feed that is being followed.
const mostPatience = 30 * time.Second

// follows says whether what is written to some tables directly is told soon, if it is not told yet.
func (f *Feed) follows(tables []string, now time.Time) bool {
	if !f.following.Load() {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, t := range tables {
		told := f.told
		if f.counted[t] {
			told = f.countedTold
		}
		if now.Sub(told) > mostPatience {
			return false
		}
	}
	return true
}

// passed says whether all is told of some tables that was committed before a moment, or will not be.
func (f *Feed) passed(tables []string, at, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.following.Load() || now.Sub(at) > mostPatience {
		return true
	}
	for _, t := range tables {
		told := f.told
		if f.counted[t] {
			told = f.countedTold
		}
		if !told.After(at) {
			return false
		}
	}
	return true
}

// wroteThrough notes that clients of the larder wrote tables, so that the feed's telling of it is not taken for a write
// around.
func (f *Feed) wroteThrough(parts []freshness.Part, now time.Time) {
	if !f.following.Load() {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.own == nil {
		f.own = map[string][]time.Time{}
	}
	for i, p := range parts {
		t := p.Clock.Name
		if slices.ContainsFunc(parts[:i], func(o freshness.Part) bool { return o.Clock == p.Clock }) {
			continue
		}
		if list := f.own[t]; len(list) < mostOwn {
			f.own[t] = append(list, now)
		}
	}
}

const (
	// mostOwn bounds the writes through the larder of each table that are remembered until the feed tells of them.
	mostOwn = 4096
	// echoTime is how long that may take, where only counters tell.
	echoTime = 15 * time.Second
)

// isAround says whether a table's change that the feed tells of is of none of the larder's clients: there are no more
// such changes than those had time to be told.
func (f *Feed) isAround(table string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	list := f.own[table]
	for len(list) > 0 && now.Sub(list[0]) > echoTime {
		list = list[1:]
	}
	if len(list) > 0 {
		f.own[table] = list[1:]
		return false
	}
	delete(f.own, table)
	return true
}

// told notes what a feed has moved, for the next reclaim.
func (e *Engine) told(db *database, c *freshness.Change, p *freshness.Pending, around bool, now time.Time) {
	w := &WriteSeen{At: now, Database: db.name, Around: around, parts: c.Parts()}
	e.toReclaim(db, p, w)
}

// countAround counts a write around the larder.
func (e *Engine) countAround(table string) {
	k := &e.keepers
	k.mu.Lock()
	defer k.mu.Unlock()
	t := k.table(table)
	t.Writes++
	t.Around++
}
