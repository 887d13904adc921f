package postgres

import (
	"encoding/binary"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/statement"
)

// batch is what the held messages come to.
type batch struct {
	parse, bind, describe, execute, close *part
	busy                                  string
}

// shape looks whether the held messages are one statement asked for in a form that memory can answer: Parse of the
// unnamed statement, Bind of the unnamed portal, Describe of it, Execute, Close, Sync, of which Bind, Execute and Sync
// are needed.
func (s *session) shape() batch {
	var b batch
	order := 0
	for i := range s.held {
		p := &s.held[i]
		place := 0
		switch {
		case p.kind == 'P':
			place, b.parse = 1, p
			if p.portal != "" {
				b.say(whyPreparing)
			}
		case p.kind == 'B':
			place, b.bind = 2, p
		case p.kind == 'D' && p.ofPortal:
			place, b.describe = 3, p
		case p.kind == 'D':
			b.say(whyPreparing)
			continue
		case p.kind == 'E':
			if b.execute != nil {
				b.say(whyTogether)
			}
			place, b.execute = 4, p
			if p.limited {
				b.say(whyPart)
			}
		case p.kind == 'C' && p.ofPortal:
			place, b.close = 5, p
		case p.kind == 'S':
			place = 6
		default:
			b.say(whyForm)
			continue
		}
		if place <= order || p.portal != "" && p.kind != 'P' {
			b.say(whyForm)
		}
		order = place
	}
	if b.bind == nil || b.execute == nil || order != 6 {
		b.say(whyForm)
	}
	return b
}

func (b *batch) say(why string) {
	if b.busy == "" {
		b.busy = why
	}
}

// request makes the engine's request of a batch.
func (s *session) request(b batch, busy string) engine.Request {
	stmt := b.bind.stmt
	r := engine.Request{Statement: stmt.st, Shape: 'x', Types: stmt.types, Busy: busy}
	if b.describe != nil {
		r.Shape = 'd'
	}
	r.Bound = s.in.held()[b.bind.bound[0]:b.bind.bound[1]]
	if boundMayMeanNow(r.Bound) {
		r.MayMeanNow = true
	}
	return r
}

// boundMayMeanNow looks for values that a date type reads as the time of the call. Values in binary are looked at as
// well: one of type text may be cast at the origin.
func boundMayMeanNow(b []byte) bool {
	if len(b) < 2 {
		return true
	}
	skip := 2 + 2*int(binary.BigEndian.Uint16(b))
	if len(b) < skip+2 {
		return true
	}
	n := int(binary.BigEndian.Uint16(b[skip:]))
	b = b[skip+2:]
	for range n {
		if len(b) < 4 {
			return true
		}
		l := int(int32(binary.BigEndian.Uint32(b)))
		b = b[4:]
		if l < 0 {
			continue
		}
		if len(b) < l || statement.MayMeanNow(b[:l]) {
			return true
		}
		b = b[l:]
	}
	return false
}

// answerBatch answers a batch from memory.
func (s *session) answerBatch(b batch, d *engine.Decision, now time.Time) bool {
	s.out = s.out[:0]
	if b.parse != nil {
		s.out = append(s.out, parseComplete...)
	}
	s.out = append(s.out, bindComplete...)
	s.out = append(s.out, d.Entry.Reply...)
	if b.close != nil {
		s.out = append(s.out, closeComplete...)
	}
	s.out = append(s.out, s.ready()...)
	if b.parse != nil {
		s.owed = true
		s.statements[""] = b.parse.stmt
	}
	return s.answer(d, now)
}

// owedParse gives the Parse message that the origin needs before the held messages, if any, and counts those that
// the client sends itself.
func (s *session) owedParse(x *exchange) (msg []byte) {
	for i := range s.held {
		p := &s.held[i]
		switch {
		case p.kind == 'P':
			s.prepare(x, p.portal, p.stmt)
			if p.portal == "" {
				s.owed = false
			}
		case p.kind == 'B' && s.owed && p.stmt.sql != nil && p.stmt == s.statements[""]:
			s.owed = false
			x.extra = append(x.extra, len(x.parses))
			x.injected = true
			msg = frame(nil, 'P', []byte{0}, p.stmt.sql, []byte{0}, p.stmt.types)
		}
	}
	return msg
}
