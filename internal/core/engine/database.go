package engine

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/rules"
)

// database is what one database behind an origin, or a whole server, has for itself (see dialect.Realm): its clocks, and
// its catalog while that is known to be true.
type database struct {
	origin  string
	name    string // with the origin's before it, if that has one
	dialect *dialect.Dialect
	clocks  *freshness.Clocks

	catalog atomic.Pointer[reading]

	mu        sync.Mutex
	asking    bool                // a session is reading the catalog
	askNext   time.Time           // not before
	askSoon   time.Time           // nor what some definitions have changed alone
	plain     bool                // it cannot be described whole
	described catalog.Description // as it was described
	reader    catalog.Reader      // what has been read of it
	round     round               // of reading it

	// blind are the patterns that wrote while the catalog was not known: with it in hand, they tell whether it may be
	// out of date already.
	blind map[*Pattern]struct{}

	versions    versions
	definitions definitions
	unreviewed  atomic.Pointer[[]string] // the settings of which it is not known what they do to results
	outdated    atomic.Uint64            // counts what may have made settings that sessions told others, or too few

	handovers  handovers
	privileges privileges
	feed       Feed

	habits sync.Map // by asker: *habit
	askers atomic.Int64
}

// mostAskers bounds the habits that are remembered.
const mostAskers = 10_000

// habit is whether the sessions of one user's one application come to need their settings, as they lately did: above
// zero if they mostly do.
type habit struct{ score atomic.Int32 }

// note takes in one more session.
func (h *habit) note(needed bool) {
	for {
		old := h.score.Load()
		now := max(old-1, 0)
		if needed {
			now = min(old+2, 8)
		}
		if h.score.CompareAndSwap(old, now) {
			return
		}
	}
}

// habit gives that of an asker, a fresh one if it is to be made, or else nil.
func (db *database) habit(a asker, make bool) *habit {
	if h, ok := db.habits.Load(a); ok {
		return h.(*habit)
	}
	if !make {
		return nil
	}
	h, had := db.habits.LoadOrStore(a, &habit{})
	if !had && db.askers.Add(1) > mostAskers {
		db.habits.Clear() // names come from clients; those still in use are soon there again
		db.askers.Store(0)
	}
	return h.(*habit)
}

// round is one reading of a catalog, in as many questions as that takes, from whichever sessions are at rest.
type round struct {
	schemaAt uint64 // what the schema's clock showed when it began
	schema   freshness.Stamp
	grants   freshness.Stamp
	count    uint64        // how many beginnings and ends of changed definitions there had been
	open     []*definition // those that had ended
	short    bool          // it is for these alone
	first    bool          // nothing was known before
	took     time.Duration // what the questions took
}

// reading is a catalog as it was read. It is itself like a kept result: true while nothing has happened that may have
// changed the schema.
type reading struct {
	read   catalog.Schema // as it was read
	schema catalog.Schema // with what the DBA declared
	stamp  freshness.Stamp
	grants freshness.Stamp // and what it says of privileges, while this is valid
	at     time.Time
	asked  uint64 // how many beginnings and ends of changed definitions there had been when it was asked for
}

// younger says whether the catalog is known, and was read whole so lately.
func (db *database) younger(now time.Time, age time.Duration) bool {
	c := db.catalog.Load()
	return c != nil && c.stamp.Valid() && c.grants.Valid() && now.Sub(c.at) < age
}

// forgets has the whole catalog be read anew.
func (db *database) forgets() {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.reader = db.dialect.Catalog(db.plain)
}

// declare has the catalog hold what a set of rules declares.
func (db *database) declare(set *rules.Set) {
	db.mu.Lock()
	defer db.mu.Unlock()
	if c := db.catalog.Load(); c != nil {
		db.catalog.Store(&reading{c.read, c.read.With(set.Functions()), c.stamp, c.grants, c.at, c.asked})
	}
}

// unreviewedIn gives the settings that a description names of which it is not known what they do to results.
func unreviewedIn(d catalog.Description) []string {
	if c, ok := d.(catalog.Configured); ok {
		return c.Unreviewed()
	}
	return nil
}

// reviews takes these settings over. Sessions that were asked for others are asked anew.
func (db *database) reviews(names []string) {
	if !slices.Equal(names, db.unreviewedSettings()) {
		db.unreviewed.Store(&names)
		db.outdated.Add(1)
	}
}

// unreviewedSettings gives what was taken last.
func (db *database) unreviewedSettings() []string {
	if names := db.unreviewed.Load(); names != nil {
		return *names
	}
	return nil
}

// Unreviewed gives the settings of a database's server of which it is not known what they do to results.
func (e *Engine) Unreviewed(origin, database string) []string {
	return e.database(origin, database).unreviewedSettings()
}

// catalogPause is how many times as long as its last reading took the catalog is left unread. Where statements of
// unknown effect keep coming, the origin must not be busy with answering about its schema.
const catalogPause = 4

func (e *Engine) database(origin, name string) *database {
	d := e.dialect(origin)
	if d.Realm == dialect.Server {
		name = ""
	}
	if origin != "" {
		name = origin + "/" + name // no origin's name holds a slash
	}
	e.mu.RLock()
	db := e.databases[name]
	e.mu.RUnlock()
	if db != nil {
		return db
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if db := e.databases[name]; db != nil {
		return db
	}
	db = &database{origin: origin, name: name, dialect: d, clocks: freshness.New(), reader: d.Catalog(false)}
	db.feed.e, db.feed.db = e, db
	e.databases[name] = db
	return db
}

// current gives the catalog, or nil while it is not known.
func (db *database) current() catalog.Schema {
	if c := db.catalog.Load(); c != nil && c.stamp.Valid() {
		return c.schema
	}
	return nil
}

// definitions gives the clocks that move when what a pattern does may change a definition: those of its database, and
// those of all databases of the origin if that may be of something common to them, such as a role, or if it may reach
// them.
func (e *Engine) definitions(db *database, does *catalog.Resolved) []*freshness.Clock {
	if !does.Beyond {
		return []*freshness.Clock{db.clocks.Every, db.clocks.Schema}
	}
	return e.everyDatabase(db.origin)
}

// knowsPrivileges says whether it is known who may read what.
func (db *database) knowsPrivileges() bool {
	c := db.catalog.Load()
	return c != nil && c.grants.Valid()
}

// everyDatabase gives those of all databases of an origin.
func (e *Engine) everyDatabase(origin string) []*freshness.Clock {
	e.mu.RLock()
	defer e.mu.RUnlock()
	all := make([]*freshness.Clock, 0, len(e.databases))
	for _, db := range e.databases {
		if db.origin == origin {
			all = append(all, db.clocks.Every, db.clocks.Schema)
		}
	}
	return all
}

// Databases calls f for every database that was connected to: its name, whether its catalog is known, with who may read
// what, and describes it whole, and its tables.
func (e *Engine) Databases(f func(name string, known, whole bool, tables []string)) {
	e.mu.RLock()
	list := make([]*database, 0, len(e.databases))
	for _, db := range e.databases {
		list = append(list, db)
	}
	e.mu.RUnlock()
	for _, db := range list {
		var tables []string
		schema := db.current()
		if schema != nil {
			tables = schema.Tables()
		}
		f(db.name, schema != nil && db.knowsPrivileges(), schema != nil && schema.Whole(), tables)
	}
}

// wroteBlindly notes a write made while the catalog was not known.
func (db *database) wroteBlindly(p *Pattern) {
	db.mu.Lock()
	defer db.mu.Unlock()
	db.noteBlind(p)
}

// noteBlind is wroteBlindly with mu held.
func (db *database) noteBlind(p *Pattern) {
	if db.blind == nil {
		db.blind = map[*Pattern]struct{}{}
	}
	db.blind[p] = struct{}{}
}

// blindEnded follows the end of what was written while the catalog was not known. If that has become known meanwhile,
// it may have been read before the end, and so may not show what was done; if not, whoever is reading it now must learn
// of it.
func (e *Engine) blindEnded(db *database, patterns []*Pattern) {
	db.mu.Lock()
	schema := db.current()
	for _, p := range patterns {
		if schema == nil {
			db.noteBlind(p)
		}
	}
	db.mu.Unlock()
	if schema == nil {
		return
	}
	for _, p := range patterns {
		if does := schema.Resolve(p.Facts, catalog.Hints{}); does.SchemaChanges {
			move(e.definitions(db, does)...)
			if does.Beyond {
				return
			}
		}
	}
}

// unsettled is a write whose outcome never arrived.
type unsettled struct {
	db      *database
	pending freshness.Pending
	until   time.Time
}

func (e *Engine) settle(now time.Time) {
	e.mu.Lock()
	var due []unsettled
	kept := e.unsettled[:0]
	for _, u := range e.unsettled {
		if now.Before(u.until) {
			kept = append(kept, u)
		} else {
			due = append(due, u)
		}
	}
	e.unsettled = kept
	e.mu.Unlock()
	for _, u := range due {
		e.toReclaim(u.db, &u.pending, nil)
		u.pending.Settle()
	}
}
