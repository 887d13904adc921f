package postgres

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/fault"
)

// outbound is the origin's bytes. What is to be forwarded is collected as stretches of buf, so that a chunk of many
// messages is written at once.
type outbound struct {
	buf  []byte
	from int // the first byte not forwarded yet
	pos  int // the first byte not looked at yet
	end  int

	small []byte  // the buffer at rest
	large *[]byte // from the pool, when buf is it

	rest   int  // bytes still to come of a long message that is being forwarded in pieces
	gather bool // they belong to the reply of the present execution
	ends   bool // and it ends with what is arriving

	filled  bool // the last read took all the room there was
	settled bool // everything asked was answered
}

// fromOrigin relays what the origin sends until its connection ends.
func (s *session) fromOrigin() {
	o := &outbound{small: make([]byte, smallReply)}
	o.buf = o.small
	s.origin.Receive(o.space, func(n int, err error) (more, settled bool) {
		o.end += n
		o.filled = o.end == len(o.buf)
		more = n == 0 || s.chunk(o, s.server.Time())
		s.endIfDraining()
		return more && err == nil, o.settled
	})
}

// space gives room to read to.
func (o *outbound) space() []byte {
	if o.from == o.end {
		o.from, o.pos, o.end = 0, 0, 0
		if !o.filled && len(o.buf) > smallReply {
			o.shrink()
		}
	}
	switch {
	case o.end < len(o.buf) && (!o.filled || len(o.buf) >= largeBuffer):
	case o.from > 0 && len(o.buf) >= largeBuffer:
		n := copy(o.buf, o.buf[o.from:o.end])
		o.pos, o.end, o.from = o.pos-o.from, n, 0
	default:
		o.grow(max(largeBuffer, o.end+1))
	}
	return o.buf[o.end:]
}

// grow makes room for size bytes.
func (o *outbound) grow(size int) {
	if size <= len(o.buf) {
		return
	}
	var buf []byte
	var large *[]byte
	if size <= largeBuffer {
		large = largeBuffers.Get().(*[]byte)
		buf = *large
	} else {
		buf = make([]byte, max(size, 2*len(o.buf)))
	}
	copy(buf, o.buf[:o.end])
	o.shrink()
	o.buf, o.large = buf, large
}

// shrink lets go of a large buffer.
func (o *outbound) shrink() {
	if o.large != nil {
		largeBuffers.Put(o.large)
		o.large = nil
	}
	o.buf = o.small
}

// chunk takes what has arrived, and writes what of it is for the client. False ends the session.
func (s *session) chunk(o *outbound, now time.Time) bool {
	write, leads, more := s.arrived(o, now)
	if !write {
		o.from = o.pos
		return more
	}
	defer s.telling.Unlock()
	ok := s.told(o.buf[o.from:o.pos], leads)
	o.from = o.pos
	return ok || s.lost()
}

// arrived takes what has arrived, and says whether some of it is to be written to the client, with telling taken then;
// or else whether the session goes on.
func (s *session) arrived(o *outbound, now time.Time) (write, leads, more bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.takeSafely(o, now) {
		return false, false, false
	}
	o.settled = s.queue.len() == 0 && !s.raw
	if s.clientGone || o.pos == o.from {
		return false, false, !s.clientGone || s.waiting()
	}
	s.telling.Lock()
	return true, s.eng != nil && s.eng.Leads(), true
}

// lost notes that the client cannot be written to any more, and says whether something is waited for all the same.
func (s *session) lost() (waiting bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.endsBy(errUnread)
	return s.waiting()
}

// takeSafely is take, after a fault in which everything is relayed, if none of it was meant for the larder.
func (s *session) takeSafely(o *outbound, now time.Time) (more bool) {
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("a conversation is only relayed from here on", r)
			s.lose("a fault of the larder", now)
			o.pos = o.end
			more = s.raw
		}
	}()
	more = s.take(o, now)
	if s.crowded && s.outstanding < mostOutstanding/2 {
		s.crowded = false
		s.room.Broadcast()
	}
	return more
}

// take looks at what has arrived. What the client is to get is written by the caller, but for what must be written
// before something else. False ends the session. It is called with mu held.
func (s *session) take(o *outbound, now time.Time) bool {
	fault.Point("take")
	for o.pos < o.end && !s.raw {
		if o.rest > 0 {
			n := min(o.rest, o.end-o.pos)
			s.keep(o, o.buf[o.pos:o.pos+n])
			o.pos += n
			o.rest -= n
			continue
		}
		have := o.end - o.pos
		if have < headerLen {
			break
		}
		kind := o.buf[o.pos]
		if kind == 'D' || kind == 'd' {
			if s.takeRows(o) {
				continue
			}
		}
		n := int(binary.BigEndian.Uint32(o.buf[o.pos+1:]))
		if n < 4 {
			s.server.Logger().Error("the origin sent what is no message of the protocol", "type", string(kind), "length", n)
			return false
		}
		total := n + 1
		if total > have && !whole(kind) && !s.questioning() && !s.silent() {
			if !s.takePiece(o, kind, total, now) {
				return false
			}
			continue
		}
		if total > have {
			if total > longestReply {
				s.lose(fmt.Sprintf("a message of type %q and %d bytes from the origin", kind, total), now)
				break
			}
			if total > len(o.buf) {
				if !s.forward(o, o.pos) {
					return false
				}
				copy(o.buf, o.buf[o.pos:o.end])
				o.end, o.pos, o.from = have, 0, 0
				if total > len(o.buf) {
					o.grow(total)
				}
			}
			break
		}
		o.gather, o.ends = false, false
		body := o.buf[o.pos+headerLen : o.pos+total]
		s.hiding = s.questioning() || s.silent()
		if !s.reply(o, kind, body, total, now) {
			if !s.forward(o, o.pos) {
				return false
			}
			o.from = o.pos + total
		} else if o.gather {
			s.keep(o, o.buf[o.pos:o.pos+total])
			if o.ends {
				s.ended(s.queue.first(), now)
			}
		}
		s.hiding = false
		o.pos += total
		if !s.release(o, now) {
			return false
		}
	}
	if s.raw {
		o.pos = o.end
	}
	s.mid = o.rest > 0
	return true
}

// takePiece takes the beginning of a long row or of long data, which go on in pieces, so that a result of any size
// takes no memory. False ends the session.
func (s *session) takePiece(o *outbound, kind byte, total int, now time.Time) bool {
	have := o.end - o.pos
	o.gather, o.ends = false, false
	if !s.reply(o, kind, nil, total, now) {
		return false // none of these is ever held back
	}
	if o.ends { // the description of a result, which is not kept then
		s.copiesNot(s.running())
		o.gather = false
		s.ended(s.queue.first(), now)
	}
	s.keep(o, o.buf[o.pos:o.end])
	o.pos += have
	o.rest = total - have
	return true
}

// takeRows takes the whole messages of one kind that have arrived in a row: rows of a result, or copied data. It is
// what take does, for those messages of which there are many; false says that there is none it can take.
func (s *session) takeRows(o *outbound) bool {
	if s.queue.len() == 0 {
		return false
	}
	x := s.queue.first()
	e := x.current()
	if x.question != nil || e == nil || e.exec == nil || e.kind != 'E' && e.kind != wholeExchange {
		return false
	}
	kind, pos, rows := o.buf[o.pos], o.pos, 0
	for pos+headerLen <= o.end && o.buf[pos] == kind {
		n := int(binary.BigEndian.Uint32(o.buf[pos+1:]))
		if n < 4 || n >= o.end-pos {
			break
		}
		pos += n + 1
		rows++
	}
	if rows == 0 {
		return false
	}
	b := o.buf[o.pos:pos]
	o.pos = pos
	if kind == 'd' {
		return true
	}
	e.exec.rows += rows
	e.exec.bytes += len(b)
	if e.exec.sum != nil {
		e.exec.sum.Write(b)
	}
	if e.exec.gather {
		if s.copies(e.exec, len(b)) {
			e.exec.reply = append(e.exec.reply, b...)
		}
	}
	return true
}

// longestReply is the longest message of the origin that is looked at whole, in bytes. Those are errors, notices and
// the like, of which longer ones are never seen; an answer to the larder's own question is read row by row.
const longestReply = 16 << 20

// whole says whether a message is looked at as a whole. The others are those that carry a result of any size, of which
// the type alone matters.
func whole(kind byte) bool { return strings.IndexByte("DdTtV", kind) < 0 }

// forward writes what has been collected, up to pos.
func (s *session) forward(o *outbound, pos int) bool {
	if pos > o.from && !s.clientGone && !s.writeClient(o.buf[o.from:pos]) {
		s.endsBy(errUnread)
	}
	o.from = pos
	return !s.clientGone || s.waiting()
}

// release writes the answers from memory that waited for the reply which has just ended.
func (s *session) release(o *outbound, now time.Time) bool {
	for s.queue.len() > 0 {
		x := s.queue.first()
		e := x.current()
		if e == nil || e.kind != fromMemory {
			break
		}
		if !s.forward(o, o.pos) {
			return false
		}
		s.writeClient(e.local)
		fault.Point("release")
		if e.exec != nil {
			s.finishHit(e.exec.Ticket, len(e.local), x.arrived)
		}
		e.local = nil
		s.next(x)
	}
	return true
}

// keep copies bytes of a reply that may be kept.
func (s *session) keep(o *outbound, b []byte) {
	if !o.gather {
		return
	}
	if e := s.running(); e != nil {
		e.bytes += len(b)
		if e.sum != nil {
			e.sum.Write(b)
		}
		if e.gather {
			e.reply = append(e.reply, b...)
		}
	}
}

// collect notes that the message beginning here is part of a result.
func (s *session) collect(o *outbound, e *execution, kind byte, total int) {
	if e == nil {
		return
	}
	if kind == 'D' {
		e.rows++
	}
	o.gather = true
	if e.gather {
		s.copies(e, total)
	}
}

// reply takes one message from the origin and says whether the client is to get it. The body of a message that carries
// a result of any size may be missing.
func (s *session) reply(o *outbound, kind byte, body []byte, total int, now time.Time) (forward bool) {
	fault.Point("reply")
	var x *exchange
	if s.queue.len() > 0 {
		x = s.queue.first()
	}
	switch kind {
	case 'A':
		return true
	case 'S':
		s.parameter(body)
		return true
	case 'K':
		s.server.cancels.forget(s.cancelKey, s)
		s.cancelKey = bytes.Clone(body)
		s.server.cancels.remember(s.cancelKey, s)
	case 'E':
		s.dismissed = s.dismissed || saysWhy(body)
	case 'N':
		if x != nil {
			x.noticed = true
		}
		return x == nil || x.question == nil
	}
	if x == nil {
		if kind != 'E' { // an error before the connection is closed, most likely
			s.lose(fmt.Sprintf("a message of type %q from the origin that answers nothing", kind), now)
		}
		return true
	}
	if x.question != nil {
		s.answered(x, kind, body, now)
		return kind == 'E' && bytes.Contains(body, []byte("FATAL\x00")) // the connection ends: that is for the client
	}
	if kind == 'Z' {
		s.endExchange(x, txState(body), now)
		return true
	}
	if e := x.current(); s.login && kind == 'R' && e != nil && e.kind == wholeExchange {
		return s.authentication(o, body)
	}
	refused, behind := kind == 'E' && x.refusesBegin(), x.ahead || s.queue.len() > 1
	h := s.hears(x, kind, now)
	if refused {
		s.refusedBegin(x, behind)
	}
	if h.stray {
		s.lose(fmt.Sprintf("a message of type %q from the origin that is out of place", kind), now)
		return true
	}
	if h.part != nil {
		s.collect(o, h.part, kind, total)
		o.ends = h.ends
	}
	return h.forward
}

// saysWhy says whether an error ends the connection for a reason that is not a crash of the server: crash_shutdown is
// the one that is. Source: "PostgreSQL Error Codes" and "Error and Notice Message Fields" in the manual.
func saysWhy(body []byte) bool {
	fatal, crash := false, false
	for len(body) > 1 {
		value, rest, ok := bytes.Cut(body[1:], []byte{0})
		if !ok {
			break
		}
		switch body[0] {
		case 'V':
			fatal = string(value) == "FATAL"
		case 'C':
			crash = string(value) == "57P02"
		}
		body = rest
	}
	return fatal && !crash
}

func txState(body []byte) engine.TxState {
	if len(body) == 1 {
		switch body[0] {
		case 'I':
			return engine.Idle
		case 'T':
			return engine.InBlock
		}
	}
	return engine.Failed
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
	if !known && len(s.parameters) >= mostParameters {
		return
	}
	s.parameters[n] = v
	if s.eng == nil {
		return
	}
	if known && before != v {
		s.eng.ForgetSettings()
	}
	s.reported(n, v)
}

// mostParameters bounds the settings that are remembered as the origin reports them: no server reports as many.
const mostParameters = 1000

// reported has the engine know of a setting that the origin reports.
func (s *session) reported(name, value string) {
	switch name {
	case "application_name":
		s.eng.SetApplication(value)
	case "client_encoding", "standard_conforming_strings":
		s.eng.SetUTF8(s.parameters["client_encoding"] == "UTF8")
		s.eng.SetUnreadable(unreadable(s.parameters["client_encoding"], s.parameters["standard_conforming_strings"]))
	}
}

// unreadable says why a session's statements cannot be split into tokens, if they cannot. In some encodings the second
// byte of a character may be one that means something in SQL.
func unreadable(encoding, conforming string) reason.Reason {
	if conforming == "off" {
		return reason.Of(reason.Backslashes)
	}
	switch strings.ToUpper(encoding) {
	case "SJIS", "SHIFT_JIS_2004", "BIG5", "GBK", "UHC", "GB18030", "JOHAB":
		return reason.About(reason.Encoding, encoding)
	}
	return reason.Reason{}
}
