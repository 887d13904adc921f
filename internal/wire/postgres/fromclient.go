package postgres

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/fault"
)

// fromClient reads messages until the connection ends.
func (s *session) fromClient() {
	for again := true; again; {
		again = false
		s.client.Receive(s.in.space, func(n int, err error) (more, settled bool) {
			s.in.arrived(n)
			s.settled = false
			more = n == 0 || s.safely()
			if s.settled && len(s.held) == 0 && len(s.in.unread()) == 0 {
				s.endIfDraining()
			}
			if s.silence(errors.Is(err, os.ErrDeadlineExceeded)) {
				again = more
			}
			return more && err == nil, s.settled && len(s.in.unread()) == 0
		})
	}
}

// longestSilence is how long messages are held back that may become part of what can be answered from memory, when
// nothing more comes: the origin's clock for a statement begins with them.
const longestSilence = 3 * time.Millisecond

// silence has the silence after what is held back noticed, and sends that on when it has lasted. It says whether it
// had, and the client is to be read again.
func (s *session) silence(lasted bool) (again bool) {
	if lasted && !s.until.IsZero() {
		s.readsUntil(time.Time{})
		if !s.sendHeld() {
			return false
		}
		again = true
	}
	var until time.Time
	switch {
	case len(s.held) > 0:
		until = time.Now().Add(longestSilence)
	case s.holding():
		until = s.late.due
	}
	if until != s.until {
		s.readsUntil(until)
	}
	return again
}

// readsUntil bounds the next read. Where the session has been ended, it is another bound that counts.
func (s *session) readsUntil(until time.Time) {
	s.until = until
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.clientGone {
		_ = s.client.SetReadDeadline(until)
	}
}

// sendHeld sends on what has been held for long enough, guarded like safely.
func (s *session) sendHeld() (more bool) {
	defer func() {
		if r := recover(); r != nil {
			more = s.afterFault(r)
		}
	}()
	s.partly, s.lateBefore = false, s.late
	return s.flush() && (!s.holding() || time.Now().Before(s.late.due) || s.beginNow())
}

// safely is consume, after a fault in which nothing that has not been sent is lost: from there on everything is
// relayed.
func (s *session) safely() (more bool) {
	defer func() {
		if r := recover(); r != nil {
			more = s.afterFault(r)
		}
	}()
	return s.consume()
}

// afterFault has the rest of a conversation relayed, or ends it where some of what was being dealt with has been
// written already: the rest cannot be told apart from it any more.
func (s *session) afterFault(r any) (more bool) {
	s.server.Fault("a conversation is only relayed from here on", r)
	if s.partly {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.cut(errFault)
		return false
	}
	clear(s.held)
	s.held, s.through = s.held[:0], false
	s.in.pos = s.in.end
	s.mu.Lock()
	s.late = s.lateBefore // what was held or ended since has not been answered, and is among what is relayed
	lost := s.holding() && s.queue.len() > 0
	if lost { // a BEGIN behind replies that may never come could not be waited for
		s.cut(errFault)
	}
	s.mu.Unlock()
	if lost {
		return false
	}
	s.relayRest("a fault of the larder")
	return s.send(s.in.take())
}

// consume deals with the messages that have arrived; false ends the session.
func (s *session) consume() bool {
	for {
		s.partly, s.lateBefore = false, s.late
		if s.following > 0 && !s.follow() {
			return false
		}
		have := len(s.in.unread())
		if have < headerLen {
			s.in.want = headerLen
			break
		}
		if !s.admitted {
			at := s.in.pos
			if !s.loggingIn() {
				return false
			}
			if !s.admitted {
				if s.in.pos == at {
					break // the rest of a response is still to come
				}
				continue
			}
		}
		head := s.in.unread()
		kind, n := head[0], int(binary.BigEndian.Uint32(head[1:]))
		if n < 4 || n > 1<<30 {
			if !s.flush() {
				return false
			}
			s.relayRest("a message that cannot be one") // the server will say so in its own way
			continue
		}
		total := n + 1
		if most := s.settings.MaxMessageSize; total > most {
			s.refuse(
				"54000",
				fmt.Sprintf("jolly larder takes no message longer than %d bytes; this one has %d", most, total),
				"The limit is max_message_size in the larder's configuration.",
			)
			return false
		}
		if s.reserved > 0 && total <= largeBuffer {
			s.unreserve()
		}
		long := total > longest || total > largeBuffer && (kind == 'd' || !s.reserve(total))
		s.in.want = total
		if long {
			s.in.want = headerLen + longestNames
		}
		if have < s.in.want {
			break
		}
		if long && !s.longMessage(kind, total) || !long && !s.message(kind, head[headerLen:total], total) {
			return false
		}
	}
	return !s.through || s.sendThrough()
}

// longestNames is how many bytes of a long message are looked at for the names it begins with.
const longestNames = 512

// follow sends on what has arrived of a long message.
func (s *session) follow() bool {
	n := min(s.following, len(s.in.unread()))
	s.in.pos += n
	s.following -= n
	return n == 0 || s.send(s.in.take())
}

// sendThrough sends on the copy data that has arrived.
func (s *session) sendThrough() bool {
	s.through = false
	return s.send(s.in.take())
}

// refuse ends the connection for something the client sent.
func (s *session) refuse(code, message, hint string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.mid {
		s.client.Sever()
		return
	}
	s.server.Logger().Warn("a connection was ended", "client", s.client.RemoteAddr(), "why", message)
	s.end(code, message, hint)
}

// message takes one whole message; false ends the session.
func (s *session) message(kind byte, body []byte, total int) bool {
	fault.Point("message")
	start := s.in.pos - s.in.start
	p := part{kind: kind, start: start, end: start + total}
	if kind == 'd' {
		s.through = len(s.held) == 0 || s.flush()
		s.in.pos += total
		return s.through
	}
	if s.through && !s.sendThrough() {
		return false
	}
	p.start, p.end = s.in.pos-s.in.start, s.in.pos-s.in.start+total
	switch kind {
	case 'Q':
		if !s.flush() {
			return false
		}
		s.in.pos += total
		return s.query(body)
	case 'P':
		s.parse(&p, body)
	case 'B':
		p.bind(body)
	case 'E':
		at := bytes.IndexByte(body, 0)
		p.name = place{p.start + headerLen, p.start + headerLen + max(at, 0)}
		p.wrong = at < 0 || len(body)-at != 5
		p.limited = p.wrong || binary.BigEndian.Uint32(body[at+1:]) != 0
	case 'D', 'C':
		p.wrong = true
		if at := bytes.IndexByte(body, 0); at > 0 {
			p.ofPortal, p.wrong = body[0] == 'P', at != len(body)-1 || body[0] != 'P' && body[0] != 'S'
			p.name = place{p.start + headerLen + 1, p.start + headerLen + at}
		}
	case 'S', 'H':
		p.wrong = len(body) > 0
		s.in.pos += total
		s.held = append(s.held, p)
		return s.flush()
	case 'F':
		if !s.flush() {
			return false
		}
		s.in.pos += total
		return s.beginNow() && s.functionCall(body)
	default: // the end of copy data, a password, the end, or what later versions may bring: it has no place in a batch
		if !s.flush() {
			return false
		}
		s.in.pos += total
		if kind != 'X' && !s.beginNow() {
			return false
		}
		switch kind {
		case 'X':
			s.mu.Lock()
			s.leaving = true
			s.mu.Unlock()
		case 'c', 'f':
			s.mu.Lock()
			if s.queue.len() > 0 {
				s.queue.last().copied = true
			}
			s.mu.Unlock()
		}
		return s.send(s.in.take()) && kind != 'X'
	}
	s.in.pos += total
	s.held = append(s.held, p)
	if s.in.pos-s.in.start > mostHeld {
		return s.flush()
	}
	return true
}

func (s *session) parse(p *part, body []byte) {
	name, rest, ok := cstring(body)
	sql, types, ok2 := cstring(rest)
	if !ok || !ok2 {
		p.stmt, p.wrong = s.unknown(reason.BadParse), true
		return
	}
	p.name = place{p.start + headerLen, p.start + headerLen + len(name)}
	if len(name) == 0 {
		// The same again is common and costs nothing; another one is made anew, since portals may hold on to the old.
		if u := s.unnamed; u == nil || !bytes.Equal(u.sql, sql) || !bytes.Equal(u.types, types) {
			s.unnamed = s.newPrepared("", sql, types)
		}
		p.stmt = s.unnamed
		return
	}
	p.stmt = s.newPrepared(string(name), sql, types)
}

// bind finds the places of what a Bind message holds.
func (p *part) bind(body []byte) {
	at := p.start + headerLen
	portal := bytes.IndexByte(body, 0)
	name := bytes.IndexByte(body[portal+1:], 0)
	if portal < 0 || name < 0 {
		p.wrong = true
		return
	}
	p.name = place{at, at + portal}
	p.statement = place{at + portal + 1, at + portal + 1 + name}
	p.bound = p.statement.to + 1
}

// writeClient writes what is not the origin's to the client. It is called with mu held.
func (s *session) writeClient(b []byte) bool {
	if s.clientGone {
		return false
	}
	fault.Point("write to client")
	return s.tell(b, s.eng != nil && s.eng.Leads())
}

// answer writes answers from memory. It is fromClient's, and called with mu held.
func (s *session) answer(b []byte) bool {
	if s.clientGone {
		return false
	}
	fault.Point("write to client")
	if s.eng.Leads() {
		return s.tell(b, true)
	}
	s.telling.Lock()
	defer s.telling.Unlock()
	return s.client.Answer(b) == nil
}

// slowReader is how long a client may take to read before others go on without the result that is meant for it.
const slowReader = 100 * time.Millisecond

// tell writes to the client. If that takes long, nobody waits for what the session fetches any more: one client that
// does not read must not hold up others. It is called with telling not held.
func (s *session) tell(b []byte, leads bool) bool {
	s.telling.Lock()
	defer s.telling.Unlock()
	return s.told(b, leads)
}

// told is tell with telling held.
func (s *session) told(b []byte, leads bool) bool {
	if leads {
		slow := time.AfterFunc(slowReader, s.eng.LetGo)
		defer slow.Stop()
	}
	_, err := s.client.Write(b)
	return err == nil
}

// write sends bytes to the origin. It is called with sending held.
func (s *session) write(b []byte) bool {
	if len(b) == 0 {
		return true
	}
	fault.Point("write to origin")
	_, err := s.origin.Write(b)
	return err == nil
}

// send writes bytes that belong to no exchange of their own. It is fromClient's.
func (s *session) send(b []byte) bool {
	s.partly = true
	s.sending.Lock()
	defer s.sending.Unlock()
	return s.write(b)
}

// longMessage deals with the beginning of a message that is too long to be looked at whole, and is relayed as it comes.
// What it runs may do anything.
func (s *session) longMessage(kind byte, total int) bool {
	if s.through && !s.sendThrough() || !s.flush() || kind != 'd' && !s.beginNow() {
		return false
	}
	s.following = total
	if kind == 'd' {
		return true
	}
	var name, of []byte
	if kind == 'P' || kind == 'B' {
		var ok, ok2 bool
		var rest []byte
		name, rest, ok = cstring(s.in.unread()[headerLen:])
		of, _, ok2 = cstring(rest)
		if !ok || kind == 'B' && !ok2 {
			s.relayRest("a name that is too long")
			return true
		}
	}
	now := s.server.Time()
	s.sending.Lock()
	defer s.sent()
	s.mu.Lock()
	defer s.mu.Unlock()
	fault.Point("long message")
	if s.raw || s.clientGone {
		return s.raw
	}
	if deaf, ok := s.deaf(); deaf {
		return ok
	}
	long := s.unknown(reason.TooLongToAnalyse)
	switch kind {
	case 'Q', 'F':
		x := s.openWhole(now)
		e := s.execution(s.eng.Begin(&engine.Request{Statement: long.st, NoAsking: true}, now))
		s.expects(x, expected{kind: wholeExchange, exec: e, unnamed: unnamed{gone, gone}})
		s.start(x, e, now)
		s.forgetPortal()
	case 'P':
		b := batch{s: s, now: now, held: s.in.unread()}
		b.message(&part{kind: 'P', name: place{headerLen, headerLen + len(name)}, stmt: long})
		if len(name) == 0 {
			s.unnamed = nil
		}
	case 'B':
		s.toOrigin = s.toOrigin[:0]
		b := batch{s: s, now: now, held: s.in.unread()}
		second := headerLen + len(name) + 1
		b.message(
			&part{kind: 'B', name: place{headerLen, headerLen + len(name)}, statement: place{second, second + len(of)}},
		)
		ok, msg := true, s.toOrigin
		s.partly = len(msg) > 0
		s.outside(func() { ok = s.write(msg) })
		return ok
	default:
		s.lose(fmt.Sprintf("a message of type %q and %d bytes", kind, total), now)
	}
	return true
}

// relayRest sends on whatever still comes.
func (s *session) relayRest(why string) {
	if !s.beginNow() {
		return
	}
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.awaitQuestions()
	s.lose(why, s.server.Time())
	s.following = math.MaxInt
	fault.Point("relay the rest")
}
