package engine

import (
	"bytes"
	"encoding/binary"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// Parsed is when a statement was prepared: a server reads its constants by the settings of that moment, and settles the
// types of its parameters and columns by the definitions. It does so again, by the settings of then, when the statement
// is run after anything about its tables has changed, be it their statistics. A statement that is prepared and run in
// one go needs none. Source: RevalidateCachedQuery in the server's plancache.c.
type Parsed struct {
	generations [4]uint64 // of the session's settings, under which its constants may have been read; the first is that of its preparation
	count       int
	lost        bool   // there were more
	schemaAt    uint64 // what the schema's clock showed
	unsure      bool   // a definition was being changed at that moment
	from, to    uint64 // between which beginnings and ends of changes of single definitions that was

	checked uint64 // how many of these there were when it was last looked at what they mean
	late    bool   // and of which it then turned out that it was another
	since   uint64 // the last that had to do with it before it was prepared
	vague   bool   // or that this cannot be said

	version uint64 // of the definitions, once it is known; 0 until then
}

// Parsed gives this moment, for a statement that is about to be prepared.
func (s *Session) Parsed() Parsed {
	n := s.db.definitions.count.Load()
	return Parsed{
		generations: [4]uint64{s.generation},
		count:       1,
		schemaAt:    s.db.clocks.Schema.Changes(),
		unsure:      s.db.clocks.Schema.Pending(),
		from:        n,
		to:          n,
		checked:     n,
	}
}

// checks looks what changes of single definitions mean for a statement, of which there have been so many.
func (p *Parsed) checks(db *database, r *resolution, n uint64) {
	then, sure := db.changed(r, p.from, p.to)
	now, sureNow := db.changed(r, n, n)
	p.checked, p.since, p.late, p.vague = n, then, then != now, !sure || !sureNow
}

// Same says whether a statement prepared at one moment is the same as one prepared at the other.
func (p *Parsed) Same(o *Parsed) bool {
	return p.generations == o.generations && p.count == o.count && p.lost == o.lost && p.schemaAt == o.schemaAt &&
		p.unsure == o.unsure &&
		p.from == o.from
}

// Used notes that the server is about to use a statement that was prepared before, and may read its constants anew.
func (s *Session) Used(p *Parsed) {
	switch {
	case p == nil || p.generations[p.count-1] == s.generation:
	case p.count == len(p.generations):
		p.lost = true
	default:
		p.generations[p.count] = s.generation
		p.count++
	}
}

// identityOf gives what the settings were under which a statement's constants were read, or nil where that is not
// certain.
func (s *Session) identityOf(p *Parsed) (identity []byte) {
	if p.lost {
		return nil
	}
	for _, g := range p.generations[:p.count] {
		var here []byte
		if g == s.generation {
			here = s.identity
		}
		for _, b := range s.before {
			if b.generation == g {
				here = b.identity
			}
		}
		if len(here) == 0 || identity != nil && !bytes.Equal(here, identity) {
			return nil
		}
		identity = here
	}
	return identity
}

// Ended follows the server's word that a statement is prepared: a definition that has been changed since it was asked
// to may have come before.
func (s *Session) Ended(p *Parsed) {
	now := s.Parsed()
	p.unsure = p.unsure || now.unsure || now.schemaAt != p.schemaAt
	p.to = now.from
}

// mostPast bounds the settings of before, and the states of definitions, that are remembered.
const mostPast = 64

// past is what a session's settings were, by their generation.
type past struct {
	generation uint64
	identity   []byte
}

// learnedIdentity remembers what the settings of the present generation are.
func (s *Session) learnedIdentity() {
	if n := len(s.before); n > 0 && s.before[n-1].generation == s.generation {
		s.before = s.before[:n-1]
	}
	if len(s.before) >= mostPast {
		s.before = append(s.before[:0], s.before[1:]...)
	}
	s.before = append(s.before, past{s.generation, append([]byte(nil), s.identity...)})
}

// steady says whether the session has had the settings of now from its beginning.
func (s *Session) steady() bool {
	same := uint64(0)
	for _, b := range s.before {
		if bytes.Equal(b.identity, s.identity) {
			same++
		}
	}
	return same == s.generation
}

// versions are the states of a database's definitions that were read, by what the schema's clock showed then.
type versions struct {
	serial uint64
	at     map[uint64]uint64
}

// read notes that the definitions were read, and whether they are the same as before.
func (v *versions) read(schemaAt uint64, same bool) {
	if !same || v.serial == 0 {
		v.serial++
	}
	if v.at == nil || len(v.at) >= mostPast {
		v.at = map[uint64]uint64{}
	}
	v.at[schemaAt] = v.serial
}

// folds says whether a statement's text may hold a constant that the server reads by the settings of the moment at
// which it is prepared.
func folds(text []byte) bool {
	for i, c := range text {
		if c == '\'' || c == '$' && i+1 < len(text) && (text[i+1] < '0' || text[i+1] > '9') {
			return true
		}
	}
	return false
}

// appendParsed adds to a key what tells apart a statement that was prepared under other settings or definitions than
// those of now. It gives the reason why that cannot be said, or None. For what is prepared and run in one go, and where
// nothing has changed, it looks at nothing else.
func (s *Session) appendParsed(key []byte, r *Request, d *Decision) ([]byte, reason.Code) {
	p := r.Parsed
	if p == nil || freshness.Off(freshness.ParsedUnder) {
		return key, reason.None
	}
	// The settings matter to its constants, and by the search path to what its names mean, and so to the types of its
	// columns.
	matter := func() bool {
		return d.Pattern.Facts.Folds || d.resolved.schema.Ambiguous() || d.resolved.UsesOwn || folds(r.Exact)
	}
	if (p.lost || p.count > 1 || p.generations[0] != s.generation) && matter() {
		switch identity := s.identityOf(p); {
		case identity == nil:
			return key, reason.ParsedUnderOthers
		case !bytes.Equal(identity, s.identity):
			key = append(appendPart(key, identity), 's')
		}
	}
	if n := s.db.definitions.count.Load(); n != p.checked || p.late || p.vague {
		if n != p.checked {
			p.checks(s.db, d.resolved, n)
		}
		switch {
		case p.vague:
			return key, reason.ParsedUnknown
		case p.late:
			key = append(binary.BigEndian.AppendUint64(key, p.since), 'e')
		}
	}
	if p.schemaAt == s.db.clocks.Schema.Changes() && !p.unsure {
		return key, reason.None
	}
	s.db.mu.Lock()
	if p.version == 0 && !p.unsure {
		p.version = s.db.versions.at[p.schemaAt]
	}
	serial := s.db.versions.serial
	s.db.mu.Unlock()
	switch {
	case p.version == 0:
		return key, reason.ParsedUnknown
	case p.version != serial:
		key = append(binary.BigEndian.AppendUint64(key, p.version), 'd')
	}
	return key, reason.None
}
