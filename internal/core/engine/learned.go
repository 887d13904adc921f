package engine

import (
	"time"

	"jollylarder/internal/core/catalog"
)

// Learned takes the session's settings as its server gave them. They count only if nothing that may have changed
// them was sent after the question.
func (s *Session) Learned(set Settings) {
	if s.asked != s.generation {
		return
	}
	s.settings = set
	key := appendPart(nil, []byte(s.Origin))
	key = appendPart(key, []byte(s.Database))
	key = appendPart(key, []byte(s.User))
	for _, v := range set.Values {
		key = appendPart(key, []byte(v))
	}
	s.identity = append(s.identity[:0], key...)
}

// LearnedCatalog takes the database's catalog as the server gave it, or nil if it could not.
func (s *Session) LearnedCatalog(schema *catalog.Schema, now time.Time) {
	if !s.askedSchema {
		return
	}
	s.askedSchema = false
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	s.db.asking = false
	s.db.askNext = now.Add(min(catalogPause*now.Sub(s.askedAt), time.Second))
	if schema == nil {
		s.db.askNext = now.Add(2 * time.Second)
		return
	}
	blind := s.db.blind
	s.db.blind = nil
	for p := range blind {
		if schema.Resolve(p.Facts).SchemaChanges {
			return
		}
	}
	if s.askCatalog.Storable() {
		s.db.catalog.Store(&reading{schema, s.askCatalog})
	}
}
