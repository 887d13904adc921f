package postgres

import (
	"bytes"
	"encoding/binary"
	"errors"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/store"
	"jollylarder/internal/fault"
)

// A BEGIN tells the origin nothing that others could see. So the larder answers it, and the origin gets it together
// with the first message of the block that is for the origin. Where there is none before the block ends, since all of
// it was answered from memory, the origin gets neither: such a block costs no round trip.
//
// The origin must notice nothing else. So only a BEGIN is held that it would not refuse; what it is sent with belongs to
// the same exchange, so that nothing is run outside of the block if the BEGIN goes wrong after all, as by a request to
// cancel; and it is held for a short time only, since the block's now() is when the origin has got it, and since the
// origin bounds how long a block may be idle.

// heldBegin is a BEGIN that the client was answered and the origin has not been sent.
type heldBegin struct {
	text string
	due  time.Time
}

// holding says whether a BEGIN is being held.
func (c *conversation) holding() bool { return c.late != nil }

// tag gives the completion of a statement that begins or ends a block.
func tag(st *engine.Statement) string {
	switch st.Pattern.Facts.Kind {
	case analysis.KindCommit:
		return "COMMIT"
	case analysis.KindRollback:
		return "ROLLBACK"
	}
	if start := []byte("start"); len(st.Exact) >= len(start) && bytes.EqualFold(st.Exact[:len(start)], start) {
		return "START TRANSACTION"
	}
	return "BEGIN"
}

// completions are the replies to statements that begin or end a block, as if they were kept: by their tags, without a
// description and with that of no rows.
var completions = func() map[string][2]*store.Entry {
	all := map[string][2]*store.Entry{}
	for _, tag := range []string{"BEGIN", "START TRANSACTION", "COMMIT", "ROLLBACK"} {
		var both [2]*store.Entry
		for i, described := range [][]byte{nil, frame(nil, 'n')} {
			reply := append(append([]byte{}, lead...), described...)
			reply = frame(reply, 'C', []byte(tag), []byte{0})
			both[i] = &store.Entry{Reply: append(reply, trail...)}
		}
		all[tag] = both
	}
	return all
}()

// holds says whether the larder answers a statement that begins or ends a block, and the origin is not sent it for now:
// a BEGIN that can wait, or the end of a block of which the origin knows nothing.
func (s *session) holds(st *engine.Statement, t engine.Ticket) bool {
	f := st.Pattern.Facts
	if !f.Certain || t.Step() != engine.StepForward || s.queue.len() > 0 || s.mid {
		return false
	}
	if f.Kind != analysis.KindBegin {
		return s.holding()
	}
	return s.settings.BeginDelay > 0 && !s.holding() && s.eng.State() == engine.Idle && !s.eng.InBlock() &&
		!s.answeredInBlock && t.Ahead == 0 && s.eng.Knows() && !s.startup.replication &&
		s.server.Engine.Rules().Caches()
}

// bindsNothing says whether a statement has no parameters, and is bound to none, as the server insists.
func bindsNothing(stmt *prepared, bound []byte) bool {
	if string(stmt.types) != "\x00\x00" || len(bound) < 6 || string(bound[:4]) != "\x00\x00\x00\x00" {
		return false
	}
	formats := bound[4:] // of the results, of which there are none
	return len(formats) == 2+2*int(binary.BigEndian.Uint16(formats))
}

// hold has a statement of which holds is true count as run, and gives the reply to it. Described says whether it is
// asked for a description as well.
func (s *session) hold(st *engine.Statement, t engine.Ticket, described bool, now time.Time) *store.Entry {
	fault.Point("hold")
	state := engine.Idle
	if st.Pattern.Facts.Kind == analysis.KindBegin {
		state = engine.InBlock
		s.late = &heldBegin{string(st.Exact), time.Now().Add(s.settings.BeginDelay)}
	} else {
		s.late = nil
	}
	t.Sent(now)
	t.End(engine.Result{Here: true, Took: s.server.Time().Sub(now)}, s.server.Time())
	s.eng.Ready(state)
	if state == engine.Idle {
		s.forgetPortal()
		s.answeredInBlock = false
	}
	s.active = now
	both := completions[tag(st)]
	if described {
		return both[1]
	}
	return both[0]
}

// controls says whether a unit runs a statement that may be held. How many rows it is asked for is all the same then.
func (s *session) controls(b *batch, u *unit) bool {
	if u.parse != nil {
		return u.parse.stmt.st.Pattern.Facts.Certain
	}
	return s.meant(b.at(u.bind.statement)).st.Pattern.Facts.Certain
}

// owedBegin appends the BEGIN that is held, as part of a batch: its replies are for nobody.
func (c *conversation) owedBegin(x *exchange, dst []byte) []byte {
	if !c.holding() {
		return dst
	}
	whole := questionMessages(c.late.text)
	c.late = nil
	for _, kind := range []byte("CPBECC") {
		c.expects(x, expected{kind: kind, silent: true})
	}
	return append(dst, whole[:len(whole)-len(syncMessage)]...)
}

// oweBegin puts in the BEGIN that is held before a message that is to be sent.
func (b *batch) oweBegin(start int) {
	if b.s.holding() {
		b.copyUpTo(start)
		b.s.toOrigin = b.s.owedBegin(b.exchange(), b.s.toOrigin)
	}
}

// beginNow sends the BEGIN that is held, if one is, and waits until the origin has taken it; false if that was not to
// be, and the session has ended. It is fromClient's, and called with no lock held.
func (s *session) beginNow() bool {
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.holding() || s.clientGone || s.originGone {
		return true
	}
	fault.Point("begin now")
	q := &question{done: make(chan struct{})}
	msg := questionMessages(s.late.text)
	s.late = nil
	s.put([]*question{q}, msg)
	s.outside(func() { <-q.done })
	if q.bad {
		s.cut(errBegin) // the client believes to be in a block
		return false
	}
	return true
}

// errBegin is the cause of a session's end where the origin has refused a BEGIN that the client was answered.
var errBegin = errors.New("the database has not begun a transaction of which the client believes that it has")

// deaf says whether the origin hears nothing of what is to be sent to it, up to a Sync. It is not ok where that Sync is
// the larder's own and has not been sent: then the session ends, since the client believes to be in a block.
func (s *session) deaf() (deaf, ok bool) {
	x := s.openExchange()
	if x == nil || !x.failed {
		return false, true
	}
	if x.began {
		s.cut(errBegin)
		return true, false
	}
	return true, true
}

// refusesBegin says whether an error that is arriving is that of a held BEGIN, in an exchange that ends by itself.
func (x *exchange) refusesBegin() bool {
	e := x.current()
	return x.began && e != nil && e.silent
}

// refusedBegin follows such an error. The origin hears nothing more until a Sync, and the client, which has asked a
// simple query, will send none. Behind says whether the client has sent more since, in the belief to be in a block. It
// is called with mu held.
func (s *session) refusedBegin(x *exchange, behind bool) {
	if behind {
		s.cut(errBegin) // the origin does not hear that either, and is not to run it outside of a block
		return
	}
	s.aside(func() {
		fault.Point("sync after a refused begin")
		s.sending.Lock()
		defer s.sending.Unlock()
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.clientGone || s.raw || s.queue.len() != 1 || s.queue.first() != x {
			s.cut(errBegin)
			return
		}
		x.closed, x.synced = true, true
		s.outside(func() { s.write(syncMessage) })
	})
}
