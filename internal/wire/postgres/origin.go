package postgres

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
)

// outbound is the origin's bytes. What is to be forwarded is collected as stretches of buf, so that a chunk of many
// messages is written at once.
type outbound struct {
	buf  []byte
	from int // the first byte not forwarded yet
	pos  int // the first byte not looked at yet
	end  int

	rest   int        // bytes still to come of a long message that is being forwarded in pieces
	gather *execution // whose reply those bytes belong to
}

// smallest is the size of the buffer for the origin's bytes; a message that must be looked at whole makes it grow.
const smallest = 16 << 10

// fromOrigin relays what the origin sends until its connection ends.
func (s *session) fromOrigin() {
	o := &outbound{buf: make([]byte, smallest)}
	for {
		if o.from == o.end {
			o.from, o.pos, o.end = 0, 0, 0
		} else if o.end == len(o.buf) {
			n := copy(o.buf, o.buf[o.from:o.end])
			o.pos, o.end, o.from = o.pos-o.from, n, 0
			if n == len(o.buf) {
				o.buf = append(o.buf, make([]byte, len(o.buf))...)
			}
		}
		n, err := s.origin.Read(o.buf[o.end:])
		o.end += n
		if n > 0 {
			if !s.chunk(o, s.server.now()) {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// chunk takes what has arrived. Mu is held until all of it is written, so that whoever decides next sees a client
// that has been told everything. False ends the session.
func (s *session) chunk(o *outbound, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for o.pos < o.end {
		if o.rest > 0 {
			n := min(o.rest, o.end-o.pos)
			o.keep(o.gather, o.buf[o.pos:o.pos+n])
			o.pos += n
			o.rest -= n
			continue
		}
		have := o.end - o.pos
		if have < headerLen {
			break
		}
		kind := o.buf[o.pos]
		n := int(binary.BigEndian.Uint32(o.buf[o.pos+1:]))
		if n < 4 {
			s.server.log().Error("the origin sent what is no message of the protocol", "type", string(kind), "length", n)
			return false
		}
		total := n + 1
		if total > have && !whole(kind) && !s.questioning() {
			// Long rows and data go on in pieces, so that a result of any size takes no memory.
			s.message0(o, kind, total)
			n := have
			o.keep(o.gather, o.buf[o.pos:o.pos+n])
			o.pos += n
			o.rest = total - n
			continue
		}
		if total > have {
			if total > len(o.buf) {
				if !s.forward(o, o.pos) {
					return false
				}
				copy(o.buf, o.buf[o.pos:o.end])
				o.end, o.pos, o.from = have, 0, 0
				if total > len(o.buf) {
					o.buf = append(o.buf, make([]byte, total-len(o.buf))...)
				}
			}
			break
		}
		body := o.buf[o.pos+headerLen : o.pos+total]
		if forward := s.reply(o, kind, body, total, now); !forward {
			if !s.forward(o, o.pos) {
				return false
			}
			o.from = o.pos + total
		}
		o.pos += total
	}
	s.mid = o.rest > 0
	if !s.forward(o, o.pos) {
		return false
	}
	return !s.clientGone || s.waiting()
}

// whole says whether a message is looked at as a whole. The others are those that carry a result of any size, of which
// the type alone matters.
func whole(kind byte) bool { return strings.IndexByte("DdTtV", kind) < 0 }

// questioning says whether what arrives answers a question of the larder's own. All of that is looked at whole, since
// none of it is for the client.
func (s *session) questioning() bool { return len(s.queue) > 0 && s.queue[0].question != nil }

// forward writes what has been collected, up to pos.
func (s *session) forward(o *outbound, pos int) bool {
	if pos > o.from && !s.clientGone {
		if _, err := s.client.Write(o.buf[o.from:pos]); err != nil {
			s.clientGone = true
		}
	}
	o.from = pos
	return !s.clientGone || s.waiting()
}

// keep copies bytes of a reply that is to be kept.
func (o *outbound) keep(e *execution, b []byte) {
	if e == nil {
		return
	}
	e.bytes += len(b)
	if e.gather {
		e.reply = append(e.reply, b...)
	}
}

// message0 notes the beginning of a message that is forwarded in pieces.
func (s *session) message0(o *outbound, kind byte, total int) {
	o.gather = nil
	if len(s.queue) == 0 {
		return
	}
	e := s.queue[0].current()
	if e == nil || !e.bound && !s.queue[0].simple {
		return
	}
	if kind == 'D' {
		e.rows++
	}
	if kind == 'D' || kind == 'T' || kind == 'C' {
		o.gather = e
		if len(e.reply)+total > s.server.Engine.Largest() {
			e.gather, e.reply = false, nil
		}
	}
}

// reply takes one whole message from the origin and says whether the client is to get it.
func (s *session) reply(o *outbound, kind byte, body []byte, total int, now time.Time) (forward bool) {
	var x *exchange
	if len(s.queue) > 0 {
		x = s.queue[0]
	}
	switch kind {
	case 'A':
		return true
	case 'S':
		s.parameter(body)
		return true
	case 'N':
		if x != nil {
			x.noticed = true
		}
		return x == nil || x.question == nil
	}
	if x == nil {
		return true // an error before the connection is closed, most likely
	}
	if x.question != nil {
		s.answered(x, kind, body, now)
		return kind == 'E' && bytes.Contains(body, []byte("FATAL\x00")) // the connection ends: that is for the client
	}
	switch kind {
	case 'R':
		if len(body) >= 4 && binary.BigEndian.Uint32(body) == 0 {
			go s.askAhead(true)
		}
	case '1':
		if len(x.extra) > 0 && x.extra[0] == x.parsed {
			x.extra = x.extra[1:]
			return false
		}
		if x.parsed < len(x.parses) {
			p := x.parses[x.parsed]
			s.statements[p.name] = p.stmt // now it is certain
		}
		x.parsed++
	case '2':
		if e := x.current(); e != nil {
			e.bound = true
		}
	case 'T', 'D', 'C':
		s.row(o, x, kind, total, now)
	case 'I', 's':
		if e := x.current(); e != nil {
			e.gather = false
			s.executed(x, now)
		}
	case 'E':
		x.failed = true
		if e := x.current(); e != nil {
			s.executed(x, now)
			x.at = len(x.execs) // the rest is skipped
		}
	case 'G', 'W':
		if !x.simple {
			x.copying = true
		}
	case 'Z':
		s.endExchange(x, body, now)
	}
	return true
}

// row takes a part of the present execution's reply.
func (s *session) row(o *outbound, x *exchange, kind byte, total int, now time.Time) {
	e := x.current()
	if e == nil || !e.bound && !x.simple {
		return
	}
	s.message0(o, kind, total)
	o.keep(e, o.buf[o.pos:o.pos+total])
	o.gather = nil
	if kind == 'C' && !x.simple {
		s.executed(x, now)
	}
}

// executed ends the present execution of a batch.
func (s *session) executed(x *exchange, now time.Time) {
	e := x.current()
	e.done, e.took, e.fetch = true, now.Sub(x.arrived), now.Sub(e.sent)
	x.at++
}

// endExchange follows a ReadyForQuery. What the exchange has changed must count before the client gets to know.
func (s *session) endExchange(x *exchange, body []byte, now time.Time) {
	s.queue = s.queue[1:]
	if len(s.queue) == 0 {
		s.queue = nil
	}
	state := engine.Failed
	if len(body) == 1 {
		switch body[0] {
		case 'I':
			state = engine.Idle
		case 'T':
			state = engine.InBlock
		}
	}
	x.pending.End()
	if !slices.ContainsFunc(s.queue, func(x *exchange) bool { return x.question == nil }) {
		s.eng.Ready(state)
	} else {
		s.eng.ReadyBehind(state) // more is under way already
	}
	if len(s.queue) == 0 && state == engine.Idle && s.eng.Wants(now)&engine.NeedCatalog != 0 {
		go s.askAhead(false)
	}
	for _, p := range x.parses[min(x.parsed, len(x.parses)):] { // they failed, or were skipped
		if s.statements[p.name] == p.meanwhile {
			delete(s.statements, p.name)
			if p.old != nil {
				s.statements[p.name] = p.old
			}
		}
	}
	if x.failed && x.injected {
		s.owed = true
	}
	for _, e := range x.execs {
		if x.simple && !e.done {
			e.done, e.took, e.fetch = true, now.Sub(x.arrived), now.Sub(e.sent)
		}
		if !e.done {
			continue // skipped after an error
		}
		r := engine.Result{Took: e.took, Fetch: e.fetch, Rows: e.rows, Bytes: e.bytes, Failed: x.failed}
		if e.gather && e.d.Outcome == ledger.Miss && !x.failed && !x.noticed && e.bytes == len(e.reply) {
			r.Reply = e.reply
		}
		s.eng.Finish(&e.d, r, now)
	}
}

// parameter follows a setting that the server reports by itself.
func (s *session) parameter(body []byte) {
	name, rest, ok := cstring(body)
	value, _, ok2 := cstring(rest)
	if !ok || !ok2 {
		return
	}
	n, v := string(name), string(value)
	before, known := s.parameters[n]
	s.parameters[n] = v
	if known && before != v {
		s.eng.ForgetSettings()
	}
	switch n {
	case "application_name":
		s.eng.SetApplication(v)
	case "client_encoding", "standard_conforming_strings":
		s.eng.SetUnreadable(unreadable(s.parameters["client_encoding"], s.parameters["standard_conforming_strings"]))
	}
}

// unreadable says why a session's statements cannot be split into tokens, or "". In some encodings the second byte of
// a character may be one that means something in SQL.
func unreadable(encoding, conforming string) string {
	if conforming == "off" {
		return "the session reads backslashes in strings as escapes"
	}
	switch strings.ToUpper(encoding) {
	case "SJIS", "SHIFT_JIS_2004", "BIG5", "GBK", "UHC", "GB18030", "JOHAB":
		return "the session's encoding " + encoding + " is not read"
	}
	return ""
}

// answered takes a part of the answer to a question of the larder's own.
func (s *session) answered(x *exchange, kind byte, body []byte, now time.Time) {
	q := x.question
	switch kind {
	case 'D':
		row, ok := textRow(body)
		if !ok {
			q.bad = true
		}
		q.rows = append(q.rows, row)
	case 'E':
		q.bad = true
	case 'Z':
		s.queue = s.queue[1:]
		switch q.need {
		case engine.NeedSettings:
			if set, ok := settings(q.rows); ok && !q.bad {
				s.eng.Learned(set)
			}
		case engine.NeedCatalog:
			if c, ok := schema(q.rows); ok && !q.bad {
				s.eng.LearnedCatalog(c, now)
			} else {
				s.server.log().Warn("the catalog could not be read, so nothing is kept", "database", s.eng.Database)
				s.eng.LearnedCatalog(nil, now)
			}
		}
		q.end()
	}
}
