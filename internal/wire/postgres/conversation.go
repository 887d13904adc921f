package postgres

import (
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
)

// conversation is what is known of both sides of a session: what was sent and which replies are to come, what the
// client has prepared and bound, and where client and origin have other ideas of what is there, since some of it was
// answered from memory. It reads and writes nothing; the session moves the bytes and holds the lock.
type conversation struct {
	eng *engine.Session // nil until the login has ended well

	queue       exchanges
	idle        []*execution // for use again
	outstanding int          // replies still to come
	mid         bool         // a message from the origin has arrived in part
	login       bool         // it has not ended well: nothing the client sends is looked at but its responses
	raw         bool         // it is no longer followed: everything is relayed
	unsent      bool         // the open exchange holds only what is still held back, and none of it runs anything

	// What the client has prepared. A name whose meaning is not certain is not in statements.
	statements map[string]*prepared
	// Those of before something that may have changed what names stand for, and how often that has happened.
	doubtful  map[string]*prepared
	renamings uint64
	portals   map[string]*prepared // what named portals run
	bound     *prepared            // and the unnamed one
	unnamed   *prepared            // the last unnamed statement that was read, whether it is prepared or not

	// The unnamed statement as the client knows it and as the origin does, nil for none: when all that is under way has
	// come true, and now.
	here, there       *prepared
	hereNow, thereNow *prepared

	late            *heldBegin // of the block that the client is in, while the origin has not been sent it; or nil
	answeredInBlock bool       // in this transaction something was answered, of which the origin knows nothing

	// The unnamed portal, where the client's and the origin's differ since a Bind was answered from memory.
	portal      *localPortal // the client's; it is local, or nil
	local       localPortal
	portalThere bool // the origin has one
	portalStale bool // and that is not the client's
}

// execution gives a fresh one.
func (c *conversation) execution(t engine.Ticket) *execution {
	if n := len(c.idle); n > 0 {
		e := c.idle[n-1]
		c.idle = c.idle[:n-1]
		e.Ticket = t
		return e
	}
	return &execution{Ticket: t}
}

// expects adds a reply to come to an exchange. What it will change is taken to come true, until it is known.
func (c *conversation) expects(x *exchange, e expected) {
	e.unnamed.on(&c.here, &c.there)
	x.expect = append(x.expect, e)
	c.outstanding++
}

// next goes on behind a reply that has ended well.
func (c *conversation) next(x *exchange) {
	x.expect[x.at].unnamed.on(&c.hereNow, &c.thereNow)
	c.pass(x)
}

// pass goes on behind a reply, however it ended.
func (c *conversation) pass(x *exchange) {
	x.at++
	c.outstanding--
}

// executed ends an execution whose reply has ended.
func (c *conversation) executed(x *exchange, e *execution, now time.Time) {
	e.done, e.took, e.fetch = true, now.Sub(x.arrived), now.Sub(e.sent)
	if !e.Quiet() {
		x.loud--
	}
}

// fail follows an error in a batch: the origin skips everything up to the next Sync, whatever it is.
func (c *conversation) fail(x *exchange, now time.Time) {
	x.failed = true
	x.copying = false
	switch e := x.current(); {
	case e == nil:
	case e.kind == 'E' && e.exec != nil:
		c.executed(x, e.exec, now)
	case e.kind == 'P' && e.there != nil: // the server lets go of the old one before it reads the new
		c.thereNow = nil
		if !e.silent {
			c.hereNow = nil
		}
	}
	c.skip(x)
	for !x.synced && c.queue.len() > 1 && c.queue.all()[1].question == nil {
		// What came behind without a Sync in between is skipped too, and ends with the same ReadyForQuery.
		y := c.queue.all()[1]
		c.skip(y)
		x.expect = append(x.expect, y.expect...)
		x.at = len(x.expect)
		x.closed, x.synced = y.closed, y.synced
		c.queue.list = append(c.queue.list[:c.queue.from+1], c.queue.list[c.queue.from+2:]...)
	}
	x.closed = x.synced
}

// skip gives up the replies that are still to come.
func (c *conversation) skip(x *exchange) {
	for !x.answered() {
		c.pass(x)
	}
	x.loud = 0
}

// openExchange gives the exchange that has begun and not been closed, or nil.
func (c *conversation) openExchange() *exchange {
	if c.queue.len() > 0 && !c.queue.last().closed {
		return c.queue.last()
	}
	return nil
}

// openWhole gives the exchange of a message that ends with a ReadyForQuery by itself. If a batch stands open before
// it, which has had no Sync, both end with the same one.
func (c *conversation) openWhole(now time.Time) *exchange {
	x := c.openExchange()
	if x == nil {
		x = c.queue.open(now)
	}
	x.closed = true
	return x
}

// busy gives the reason why nothing can be answered from memory at this moment, or None. In a batch it can behind
// messages whose replies tell nothing of what the database holds.
func (c *conversation) busy(batch bool) reason.Code {
	switch {
	case c.queue.len() == 0 && !c.mid:
		return reason.None
	case c.queue.len() == 1 && batch && !c.mid:
		if x := c.queue.first(); !x.closed && x.loud == 0 && !x.failed && !x.copying {
			return reason.None
		}
	}
	for _, x := range c.queue.all() {
		if x.question == nil {
			return reason.EarlierReply
		}
	}
	if c.mid {
		return reason.EarlierReply
	}
	return reason.None
}

// sendsSync follows a Sync that is sent on.
func (c *conversation) sendsSync(x *exchange) {
	if x.copying && !x.copied {
		return // it is not heard: the origin waits for data
	}
	x.closed, x.synced, x.copying = true, true, false
	if !c.eng.StaysInBlock() {
		c.forgetPortal() // it ends with its transaction
	}
}

// questioning says whether what arrives answers a question of the larder's own. All of that is looked at whole, since
// none of it is for the client.
func (c *conversation) questioning() bool {
	return c.queue.len() > 0 && c.queue.first().question != nil
}

// silent says whether the reply that is arriving is for nobody.
func (c *conversation) silent() bool {
	if c.queue.len() == 0 {
		return false
	}
	e := c.queue.first().current()
	return e != nil && e.silent
}

// running gives the execution whose reply is arriving, or nil: also while its description is.
func (c *conversation) running() *execution {
	if c.queue.len() == 0 {
		return nil
	}
	if e := c.queue.first().current(); e != nil {
		return e.exec
	}
	return nil
}

// mayAsk says whether the origin can be asked something before all else: nothing else is under way, or only what has
// not been sent, and runs nothing.
func (c *conversation) mayAsk() bool {
	return !c.mid && (c.queue.len() == 0 || c.unsent && c.queue.len() == 1)
}

// heard is what a message from the origin is to the conversation.
type heard struct {
	forward bool       // the client gets it
	part    *execution // it is part of this one's result, or nil
	ends    bool       // the reply ends with that part: ended is to be called when it has been kept
	stray   bool       // it has no place here
}

// hears takes one message of the reply that is arriving. Those that may come at any time are not for it, nor is
// ReadyForQuery, with which the exchange ends.
func (c *conversation) hears(x *exchange, kind byte, now time.Time) heard {
	e := x.current()
	switch {
	case e == nil:
		x.failed = x.failed || kind == 'E'
		return heard{forward: true, stray: kind != 'E'}
	case e.kind == wholeExchange:
		return x.hearsWhole(e, kind)
	case kind == 'E':
		c.fail(x, now)
		return heard{forward: true}
	}
	h, ends := c.hearsPart(x, e, kind)
	if ends {
		if h.ends = h.part != nil; !h.ends {
			c.ended(x, now)
		}
	}
	return h
}

// ended goes on behind a reply that has ended well.
func (c *conversation) ended(x *exchange, now time.Time) {
	if e := x.current(); e.kind == 'E' && e.exec != nil {
		c.executed(x, e.exec, now)
	}
	c.next(x)
}

// hearsWhole takes a part of the reply to a message that ends by itself, or of the login.
func (x *exchange) hearsWhole(e *expected, kind byte) heard {
	h := heard{forward: true}
	switch kind {
	case 'T', 'D', 'C':
		h.part = e.exec
	case 'E':
		x.failed = true
	case 'I', 's', 'G', 'H', 'W', 'V':
		if e.exec != nil {
			e.exec.gather = false
		}
	}
	return h
}

// hearsPart takes a part of the reply to one message of the extended protocol, and says whether the reply ends with it.
func (c *conversation) hearsPart(x *exchange, e *expected, kind byte) (h heard, ends bool) {
	h.forward = !e.silent
	switch e.kind {
	case 'P':
		if h.stray = kind != '1'; h.stray {
			return h, false
		}
		if e.stmt != nil && e.stmt.parsed != nil {
			c.eng.Ended(e.stmt.parsed)
		}
		c.parsed(e.parse)
		return h, true
	case 'B':
		h.stray = kind != '2'
		return h, !h.stray
	case 'C':
		h.stray = kind != '3'
		return h, !h.stray
	case 'D':
		switch {
		case kind == 't': // the rows' description follows
			return h, false
		case kind != 'T' && kind != 'n':
			h.stray = true
			return h, false
		case e.exec != nil && kind == 'T':
			h.part = e.exec
		case e.exec != nil:
			e.exec.gather = false
		}
		return h, true
	case 'E':
		if e.exec != nil {
			return c.hearsExecution(x, e.exec, kind)
		}
		h.stray = kind != 'C' && kind != 'D' // it is a query of the larder's own
		return h, kind == 'C'
	}
	h.stray = true
	return h, false
}

// hearsExecution takes a part of the reply to an Execute, and says whether the reply ends with it.
func (c *conversation) hearsExecution(x *exchange, exec *execution, kind byte) (h heard, ends bool) {
	h.forward = true
	switch kind {
	case 'D', 'C':
		h.part = exec
		return h, kind == 'C'
	case 'I', 's':
		exec.gather, exec.sum = false, nil
		return h, true
	case 'G', 'W':
		exec.gather = false
		x.copying, x.closed, x.synced = true, false, false // a Sync that was sent before the data is not heard
	case 'H', 'd', 'c':
		exec.gather = false
	default:
		h.stray = true
	}
	return h, false
}

// sendsParse follows a Parse that is sent on, of a name or of the unnamed statement.
func (c *conversation) sendsParse(x *exchange, name string, stmt *prepared) {
	e := expected{kind: 'P', stmt: stmt}
	if name == "" {
		e.unnamed = unnamed{stmt, stmt}
	} else {
		e.parse = c.prepare(name, stmt)
	}
	c.expects(x, e)
}

// sendsBind follows a Bind that is sent on, of a named portal or of the unnamed one.
func (c *conversation) sendsBind(x *exchange, portal []byte, stmt *prepared) {
	c.bindTo(portal, stmt)
	c.expects(x, expected{kind: 'B'})
	if len(portal) == 0 {
		c.portal, c.portalThere, c.portalStale = nil, true, false
	}
}

// sendsClose follows a Close that is sent on, of a portal or a statement.
func (c *conversation) sendsClose(x *exchange, ofPortal bool, name []byte) {
	e := expected{kind: 'C'}
	switch {
	case ofPortal && len(name) == 0:
		c.portal = nil
	case !ofPortal && len(name) == 0:
		e.unnamed = unnamed{gone, gone}
	case !ofPortal:
		delete(c.statements, string(name))
	}
	c.expects(x, e)
}

// hasEnded takes an exchange, of which ReadyForQuery has come, out of the queue. What its tickets did is to be ended
// next.
func (c *conversation) hasEnded(x *exchange) {
	if e := x.current(); e != nil && e.kind == wholeExchange {
		c.next(x)
	}
	c.skip(x)
	c.queue.pop()
}

// stands follows where the session stands when an exchange and its tickets have ended.
func (c *conversation) stands(x *exchange, state engine.TxState) {
	behind := false
	for _, y := range c.queue.all() {
		behind = behind || y.question == nil
	}
	if behind {
		c.eng.ReadyBehind(state) // more is under way already
	} else {
		c.eng.Ready(state)
	}
	if state == engine.Idle && !behind {
		c.forgetPortal()
		c.answeredInBlock = false
	}
	if x.failed {
		c.portal = nil
		c.unprepare(x)
	}
}
