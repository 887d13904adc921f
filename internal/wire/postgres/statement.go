package postgres

import (
	"encoding/binary"
	"hash/maphash"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/fault"
)

// begin has the engine decide on a statement, and puts the engine's questions to the origin first where it has any. It
// is called with sending and mu held, and gives mu up while waiting for answers.
func (s *session) begin(r *engine.Request, now time.Time) engine.Ticket {
	if s.mayDependOn(r.Pattern) {
		s.awaitQuestions()
	}
	r.NoAsking = !s.mayAsk() || s.startup.replication // which takes no questions of this kind
	r.NoWaiting = s.queue.len() > 0 || s.mid          // or somebody could wait in a circle
	t := s.eng.Begin(r, now)
	for {
		switch t.Step() {
		case engine.StepAsk:
			s.ask(t.Need)
			s.awaitQuestions()
			r.NoAsking = true
		case engine.StepWait:
			s.await(t.Done())
			if s.clientGone || s.originGone || s.ending.Load() {
				return t
			}
			s.awaitQuestions()
			r.NoAsking = true
			now = s.server.Time()
		default:
			if t.Own {
				t.Entry = s.report(r.Shape, r.Bound)
			}
			return t
		}
		r.NoWaiting = s.queue.len() > 0 || s.mid
		t.Again(r, now)
	}
}

// read has the engine read a statement. A fault in that must not cost the client its connection: the statement is
// then sent on as one that may do anything.
func (s *session) read(sql []byte) (st engine.Statement) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.reads(sql)
}

// reads is read, called with mu held.
func (s *session) reads(sql []byte) (st engine.Statement) {
	defer func() {
		if r := recover(); r != nil {
			s.server.Logger().Error("a fault in the larder: a statement could not be read", "fault", r)
			st = engine.Statement{Pattern: s.server.Engine.Unreadable(reason.Of(reason.LarderFault))}
		}
	}()
	fault.Point("read")
	return s.eng.Read(sql)
}

// query takes a simple query whose message has just been passed.
func (s *session) query(body []byte) bool {
	now := s.server.Time()
	s.settled = true // whatever becomes of it, the client gets something
	s.sending.Lock()
	defer s.sent()
	before, send, ok := s.simple(body, now)
	if !ok || !send {
		s.in.take()
		return ok
	}
	msg := s.in.take()
	if len(before) > 0 { // what belongs together is written together
		msg = append(before, msg...)
	}
	s.partly = true
	return s.write(msg)
}

// queried has the statement of a simple query read. It is called with mu held.
func (s *session) queried(body []byte) engine.Statement {
	sql, rest, ok := cstring(body)
	switch {
	case !ok || len(rest) > 0:
		return engine.Statement{Pattern: s.server.Engine.Unreadable(reason.Of(reason.BadQuery))}
	case s.startup.replication && replicationCommand(sql):
		return engine.Statement{Pattern: s.server.Engine.Harmless(reason.Of(reason.Replication))}
	}
	return s.reads(sql)
}

// simple answers a simple query from memory, or says that it is to be sent on, and what before it. Ok is false if the
// client cannot be reached any more.
func (s *session) simple(body []byte, now time.Time) (before []byte, send, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := s.queried(body)
	if !s.waitForRoom() || s.clientGone {
		return nil, false, false
	}
	if s.raw {
		return nil, true, true
	}
	if deaf, ok := s.deaf(); deaf {
		return nil, ok, ok
	}
	if s.mayDependOn(st.Pattern) {
		s.awaitQuestions()
	}
	t := s.begin(&engine.Request{Statement: st, Shape: 'q', Busy: s.busy(false)}, now)
	fault.Point("decided")
	if t.Step() == engine.StepAnswer {
		// Any simple query makes the server forget the unnamed statement and portal.
		s.here, s.hereNow = nil, nil
		s.local, s.portal, s.portalStale = localPortal{}, nil, s.portalThere
		s.answeredInBlock = s.answeredInBlock || s.eng.InBlock()
		var answer []byte
		answer, s.scratch = serve(s.scratch[:0], t.Entry, form{ready: true}, s.eng.State())
		s.partly = true
		ok = s.answer(answer)
		s.finishHit(t, len(answer), now)
		s.active = now
		return nil, false, ok
	}
	if s.holds(&st, t) {
		s.here, s.hereNow = nil, nil
		s.local, s.portal, s.portalStale = localPortal{}, nil, s.portalThere
		var answer []byte
		answer, s.scratch = serve(s.scratch[:0], s.hold(&st, t, false, now), form{ready: true}, s.eng.State())
		s.partly = true
		return nil, false, s.answer(answer)
	}
	s.askBefore(t)
	began := s.holding()
	if began {
		x := s.openExchange()
		if x == nil {
			x = s.queue.open(now)
		}
		before = s.owedBegin(x, nil)
	}
	if s.owesQuery(t) {
		if x := s.openExchange(); x != nil {
			before = s.owedQuery(x, before)
		} else if s.queue.separate() {
			s.answeredInBlock = false
			s.queue.push(&exchange{closed: true, synced: true, question: &question{done: make(chan struct{})}})
			before = questionMessages(anyQuery)
		}
	}
	x := s.openWhole(now)
	e := s.execution(t)
	e.gather = x.silent() && t.Outcome == ledger.Miss
	x.began, x.ahead = began, len(s.in.unread()) > 0
	s.expects(x, expected{kind: wholeExchange, exec: e, unnamed: unnamed{gone, gone}})
	s.start(x, e, now)
	s.forgetPortal()
	return before, true, true
}

// functionCall takes a call by number, which runs past all SQL.
func (s *session) functionCall(body []byte) bool {
	now := s.server.Time()
	s.sending.Lock()
	defer s.sent()
	if !s.callsNumber(body, now) {
		return false
	}
	s.partly = true
	return s.write(s.in.take())
}

// callsNumber notes a call by number that is to be sent.
func (s *session) callsNumber(body []byte, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.clientGone {
		return false
	}
	if s.raw {
		return true
	}
	deaf, ok := s.deaf()
	if !deaf {
		x := s.openWhole(now)
		var number uint32
		if len(body) >= 4 {
			number = binary.BigEndian.Uint32(body)
		}
		e := s.execution(
			s.eng.Begin(&engine.Request{Statement: s.eng.Numbered(number), Busy: reason.ByNumber, NoAsking: true}, now),
		)
		fault.Point("call by number")
		s.expects(x, expected{kind: wholeExchange, exec: e})
		s.start(x, e, now)
	}
	return ok
}

// start tells the engine that a statement is sent on as part of an exchange.
func (s *session) start(x *exchange, e *execution, now time.Time) {
	e.sent, s.unsent = now, false
	s.forgets(e.Ticket)
	if e.Outcome == ledger.Miss {
		e.sent = s.server.Time() // questions may have come in between
	}
	if e.gather {
		e.reply = append(make([]byte, 0, 256), lead...)
	}
	if !e.Quiet() {
		x.loud++
	}
	fault.Point("start")
	e.Sent(now)
	if e.Compare {
		e.sum = &maphash.Hash{}
		e.sum.SetSeed(sumSeed)
	}
}

func (s *session) finishHit(t engine.Ticket, bytes int, arrived time.Time) {
	now := s.server.Time()
	fault.Point("finish hit")
	t.End(engine.Result{Took: now.Sub(arrived), Bytes: bytes}, now)
	s.rest(now)
}

// endExchange follows a ReadyForQuery. What the exchange has changed must count before the client gets to know.
func (s *session) endExchange(x *exchange, state engine.TxState, now time.Time) {
	fault.Point("end of exchange")
	if s.login {
		s.admit()
	}
	s.hasEnded(x)
	s.endTickets(x, now)
	s.stands(x, state)
	s.active = now
	s.queue.recycle(x)
	s.rest(now)
}

// endTickets has everything over that was sent in an exchange which has ended.
func (s *session) endTickets(x *exchange, now time.Time) {
	for i := range x.expect {
		y := &x.expect[i]
		e := y.exec
		switch {
		case e == nil:
			continue
		case y.kind == fromMemory:
			if y.local != nil { // it waited behind what went wrong
				e.Drop()
			}
		case y.kind == wholeExchange:
			if !e.done {
				e.done, e.took, e.fetch = true, now.Sub(x.arrived), now.Sub(e.sent)
			}
			s.finish(x, e, now)
		case y.kind != 'E':
			continue
		case e.done:
			s.finish(x, e, now)
		default:
			e.Skip()
		}
		s.copied(e)
		if len(s.idle) < mostFree {
			*e = execution{}
			s.idle = append(s.idle, e)
		}
	}
}

// finish tells the engine of a statement's end.
func (s *session) finish(x *exchange, e *execution, now time.Time) {
	r := engine.Result{Took: e.took, Fetch: e.fetch, Rows: e.rows, Bytes: e.bytes, Failed: x.failed}
	if e.gather && e.Outcome == ledger.Miss && !x.failed && !x.noticed && e.bytes == len(e.reply)-len(lead) {
		r.Reply = append(e.reply, trail...)
	}
	if e.sum != nil {
		r.Sum = max(e.sum.Sum64(), 1)
	}
	fault.Point("finish")
	e.End(r, now)
}
