package postgres

import (
	"bytes"
	"runtime"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
)

// What sessions hold beyond their small buffers comes out of one room that all share, so that no number of clients, and
// nothing they send, takes more memory than there is for it.

// preparedBytes is what a prepared statement takes beside its texts.
const preparedBytes = 400

// newPrepared makes a prepared statement of what a Parse message says. It is in the room until nobody refers to it any
// more. Where there is none, only its pattern is remembered, or not even that.
func (s *session) newPrepared(name string, sql, types []byte) *prepared {
	room := s.server.Engine.SessionRoom()
	st := s.read(sql)
	n := int64(preparedBytes + len(name) + len(types) + len(st.Exact) + len(st.Comment))
	if name == "" {
		n += int64(len(sql))
	}
	if !room.Take(n) {
		return s.withoutRoom(name, st)
	}
	p := &prepared{name: name, st: st.Clone(), types: bytes.Clone(types)}
	if name == "" {
		p.sql = bytes.Clone(sql)
	}
	runtime.AddCleanup(p, room.Give, n)
	return p
}

// withoutRoom gives what is remembered of a statement that there is no room for.
func (s *session) withoutRoom(name string, st engine.Statement) *prepared {
	switch st.Pattern.Facts.Kind {
	// What these do is that of their pattern.
	case analysis.KindSelect, analysis.KindInsert, analysis.KindUpdate, analysis.KindDelete:
		return &prepared{name: name, st: engine.Statement{Pattern: st.Pattern, MayMeanNow: true}, without: true}
	}
	return s.unknown(reason.NoRoom)
}

// reserve takes room for a message that needs a buffer of its own.
func (s *session) reserve(total int) bool {
	n := int64(2*total) - s.reserved // a buffer grows by doubling
	if n <= 0 {
		return true
	}
	if !s.server.Engine.SessionRoom().Take(n) {
		return false
	}
	s.reserved += n
	return true
}

// unreserve gives the room for messages back.
func (s *session) unreserve() {
	s.server.Engine.SessionRoom().Give(s.reserved)
	s.reserved = 0
}

// copies says whether n more bytes of a reply are copied, to be kept: if it does not become too large, and there is
// room. It is called with mu held.
func (s *session) copies(e *execution, n int) bool {
	need := len(e.reply) + n
	if need > s.server.Engine.Largest() || !s.server.Engine.SessionRoom().Grow(&e.room, need) {
		s.copiesNot(e)
		return false
	}
	return true
}

// copiesNot gives up copying a reply.
func (s *session) copiesNot(e *execution) {
	e.gather, e.reply = false, nil
	s.copied(e)
}

// copied gives the room of a reply back.
func (s *session) copied(e *execution) { s.server.Engine.SessionRoom().Shrink(&e.room) }
