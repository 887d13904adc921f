package postgres

import (
	"encoding/binary"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/postgres"
	"jollylarder/internal/fault"
)

// flush deals with the held messages in their order: it answers from memory what can be, and sends on the rest.
func (s *session) flush() bool {
	if len(s.held) == 0 {
		return true
	}
	s.sending.Lock()
	defer s.sent()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.waitForRoom() || s.clientGone {
		return false
	}
	s.settled = s.held[len(s.held)-1].kind == 'S'
	s.unsent = s.queue.len() == 0
	defer func() { s.unsent = false }()
	b := batch{s: s, now: s.server.Time(), held: s.in.held(), asHeld: true}
	s.answers, s.toOrigin, s.hits = s.answers[:0], s.toOrigin[:0], s.hits[:0]
	for i := 0; i < len(s.held) && !s.raw; {
		deaf, ok := s.deaf()
		if !ok {
			return false
		}
		if deaf && s.held[i].kind != 'S' {
			i++
			continue
		}
		if u, ok := s.unitAt(i); ok && (!u.execute.limited || s.controls(&b, &u)) {
			i += b.unit(u)
			continue
		}
		b.message(&s.held[i])
		i++
	}
	b.upTo(len(b.held))
	if !b.answer() {
		return false
	}
	msg := b.held
	if !b.asHeld {
		msg = s.toOrigin
	}
	ok := true
	s.partly = true
	if len(msg) > 0 {
		s.outside(func() { ok = s.write(msg) })
	}
	clear(s.held)
	if s.held = s.held[:0]; cap(s.held) > 256 {
		s.held = nil
	}
	s.in.take()
	if cap(s.toOrigin) > largeBuffer {
		s.toOrigin = nil
	}
	if cap(s.answers) > largeBuffer {
		s.answers = nil
	}
	return ok
}

// waitForRoom waits while too many replies are outstanding, having seen to it that they come. It is called with sending
// and mu held, and gives mu up while it waits.
func (s *session) waitForRoom() bool {
	if s.outstanding < mostOutstanding || s.raw {
		return true
	}
	ok := true
	s.outside(func() { ok = s.write(flushMessage) })
	s.crowded = s.outstanding >= mostOutstanding
	for s.crowded && !s.originGone && !s.raw {
		s.room.Wait()
	}
	return ok && !s.originGone
}

var (
	flushMessage = frame(nil, 'H')
	syncMessage  = frame(nil, 'S')
)

// batch is the held messages while they are being dealt with.
type batch struct {
	s    *session
	now  time.Time
	held []byte

	asHeld bool // all held bytes so far are sent as they are
	sent   int  // those before this are sent, or answered

	// What is answered at once, before anything is sent: one answer in the entry's own bytes, or several in s.answers.
	single []byte
}

// at gives the held bytes at a place.
func (b *batch) at(p place) []byte { return b.held[p.from:p.to] }

// hit is an answer from memory that is being written.
type hit struct {
	engine.Ticket
	bytes int
}

// prepares notes that a statement is prepared now. One that was prepared before under other settings or definitions is
// another from then on.
func (b *batch) prepares(p *part) {
	now := b.s.eng.Parsed()
	have := p.stmt.parsed
	if have != nil && have.Same(&now) {
		return // the same again is common, and costs nothing
	}
	kept := now
	if have == nil {
		p.stmt.parsed = &kept
	} else {
		again := *p.stmt
		again.parsed = &kept
		if p.stmt == b.s.unnamed {
			b.s.unnamed = &again
		}
		p.stmt = &again
	}
}

// upTo has all held bytes up to a place sent.
func (b *batch) upTo(end int) {
	if !b.asHeld && end > b.sent {
		b.s.toOrigin = append(b.s.toOrigin, b.held[b.sent:end]...)
	}
	b.sent = max(b.sent, end)
}

// copyUpTo is called where something is left out or put in: from there on, what is sent is no longer what is held.
func (b *batch) copyUpTo(at int) {
	if b.asHeld {
		b.asHeld = false
		b.s.toOrigin = append(b.s.toOrigin, b.held[:at]...)
		b.sent = at
	}
	b.upTo(at)
}

// leaveOut keeps the held bytes of messages from being sent.
func (b *batch) leaveOut(start, end int) {
	b.copyUpTo(start)
	b.sent = end
}

// say answers something at once. An answer in scratch must be gathered up before scratch is used again.
func (b *batch) say(answer []byte) {
	b.gatherUp()
	b.single = answer
}

// gatherUp puts the answer so far where others can be added.
func (b *batch) gatherUp() {
	b.s.answers = append(b.s.answers, b.single...)
	b.single = nil
}

// answer writes what is answered at once.
func (b *batch) answer() bool {
	s := b.s
	msg := b.single
	if len(s.answers) > 0 {
		b.gatherUp()
		msg = s.answers
	}
	if len(msg) == 0 {
		return true
	}
	s.partly = true
	ok := s.answer(msg)
	for i := range s.hits {
		h := &s.hits[i]
		s.finishHit(h.Ticket, h.bytes, b.now)
	}
	clear(s.hits)
	s.active = b.now
	return ok
}

// exchange gives the exchange that messages are sent in.
func (b *batch) exchange() *exchange {
	x := b.s.openExchange()
	if x == nil {
		x = b.s.queue.open(b.now)
	}
	return x
}

// unit is the messages by which one statement is asked for in a form that memory can answer: Parse and Bind of the
// unnamed statement, or Bind of any; Bind of the unnamed portal; Describe of it or not; Execute for all its rows; Close
// of it or not; Sync or not.
type unit struct {
	parse, bind, describe, execute, close, sync *part
}

// unitAt looks for a unit that begins with a held message.
func (s *session) unitAt(i int) (u unit, ok bool) {
	next := func(kind byte) *part {
		if i < len(s.held) {
			if p := &s.held[i]; p.kind == kind && p.name.empty() && !p.wrong {
				i++
				return p
			}
		}
		return nil
	}
	u.parse = next('P')
	if u.bind = next('B'); u.bind == nil || u.parse != nil && !u.bind.statement.empty() {
		return u, false
	}
	ofPortal := func(kind byte) *part {
		if i < len(s.held) && s.held[i].ofPortal {
			return next(kind)
		}
		return nil
	}
	u.describe = ofPortal('D')
	if u.execute = next('E'); u.execute == nil {
		return u, false
	}
	u.close = ofPortal('C')
	u.sync = next('S')
	return u, true
}

// unit answers a unit from memory, or sends it on. It gives the number of messages dealt with.
func (b *batch) unit(u unit) (n int) {
	s := b.s
	fault.Point("unit")
	var stmt *prepared
	if u.parse != nil {
		b.prepares(u.parse)
		stmt = u.parse.stmt
	} else {
		stmt = s.meant(b.at(u.bind.statement))
	}
	if s.mayDependOn(stmt.st.Pattern) {
		s.awaitQuestions()
	}
	r := engine.Request{Statement: stmt.st, Shape: 'x', Types: stmt.types, Busy: s.busy(true)}
	if stmt.without && r.Busy == reason.None {
		r.Busy = reason.NoRoom
	}
	if u.describe != nil {
		r.Shape = 'd'
	}
	if u.parse == nil {
		r.Parsed = stmt.parsed
	}
	r.Bound = b.held[u.bind.bound:u.bind.end]
	r.MayMeanNow = r.MayMeanNow || boundMayMeanNow(r.Bound)
	t := s.begin(&r, b.now)
	entry, held := t.Entry, bindsNothing(stmt, r.Bound) && s.holds(&stmt.st, t)
	switch {
	case held:
		entry = s.hold(&stmt.st, t, u.describe != nil, b.now)
	case t.Step() != engine.StepAnswer:
		return b.sendUnit(&u, t)
	}
	n = 2
	// What no Sync has ended is a transaction, too.
	s.answeredInBlock = !held && (s.answeredInBlock || s.eng.InBlock() || u.sync == nil)
	first, last := u.bind, u.execute
	f := form{bind: true}
	var prepares unnamed
	if u.parse != nil {
		n++
		first, f.parse = u.parse, true
		prepares.here = stmt
	}
	if u.describe != nil {
		n++
	}
	s.bound = stmt
	s.local, s.portal = localPortal{}, nil
	if !held && !t.Own { // the origin could not run it
		s.local = localPortal{stmt: stmt, statement: stmt.name, entry: t.Entry, bound: len(r.Bound)}
		s.portal = &s.local
	}
	s.portalStale = s.portalStale || s.portalThere
	if u.close != nil {
		n++
		last, f.close = u.close, true
		s.local, s.portal = localPortal{}, nil
	}
	x := s.openExchange()
	if x != nil && !x.answered() {
		answer, _ := serve(nil, entry, f, s.eng.State())
		s.expects(x, expected{kind: fromMemory, exec: s.execution(t), unnamed: prepares, local: answer})
		b.leaveOut(first.start, last.end)
		return n
	}
	prepares.on(&s.here, &s.there)
	prepares.on(&s.hereNow, &s.thereNow)
	if u.sync != nil && x == nil {
		n++
		last, f.ready = u.sync, true
		b.synced()
	}
	b.gatherUp() // before scratch is used again
	var answer []byte
	answer, s.scratch = serve(s.scratch[:0], entry, f, s.eng.State())
	b.say(answer)
	if !held { // it has come to its end
		s.hits = append(s.hits, hit{t, len(answer)})
	}
	b.leaveOut(first.start, last.end)
	return n
}

// synced follows a Sync that is answered here, since the origin has heard nothing of what it ends.
func (b *batch) synced() {
	if b.s.eng.State() == engine.Idle {
		b.s.forgetPortal()
		b.s.answeredInBlock = false
	}
}

// sendUnit sends a unit on; a Sync at its end is left to be dealt with.
func (b *batch) sendUnit(u *unit, t engine.Ticket) (n int) {
	s := b.s
	n = 2
	first := u.bind
	if u.parse != nil {
		first = u.parse
	}
	s.askBefore(t)
	b.oweBegin(first.start)
	b.oweQuery(first, t)
	if u.parse != nil {
		b.message(u.parse)
		n++
	}
	b.message(u.bind)
	x := b.exchange()
	e := s.execution(t)
	e.gather = t.Outcome == ledger.Miss
	if u.describe != nil {
		s.expects(x, expected{kind: 'D', exec: e})
		n++
	}
	s.start(x, e, b.now)
	s.expects(x, expected{kind: 'E', exec: e})
	b.upTo(u.execute.end)
	if u.close != nil {
		b.message(u.close)
		n++
	}
	return n
}

// message sends on one message, after those that the origin has not been sent and that it rests on. A Sync or Flush
// that ends nothing the origin has heard of is answered here.
func (b *batch) message(p *part) {
	s := b.s
	fault.Point("batch")
	if b.own(p) {
		return
	}
	if p.kind != 'S' && p.kind != 'H' || p.wrong {
		b.oweBegin(p.start)
	}
	switch p.kind {
	case 'S':
		if s.queue.len() > 0 || p.wrong {
			s.sendsSync(b.exchange())
			break
		}
		b.synced()
		b.say(readyFor[s.eng.State()])
		b.leaveOut(p.start, p.end)
	case 'H':
		if p.wrong {
			b.exchange() // in which the error comes
		} else if s.openExchange() == nil {
			b.leaveOut(p.start, p.end)
		}
	case 'P':
		b.prepares(p)
		s.sendsParse(b.exchange(), string(b.at(p.name)), p.stmt)
	case 'E':
		s.eng.Used(s.boundTo(b.at(p.name)).parsed)
		if p.name.empty() && s.portal != nil && !p.wrong {
			b.exhausted(p)
			return
		}
		b.owe(p)
		x := b.exchange()
		stmt, why := s.boundTo(b.at(p.name)), reason.OtherForm
		if p.limited {
			why = reason.SomeRows
		}
		t := s.eng.Begin(&engine.Request{Statement: stmt.st, Busy: why, NoAsking: true}, b.now)
		b.oweQuery(p, t)
		e := s.execution(t)
		s.start(x, e, b.now)
		s.expects(x, expected{kind: 'E', exec: e})
	case 'B':
		s.eng.Used(s.meant(b.at(p.statement)).parsed)
		b.owe(p)
		stmt := s.meant(b.at(p.statement))
		s.sendsBind(b.exchange(), b.at(p.name), stmt)
	case 'D':
		if !p.ofPortal && !p.wrong {
			s.eng.Used(s.meant(b.at(p.name)).parsed)
		}
		b.owe(p)
		s.expects(b.exchange(), expected{kind: 'D'})
	case 'C':
		if x := b.exchange(); p.wrong {
			s.expects(x, expected{kind: 'C'})
		} else {
			s.sendsClose(x, p.ofPortal, b.at(p.name))
		}
	}
	b.upTo(p.end)
}

// owe puts in what the origin needs before a message.
func (b *batch) owe(p *part) {
	if !b.s.owes(p) {
		return
	}
	b.copyUpTo(p.start)
	b.s.toOrigin = b.s.owed(b.exchange(), p, b.s.toOrigin)
}

// oweQuery puts in a query before a message, if the statement that is to be run is owed one.
func (b *batch) oweQuery(p *part, t engine.Ticket) {
	if b.s.owesQuery(t) {
		b.copyUpTo(p.start)
		b.s.toOrigin = b.s.owedQuery(b.exchange(), b.s.toOrigin)
	}
}

// exhausted answers the Execute of a portal all of whose rows were answered from memory: it has none left. Where it is
// not certain that the transaction is still a sound one by then, the origin is to say so.
func (b *batch) exhausted(p *part) {
	s := b.s
	fault.Point("exhausted")
	if s.busy(true) != reason.None {
		b.copyUpTo(p.start)
		x := b.exchange()
		s.toOrigin = s.owed(x, p, s.toOrigin)
		s.toOrigin = frame(s.toOrigin, 'E', []byte{0, 0, 0, 0, 0})
		s.expects(x, expected{kind: 'E', silent: true})
		s.portal = nil
		b.message(p)
		return
	}
	b.leaveOut(p.start, p.end)
	if x := s.openExchange(); x != nil && !x.answered() {
		s.expects(x, expected{kind: fromMemory, local: noRows})
		return
	}
	b.say(noRows)
}

var noRows = frame(nil, 'C', []byte("SELECT 0\x00"))

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
		if len(b) < l || syntax.Syntax.MayMeanNow(b[:l]) {
			return true
		}
		b = b[l:]
	}
	return false
}
