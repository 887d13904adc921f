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
	s.pathsAt = s.askPaths
	if s.isolation == byDefault {
		s.isolation = set.isolation()
	}
	s.shared = s.shared[:0]
	s.pathKey = strings.Join(set.Path, "\n")
	s.identity = s.appendIdentity(s.identity[:0], s.User, set.Roles)
	s.learnedIdentity()
}

// appendIdentity appends the beginning of the keys of a session in these roles: of the user and its roles, or of whoever may
// share what was fetched, with none.
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
}

// LearnedMark takes what tells whether definitions have changed since the catalog was read; if they may have, the catalog
// is to be read anew.
func (s *Session) LearnedMark(mark string, now time.Time) {
	if !s.askedSchema {
		return
	}
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	s.answeredCatalog(now)
	c := s.db.catalog.Load()
	if c == nil || mark == "" || mark != s.db.mark || s.elsewhere() {
		s.db.suspect, s.db.askNext = true, now
		return
	}
	if s.settled(c.schema) {
		s.db.holds(s.askOpen)
		s.db.versions.read(s.askSchemaAt, true)
		s.db.catalog.Store(&reading{c.read, c.schema, s.askCatalog, s.askGrants, now})
	}
}

// answeredCatalog notes that the question for the catalog was answered, one way or another. It is called with the
// database's lock held.
func (s *Session) answeredCatalog(now time.Time) {
	s.askedSchema, s.askMark = false, false
	s.db.asking = false
	s.db.askNext = now.Add(min(catalogPause*now.Sub(s.askedAt), time.Second))
}

// settled says whether a catalog that was just read, or found unchanged, can be taken for the present: nothing was sent
// meanwhile that may have changed it. It is called with the database's lock held.
func (s *Session) settled(schema *catalog.Schema) bool {
	blind := s.db.blind
	s.db.blind = nil
	for p := range blind {
		if schema.Resolve(p.Facts, catalog.Hints{}).SchemaChanges {
			return false
		}
	}
	return s.askCatalog.Storable()
}

// LearnedCatalog takes the description of the database's schema as the server gave it, or nil if it could not.
func (s *Session) LearnedCatalog(rows []catalog.Row, now time.Time) {
	if !s.askedSchema {
		return
	}
	if s.elsewhere() && !freshness.Off(freshness.OtherServers) {
		rows = nil
	}
	if rows == nil {
		s.db.mu.Lock()
		defer s.db.mu.Unlock()
		s.answeredCatalog(now)
		s.db.askNext = now.Add(2 * time.Second)
		return
	}
	mark := ""
	rows = slices.DeleteFunc(slices.Clone(rows), func(r catalog.Row) bool {
		if r.What == "mark" {
			mark = r.OtherName
		}
		return r.What == "mark"
	})
	sorted := slices.Clone(rows) // the server gives them in any order
	catalog.Sort(sorted)
	// Made before the lock is taken, for which every session of the database may wait: only who asks gets here.
	have := s.db.catalog.Load()
	same := have != nil && slices.Equal(sorted, s.db.rows)
	var schema *catalog.Schema
	if same {
		schema = have.read
	} else {
		schema = catalog.New(rows, catalog.Parse{Facts: s.e.opts.Facts, Body: s.e.opts.Body})
	}
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	s.answeredCatalog(now)
	have = s.db.catalog.Load() // with what was declared meanwhile
	declared := schema.With(s.e.Rules().Functions())
	if !s.settled(declared) {
		return
	}
	s.db.mark, s.db.suspect = mark, false
	if have != nil && have.stamp.Valid() {
		s.db.versions.read(s.askSchemaAt, true) // what differs is told by the definitions
	} else {
		s.db.versions.read(s.askSchemaAt, same)
	}
	if same {
		s.db.holds(s.askOpen)
		s.db.catalog.Store(&reading{have.read, have.schema, s.askCatalog, s.askGrants, now})
		return
	}
	explained := have != nil && catalog.Explained(s.db.rows, sorted, concerned(s.askOpen), !have.grants.Valid())
	s.db.rows = sorted
	s.db.catalog.Store(&reading{schema, declared, s.askCatalog, s.askGrants, now})
	s.db.holds(s.askOpen)
	if have != nil && have.stamp.Valid() && !explained {
		// A definition changed around the larder: results may rest on more than was known. That the clock moves after the
		// catalog was put in place is what Decide relies on.
		move(s.db.clocks.Every, s.db.clocks.Shape)
		s.db.versions.read(s.askSchemaAt, false)
		s.db.paths.Add(1)
	}
}

// concerned gives what definitions concern.
func concerned(list []*definition) (out []*catalog.Defined) {
	for _, d := range list {
		out = append(out, d.Defined)
	}
	return out
}
