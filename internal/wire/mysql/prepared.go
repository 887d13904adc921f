package mysql

import (
	"bytes"
	"encoding/binary"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// Statements that were prepared over the protocol, and how they are run.

// prepared is a statement that the server has prepared.
type prepared struct {
	st engine.Statement
	settling
	number     uint32
	parsed     engine.Parsed
	mode       syntax.Mode // when it was prepared
	schema     string
	resolved   bool // it has comments that the server runs
	unsaid     bool // the origin does not know the types
	odd        bool // nor is it known here which types that knows
	parameters int
	types      []byte // of its parameters, as they were sent last
	pieces     bool   // values for its next run were sent ahead, in pieces
	size       int64  // of the room that it takes
}

// id reads the number of the statement that a command is about.
func (s *session) id(f *frame) (id uint32, ok bool) {
	if len(f.start) < 5 {
		return 0, false
	}
	return binary.LittleEndian.Uint32(f.start[1:]), true
}

// statement gives the prepared statement that a command is about, or nil.
func (s *session) statement(f *frame) *prepared {
	switch id, ok := s.id(f); {
	case !ok:
		return nil
	case id == lastPrepared:
		return s.last
	default:
		return s.prepared[id]
	}
}

// mostPrepared bounds the prepared statements of one session that are remembered.
const mostPrepared = 16 << 10

// prepares reads a statement that the server is to prepare.
func (s *session) prepares(f *frame) *prepared {
	p := &prepared{size: int64(2*f.length + 300)}
	p.parsed, p.mode, p.schema = s.eng.Parsed(), s.mode, s.schema
	st, x := s.read(f, f.start[1:])
	p.st, p.settling, p.resolved = st.Clone(), x, s.resolved
	if len(s.prepared) >= mostPrepared || !s.server.Engine.SessionRoom().Take(p.size) {
		p.st, p.size = s.mayDoAnything(reason.NoRoom), 0
	}
	return p
}

// forget forgets a prepared statement.
func (s *session) forget(id uint32) {
	if p := s.prepared[id]; p != nil {
		s.server.Engine.SessionRoom().Give(p.size)
		delete(s.prepared, id)
	}
}

// forgets forgets all of them, and those that are being prepared.
func (s *session) forgets() {
	for id := range s.prepared {
		s.forget(id)
	}
	for i := range s.queue {
		if p := s.queue[i].prepares; p != nil {
			s.server.Engine.SessionRoom().Give(p.size)
			s.queue[i].prepares = nil
		}
	}
	s.last = nil
}

// lastPrepared is the number by which MariaDB's clients mean the statement that was prepared last, which they may not
// know the number of yet.
const lastPrepared = 1<<32 - 1

// executes reads which prepared statement is run, and with what.
func (s *session) executes(r *engine.Request, f *frame, t *told) {
	r.Shape = 'x'
	id, _ := s.id(f)
	p := s.statement(f)
	if p != nil && p.number == 0 { // it is being prepared
		r.Busy = reason.NotPreparedHere
	}
	if p == nil {
		r.Statement = s.mayDoAnything(reason.NotPreparedHere)
		return
	}
	if r.Statement, t.settling = p.st, p.settling; p.mode != s.mode || p.schema != s.schema {
		// It is what its names and quotes meant when it was prepared.
		r.Statement = s.mayDoAnything(reason.ParsedUnderOthers)
	}
	t.foretold = foretold{}
	t.runs, r.Parsed = p, &p.parsed
	pieces := p.pieces
	if p.pieces = false; p.resolved {
		r.Busy = reason.ServerComments
	}
	defer func() {
		switch {
		case pieces: // they are not looked at: no two such runs count as the same
			s.runs++
			s.bound = binary.LittleEndian.AppendUint64(s.bound[:0], s.runs)
			r.Types, r.Bound, r.Busy, t.odd = nil, s.bound, reason.OtherForm, true
		case p.odd && p.parameters > 0: // the origin may go by other types than those that are known here
			r.Types, r.Busy, t.odd = nil, reason.OtherForm, true
		}
	}()
	if kind, _ := f.first(); kind != comExecute || !f.whole() || len(f.start) < executeFixed {
		p.odd = true
		return
	}
	if f.start[5] != 0 || binary.LittleEndian.Uint32(f.start[6:]) != 1 { // it has a cursor
		r.Busy, t.odd = reason.OtherForm, true
	}
	bound := f.start[executeFixed:]
	if nulls := (p.parameters + 7) / 8; p.parameters > 0 && len(bound) > nulls {
		values := bound[nulls+1:]
		if bound[nulls] == 1 && len(values) >= 2*p.parameters {
			t.typed, p.odd = true, false
			if types := values[:2*p.parameters]; !bytes.Equal(types, p.types) {
				p.types = append(p.types[:0], types...)
			}
			p.unsaid = true // until it has gone on
			values = values[2*p.parameters:]
		} else if id == lastPrepared { // which servers do not run so
			t.runs, t.odd, r.Busy = nil, true, reason.OtherForm
		}
		s.bound = append(append(s.bound[:0], bound[:nulls]...), values...)
		bound = s.bound
	}
	r.Types, r.Bound = p.types, bound
}

// sendsTypes has a prepared statement be run with the types of its parameters where the origin does not know them, as an
// answer from memory was given in the place of the run that told them.
func (s *session) sendsTypes(w *way, f *frame, x *command) {
	p := x.runs
	if p == nil || p.odd || s.part {
		return
	}
	if x.typed {
		if id, _ := s.id(f); id != lastPrepared {
			p.unsaid = false
		}
		return
	}
	if with := p.withTypes(f); with != nil {
		s.leaveOut(w)
		w.passes(with)
		p.unsaid = false
	}
}

// withTypes gives the packet by which a prepared statement is run, with the types of its parameters; nil if it has them,
// or the origin knows them.
func (p *prepared) withTypes(f *frame) []byte {
	nulls := (p.parameters + 7) / 8
	if !p.unsaid || len(p.types) == 0 || len(f.start) <= executeFixed+nulls || f.start[executeFixed+nulls] != 0 {
		return nil
	}
	at := executeFixed + nulls
	out := make([]byte, headerSize, headerSize+f.length+len(p.types))
	out = append(out, f.start[:at]...)
	out = append(append(out, 1), p.types...)
	out = append(out, f.start[at+1:]...)
	n := len(out) - headerSize
	out[0], out[1], out[2] = byte(n), byte(n>>8), byte(n>>16)
	return out
}

// executeFixed is how many bytes stand before the parameters of a prepared statement that is run: the command, its number,
// flags, and how often.
const executeFixed = 1 + 4 + 1 + 4
