package mysql

import (
	"bytes"
	"encoding/binary"

	dialect "jollylarder/internal/core/dialect/mysql"
)

// gathering is a reply that is copied as it comes: of a miss, to be kept, or of the larder's own question.
type gathering struct {
	gathers  bool
	withRows bool // it is a result, and no mere OK
	enters   bool // the server may say that its session's state has changed, which it has not
	reply    []byte
	last     int   // how long the packet is that it ends with, in bytes behind its header
	room     int64 // that the copy takes of the room of all sessions
}

// gather copies bytes of the reply to a command, if it does not become too large and there is room.
func (s *session) gather(x *command, b []byte) {
	if !x.gathers {
		return
	}
	if need := len(x.reply) + len(b); need > s.server.Engine.Largest() || !s.server.Engine.SessionRoom().Grow(&x.room, need) {
		s.gathersNot(x)
		return
	}
	x.reply = append(x.reply, b...)
}

// gathersNot gives up copying a reply, and the room for it.
func (s *session) gathersNot(x *command) {
	s.server.Engine.SessionRoom().Shrink(&x.room)
	x.gathering = gathering{withRows: x.withRows}
}

// A kept reply is the packets of a result as they came. What its marks say of the state is that of a session without an
// open transaction; in another it is put right when it is answered with.

// oldMark and newMark are how long the packet is that a result ends with: a mark as of old, or an OK that says nothing but
// its state. Both have two bytes of the state, of which the warnings come before or after.
const (
	oldMark = headerSize + 5
	newMark = headerSize + 7
)

// ofTransaction is what a state says that is not known by a reply's key, or that is true of one reply only.
const ofTransaction = statusInTransaction | statusReadOnly | statusSlow | statusStateChanged

// storable gives a reply as it can be kept, or nil.
func (s *session) storable(x *command) []byte {
	const never = statusMoreResults | statusCursor | statusMetadata | statusOutParameters
	if !x.gathers || x.failed || x.warned || !x.withRows || x.results != 1 || x.status&never != 0 {
		return nil
	}
	var reply []byte
	switch {
	case x.status&statusStateChanged == 0:
		reply = bytes.Clone(x.reply) // of its own size
	case x.enters:
		reply = s.withoutChange(x)
	default:
		return nil
	}
	at, ok := marks(reply, s.withoutEOF)
	if !ok {
		return nil
	}
	for _, i := range at {
		if i > 0 {
			binary.LittleEndian.PutUint16(reply[i:], binary.LittleEndian.Uint16(reply[i:])&^ofTransaction)
		}
	}
	return reply
}

// withoutChange gives a copy of a reply that ends without saying what of the session's state has changed, or nil.
func (s *session) withoutChange(x *command) []byte {
	if !s.withoutEOF {
		return bytes.Clone(x.reply) // a mark as of old says only that something has
	}
	end, rest := len(x.reply)-headerSize-x.last, newMark-headerSize
	if end < 0 || x.last < rest || x.last >= fullPacket {
		return nil
	}
	reply := make([]byte, 0, end+newMark)
	reply = append(append(reply, x.reply[:end]...), byte(rest), 0, 0, x.reply[end+headerSize-1])
	return append(reply, x.reply[end+headerSize:end+headerSize+rest]...)
}

// marks gives where in a result its marks say of the state: behind the columns, or 0 if there is none, and in the end.
func marks(reply []byte, withoutEOF bool) (at [2]int, ok bool) {
	size := func(i int) int { return int(reply[i]) | int(reply[i+1])<<8 | int(reply[i+2])<<16 }
	if withoutEOF {
		end := len(reply) - newMark
		ok = end > 0 && size(end) == newMark-headerSize && bytes.HasPrefix(reply[end+headerSize:], []byte{markEOF, 0, 0})
		return [2]int{0, len(reply) - 4}, ok
	}
	end := len(reply) - oldMark
	if end <= 0 || size(end) != oldMark-headerSize || reply[end+headerSize] != markEOF {
		return at, false
	}
	columns, _, ok := dialect.Number(reply[headerSize:])
	i := headerSize + size(0)
	for ; ok && columns > 0; columns-- {
		if ok = i+headerSize < end; ok {
			i += headerSize + size(i)
		}
	}
	ok = ok && i <= end && size(i) == oldMark-headerSize && reply[i+headerSize] == markEOF
	return [2]int{i + oldMark - 2, len(reply) - 2}, ok
}

// inState gives a kept reply for the state that the session is in: itself, or put right in the scratch.
func (s *session) inState(reply []byte) []byte {
	bits := s.status & (statusInTransaction | statusReadOnly)
	if bits == 0 {
		return reply
	}
	at, ok := marks(reply, s.withoutEOF)
	if !ok { // which it was when it was kept
		return nil
	}
	s.scratch = append(s.scratch[:0], reply...)
	for _, i := range at {
		if i > 0 {
			binary.LittleEndian.PutUint16(s.scratch[i:], binary.LittleEndian.Uint16(s.scratch[i:])|bits)
		}
	}
	return s.scratch
}
