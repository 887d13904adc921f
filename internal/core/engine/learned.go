package engine

import (
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
)

// Learned takes the session's settings as its server gave them. They count only if nothing that may have changed
// them was sent after the question.
func (s *Session) Learned(set Settings) {
	s.meets(set.Server)
	if s.asked != s.generation {
		return
	}
	s.settings = set
	s.outdatedAt = s.outdatedAsked
	if s.awaits || s.begunIn == s.generation {
		s.isolation, s.awaits = set.Isolation, false
	}
	s.sharedNumber = s.sharedNumber[:0]
	s.pathKey = strings.Join(set.Path, "\n")
	s.identity = s.appendIdentity(s.identity[:0], s.User, set.Roles)
	s.number = s.e.identities.number(s.number[:0], s.identity)
	s.learnedIdentity()
}

// LearnedSchema takes the only schema of the search path in effect, where nothing else of the settings is known. It holds
// until they are forgotten.
func (s *Session) LearnedSchema(name string) {
	if len(s.identity) == 0 && s.pathKey != name {
		s.settings, s.pathKey = Settings{Path: []string{name}}, name
	}
}

// appendIdentity appends the beginning of the keys, spelled out, of a session in these roles: of the user and its roles, or of
// whoever may share what was fetched, with none.
func (s *Session) appendIdentity(key []byte, user string, roles []string) []byte {
	for _, part := range [...]string{s.Origin, s.Database, user} {
		key = appendPart(key, []byte(part))
	}
	if freshness.Off(freshness.SettingsInKey) {
		return key
	}
	for _, v := range append(roles, s.settings.Values...) {
		key = appendPart(key, []byte(v))
	}
	return key
}

// TakePlainCatalog notes that the database could not describe its schema whole, and is to be asked for less.
func (s *Session) TakePlainCatalog(now time.Time) {
	s.LearnedCatalog(nil, now)
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	s.db.plain, s.db.askNext = true, now
	s.db.reader = s.db.dialect.Catalog(true)
}

// LearnedPart takes the answer to the first of CatalogQuestions that has had none, or nil for none. After the last one
// it gives what is to be called then, at any time and from any goroutine: for a large schema that takes a while.
func (s *Session) LearnedPart(a catalog.Answer, now time.Time) (end func(now time.Time)) {
	if !s.askedSchema || len(s.questions) == 0 {
		return nil
	}
	q := s.questions[0]
	s.questions = s.questions[1:]
	switch done, ok := s.tookPart(q, a, now); {
	case !ok:
		s.LearnedCatalog(nil, now)
	case done:
		s.askedSchema = false
		e, db := s.e, s.db
		return func(now time.Time) {
			db.mu.Lock()
			reader := db.reader
			db.mu.Unlock()
			db.learns(e, nil, reader, now)
		}
	}
	return nil
}

// tookPart has the reader take a part of the catalog.
func (s *Session) tookPart(q catalog.Question, a catalog.Answer, now time.Time) (done, ok bool) {
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	took := now.Sub(s.askedAt)
	s.db.round.took += took
	s.askedAt = now
	if s.elsewhere() && !freshness.Off(freshness.OtherServers) {
		return false, false
	}
	done, ok = s.db.reader.Take(q, a, took)
	if ok && !done && len(s.questions) == 0 {
		s.askedSchema, s.db.asking = false, false
	}
	return done, ok
}

// Unfit notes that what the session's server answers about the catalog cannot be trusted, as it depends on the session:
// others are to be asked.
func (s *Session) Unfit(now time.Time) {
	s.unfit = true
	if s.askedSchema {
		s.db.mu.Lock()
		defer s.db.mu.Unlock()
		s.askedSchema, s.db.asking = false, false
	}
}

// answeredCatalog notes that the question for the catalog was answered, one way or another. It is called with the
// database's lock held.
func (db *database) answeredCatalog(now time.Time) {
	db.asking = false
	db.pauses(now)
}

// pauses leaves the catalog unread for a while. It is called with the database's lock held.
func (db *database) pauses(now time.Time) {
	switch {
	case db.round.first: // the next will cost a small part of it
		db.askNext = now.Add(min(db.round.took/2, time.Second))
	case db.round.short: // which is soon done
		db.askSoon = now.Add(min(db.round.took, time.Second))
	case !db.reader.Changed(): // looking whether it has changed was all
		db.askNext = now.Add(min(2*db.round.took, time.Second))
	default:
		db.askNext = now.Add(min(catalogPause*db.round.took, time.Second))
	}
	db.round.took = 0
}

// settled says whether a catalog that was just read, or found unchanged, can be taken for the present: nothing was sent
// meanwhile that may have changed it. It is called with the database's lock held.
func (db *database) settled(schema catalog.Schema) bool {
	blind := db.blind
	db.blind = nil
	for p := range blind {
		if schema.Resolve(p.Facts, catalog.Hints{}).SchemaChanges {
			return false
		}
	}
	return db.round.schema.Storable()
}

// LearnedCatalog takes the whole description of the database's schema as the server gave it, or nil if it could not.
func (s *Session) LearnedCatalog(d catalog.Description, now time.Time) {
	if !s.askedSchema {
		return
	}
	s.askedSchema = false
	if d == nil || s.elsewhere() && !freshness.Off(freshness.OtherServers) {
		s.db.mu.Lock()
		defer s.db.mu.Unlock()
		s.db.reader.GiveUp()
		s.db.answeredCatalog(now)
		s.db.askNext = now.Add(2 * time.Second)
		return
	}
	s.db.learns(s.e, d, nil, now)
}

// learns takes the description of the schema at the end of a round, from what has been read in it or whole. It is
// called by one at a time: who asks.
func (db *database) learns(e *Engine, whole catalog.Description, reader catalog.Reader, now time.Time) {
	ended := false
	defer func() {
		if !ended { // a fault must not keep the others from reading it
			db.mu.Lock()
			defer db.mu.Unlock()
			db.answeredCatalog(now)
		}
	}()
	have := db.catalog.Load()
	described := db.described
	switch {
	case reader == nil:
		described = whole
	case reader.Changed() || have == nil:
		described = reader.Description()
	}
	// Made before the lock is taken, for which every session of the database may wait.
	same := have != nil && described.Same(db.described)
	var schema catalog.Schema
	var unreviewed []string
	if same {
		schema = have.read
	} else {
		schema, unreviewed = described.Schema(), unreviewedIn(described)
	}
	db.mu.Lock()
	defer db.mu.Unlock()
	if reader == nil {
		db.reader.GiveUp()
	}
	db.answeredCatalog(now)
	ended = true
	have = db.catalog.Load() // with what was declared meanwhile
	declared := schema.With(e.Rules().Functions())
	if reader != nil && reader != db.reader || !db.settled(declared) {
		return
	}
	asked, at := db.round, now
	if asked.short { // it does not look at everything
		at, asked.count = have.at, have.asked
	}
	if have != nil && have.stamp.Valid() {
		db.versions.read(asked.schemaAt, true) // what differs is told by the definitions
	} else {
		db.versions.read(asked.schemaAt, same)
	}
	db.privileges.compares(db.described, described, asked.schema.Valid(), now)
	if same {
		if reader != nil {
			reader.Accept()
		}
		db.holds(asked.open)
		db.catalog.Store(&reading{have.read, have.schema, asked.schema, asked.grants, at, asked.count})
		return
	}
	// What was defined since the round began may have been read, too; it stays open until the next.
	counting := slices.DeleteFunc(
		slices.Clone(db.openDefinitions()),
		func(d *definition) bool { return !d.counts.Load() },
	)
	explained := have != nil && db.described.Explained(described, concerned(counting), !have.grants.Valid())
	db.described = described
	if reader != nil {
		reader.Accept()
	}
	db.reviews(unreviewed) // before anything is decided by the catalog
	db.catalog.Store(&reading{schema, declared, asked.schema, asked.grants, at, asked.count})
	db.holds(asked.open)
	if have != nil && have.stamp.Valid() && !explained {
		// A definition changed around the larder: results may rest on more than was known. That the clock moves after
		// the catalog was put in place is what Decide relies on.
		move(db.clocks.Every, db.clocks.Shape)
		db.definitions.around(have.asked)
		db.outdated.Add(1)
	}
}

// concerned gives what definitions concern.
func concerned(list []*definition) (out []*catalog.Defined) {
	for _, d := range list {
		out = append(out, d.Defined)
	}
	return out
}
