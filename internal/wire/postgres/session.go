package postgres

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"sync"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
)

// mostHeld is how many bytes of a client's messages are held back while it is not clear whether they can be answered
// from memory; longest is the longest message that is looked at whole. Beyond either, bytes are relayed as they come.
const (
	mostHeld = 64 << 10
	longest  = 1<<20 + 1024
)

// session is one client's connection and the origin's connection that belongs to it. Two goroutines serve it:
// fromClient reads what the client sends, decides, and answers or sends on; fromOrigin relays what comes back.
type session struct {
	server         *Server
	client, origin net.Conn
	eng            *engine.Session

	// sending is held from queueing an exchange to its last byte being written, so that the queue is in the order of
	// the bytes. It is taken before mu.
	sending sync.Mutex

	// mu guards what follows and the engine's session. It is also held while anything is written to the client, so
	// that an answer from memory never lands within or before a reply from the origin.
	mu         sync.Mutex
	queue      []*exchange
	mid        bool // a message is partly written to the client
	clientGone bool
	originGone bool
	parameters map[string]string
	statements map[string]*prepared // by name; what a name means while it is not certain is not known
	owed       bool                 // the client prepared the unnamed statement, but was answered from memory: the origin has none

	// What follows belongs to fromClient alone.
	in      inbound
	held    []part // the messages since the last Sync that have not been sent on
	portals map[string]*prepared
	unnamed *prepared // the last unnamed statement that was read, whether it is prepared or not
	out     []byte
}

// part is one held message: its place in the held bytes, and what it names.
type part struct {
	kind       byte
	start, end int
	stmt       *prepared // of Parse, Bind and Execute
	portal     string    // of Bind, Execute, and Describe or Close of a portal
	bound      [2]int    // of Bind: where formats, values and result formats stand
	ofPortal   bool      // of Describe and Close
	limited    bool      // of Execute: it asks for some rows only
}

func newSession(srv *Server, client, origin net.Conn, start *startup) *session {
	s := &session{
		server: srv, client: client, origin: origin,
		eng:        srv.Engine.NewSession(start.identity),
		parameters: map[string]string{},
		statements: map[string]*prepared{}, portals: map[string]*prepared{},
		queue: []*exchange{{simple: true, closed: true}}, // the login, which ends with the first ReadyForQuery
	}
	s.in.conn = client
	return s
}

func (s *session) run() {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer s.origin.Close()
		defer s.client.Close()
		defer func() {
			if r := recover(); r != nil {
				s.server.log().Error("a fault in the larder ended a connection", "fault", r)
			}
		}()
		defer s.endQuestions()
		s.fromOrigin()
	}()
	s.fromClient()
	s.mu.Lock()
	s.clientGone = true
	waiting := s.waiting()
	s.mu.Unlock()
	if waiting {
		// Its client is gone, but a write is under way: what became of it matters to everybody else.
		_ = s.origin.SetReadDeadline(time.Now().Add(orDefault(s.server.LostTimeout, time.Minute)))
	} else {
		s.origin.Close()
	}
	<-ended
	s.mu.Lock()
	var outstanding []freshness.Pending
	for _, x := range s.queue {
		outstanding = append(outstanding, x.pending)
	}
	s.eng.Close(s.server.now(), outstanding...)
	s.mu.Unlock()
}

// waiting says whether a write is under way whose outcome has not arrived.
func (s *session) waiting() bool {
	for _, x := range s.queue {
		if !x.pending.Empty() {
			return true
		}
	}
	return false
}

// start sends an execution on as part of an exchange, as far as the engine is concerned.
func (s *session) start(x *exchange, e *execution, now time.Time) {
	e.sent = now
	switch e.d.Pattern.Facts.Verb {
	case "deallocate", "discard", "several", "unknown", "call", "do", "execute": // names may mean nothing afterwards, or something else
		if u := s.statements[""]; u != nil {
			s.statements = map[string]*prepared{"": u}
		} else {
			clear(s.statements)
		}
	}
	if e.d.Outcome == ledger.Miss {
		e.sent = s.server.now() // questions may have come in between
	}
	x.execs = append(x.execs, e)
	s.eng.Send(&e.d, now)
	x.pending.Add(s.eng.Pending())
}

// endQuestions lets go whoever waits for an answer that will not come.
func (s *session) endQuestions() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.originGone = true
	for _, x := range s.queue {
		if x.question != nil {
			x.question.end()
		}
	}
}

// fromClient reads messages until the connection ends.
func (s *session) fromClient() {
	for {
		if err := s.in.need(headerLen); err != nil {
			return
		}
		head := s.in.unread()
		kind, n := head[0], int(binary.BigEndian.Uint32(head[1:]))
		if n < 4 || n > 1<<30 {
			s.flush(false)
			s.relayRest() // no message can begin here: the server will say so in its own way
			return
		}
		total := n + 1
		if total > longest {
			if !s.longMessage(kind, total) {
				return
			}
			continue
		}
		if err := s.in.need(total); err != nil {
			return
		}
		if !s.message(kind, s.in.unread()[headerLen:total], total) {
			return
		}
	}
}

// message takes one whole message; false ends the session.
func (s *session) message(kind byte, body []byte, total int) bool {
	start := s.in.pos - s.in.start
	p := part{kind: kind, start: start, end: start + total}
	switch kind {
	case 'Q':
		if len(s.held) > 0 && !s.flush(false) {
			return false
		}
		s.in.pos += total
		return s.query(body)
	case 'P':
		s.parse(&p, body)
	case 'B':
		s.bind(&p, body)
	case 'E':
		portal, rest, ok := cstring(body)
		p.portal = string(portal)
		p.limited = !ok || len(rest) != 4 || binary.BigEndian.Uint32(rest) != 0
		p.stmt = s.portals[p.portal]
	case 'D', 'C':
		if len(body) > 1 {
			p.ofPortal = body[0] == 'P'
			name, _, _ := cstring(body[1:])
			p.portal = string(name)
			if kind == 'C' && !p.ofPortal {
				s.mu.Lock()
				delete(s.statements, p.portal)
				s.mu.Unlock()
			}
		}
	case 'S':
		s.in.pos += total
		s.held = append(s.held, p)
		return s.flush(true)
	case 'H':
		s.in.pos += total
		s.held = append(s.held, p)
		return s.flush(false)
	case 'F':
		if !s.flush(false) {
			return false
		}
		s.in.pos += total
		return s.functionCall()
	default: // copy data, a password, the end, or what later versions may bring: it has no place in a batch
		if len(s.held) > 0 && !s.flush(false) {
			return false
		}
		s.in.pos += total
		if kind == 'c' || kind == 'f' {
			s.mu.Lock()
			if n := len(s.queue); n > 0 {
				s.queue[n-1].copied = true
			}
			s.mu.Unlock()
		}
		return s.send(s.in.take()) && kind != 'X'
	}
	s.in.pos += total
	s.held = append(s.held, p)
	if s.in.pos-s.in.start > mostHeld {
		return s.flush(false)
	}
	return true
}

// read has the engine read a statement. A fault in that must not cost the client its connection: the statement is
// then sent on as one that may do anything.
func (s *session) read(sql []byte) (st engine.Statement) {
	defer func() {
		if r := recover(); r != nil {
			s.server.log().Error("a fault in the larder: a statement could not be read", "fault", r)
			st = engine.Statement{Pattern: s.server.Engine.Unreadable("a fault of the larder in reading it")}
		}
	}()
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.eng.Read(sql)
}

func (s *session) parse(p *part, body []byte) {
	name, rest, ok := cstring(body)
	sql, types, ok2 := cstring(rest)
	if !ok || !ok2 {
		p.stmt = s.unknown("a Parse message that is not understood")
		return
	}
	if len(name) == 0 {
		// The same again is common and costs nothing; another one is made anew, since portals may hold on to the old.
		if u := s.unnamed; u == nil || !bytes.Equal(u.sql, sql) || !bytes.Equal(u.types, types) {
			st := s.read(sql)
			st.Exact = bytes.Clone(st.Exact)
			s.unnamed = &prepared{sql: bytes.Clone(sql), st: st, types: bytes.Clone(types)}
		}
		p.stmt = s.unnamed
		return
	}
	p.portal = string(name)
	st := s.read(sql)
	st.Exact = bytes.Clone(st.Exact)
	p.stmt = &prepared{st: st, types: bytes.Clone(types)}
}

// meant gives the statement that a name stands for in the batch being held: one prepared in it, or else one that is
// known to be prepared.
func (s *session) meant(name string) *prepared {
	for i := len(s.held) - 1; i >= 0; i-- {
		if p := &s.held[i]; p.kind == 'P' && p.portal == name {
			return p.stmt
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.statements[name]
}

// prepare notes that a Parse message is being sent. Until the origin has said that it worked, a name that stood for
// something else may stand for either. It is called with mu held.
func (s *session) prepare(x *exchange, name string, stmt *prepared) {
	p := parsing{name: name, stmt: stmt, old: s.statements[name], meanwhile: stmt}
	if p.old != nil && p.old != stmt {
		p.meanwhile = s.unknown("a name that is being prepared anew")
	}
	s.statements[name] = p.meanwhile
	x.parses = append(x.parses, p)
}

func (s *session) bind(p *part, body []byte) {
	portal, rest, ok := cstring(body)
	name, bound, ok2 := cstring(rest)
	if !ok || !ok2 {
		p.stmt = s.unknown("a Bind message that is not understood")
		return
	}
	p.portal = string(portal)
	at := p.start + headerLen + len(body) - len(bound)
	p.bound = [2]int{at, p.end}
	if p.stmt = s.meant(string(name)); p.stmt == nil {
		p.stmt = s.unknown("a statement that was not prepared here")
	}
	if len(s.portals) > 1000 {
		clear(s.portals) // names made up by a client without end: those forgotten may do anything when run again
	}
	if old := s.portals[p.portal]; old != nil && old != p.stmt && p.portal != "" {
		s.portals[p.portal] = s.unknown("a portal that was bound twice") // whether the second worked is not certain
	} else {
		s.portals[p.portal] = p.stmt
	}
}

func (s *session) unknown(why string) *prepared {
	return &prepared{st: engine.Statement{Pattern: s.server.Engine.Unreadable(why)}}
}

// query takes a simple query whose message has just been passed.
func (s *session) query(body []byte) bool {
	now := s.server.now()
	sql, rest, ok := cstring(body)
	st := engine.Statement{}
	if ok && len(rest) == 0 {
		st = s.read(sql)
	} else {
		st.Pattern = s.server.Engine.Unreadable("a Query message that is not understood")
	}
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	s.owed = false // the origin forgets its unnamed statement at every simple query
	d := s.decide(engine.Request{Statement: st, Shape: 'q'}, now)
	if d.Outcome == ledger.Hit {
		s.out = append(append(s.out[:0], d.Entry.Reply...), s.ready()...)
		ok := s.answer(&d, now)
		s.mu.Unlock()
		s.in.take()
		return ok
	}
	x := s.openSimple(now)
	s.start(x, &execution{d: d, bound: true, gather: x.simple && d.Outcome == ledger.Miss}, now)
	s.mu.Unlock()
	return s.write(s.in.take())
}

// openSimple gives the exchange of a message that ends with a ReadyForQuery by itself. If a batch stands open before
// it, which has had no Sync, both end with the same one.
func (s *session) openSimple(now time.Time) *exchange {
	if n := len(s.queue); n > 0 && !s.queue[n-1].closed {
		x := s.queue[n-1]
		x.closed, x.merged = true, true
		return x
	}
	x := &exchange{arrived: now, simple: true, closed: true}
	s.queue = append(s.queue, x)
	return x
}

// functionCall takes a call by number, which runs past all SQL.
func (s *session) functionCall() bool {
	now := s.server.now()
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	x := s.openSimple(now)
	st := engine.Statement{Pattern: s.server.Engine.Unreadable("a function call by number")}
	s.start(x, &execution{d: s.eng.Decide(engine.Request{Statement: st, NoAsking: true}, now)}, now)
	s.mu.Unlock()
	return s.write(s.in.take())
}

// Reasons to pass that lie in how the statement was sent.
const (
	whyEarlier   = "sent before an earlier reply had ended"
	whyTogether  = "sent together with other statements"
	whyPreparing = "prepared and run in one step; from then on it can be answered"
	whyPart      = "only some of its rows were asked for"
	whyForm      = "asked for in a form that is not answered from memory yet"
)

var readyFor = map[engine.TxState][]byte{
	engine.Idle: frame(nil, 'Z', []byte{'I'}), engine.InBlock: frame(nil, 'Z', []byte{'T'}), engine.Failed: frame(nil, 'Z', []byte{'E'}),
}

// ready gives the ReadyForQuery message for where the session stands.
func (s *session) ready() []byte {
	return readyFor[s.eng.State()]
}

// answer writes the reply in out from memory. It is called with mu held.
func (s *session) answer(d *engine.Decision, arrived time.Time) bool {
	_, err := s.client.Write(s.out)
	now := s.server.now()
	s.eng.Finish(d, engine.Result{Took: now.Sub(arrived), Bytes: len(s.out)}, now)
	return err == nil
}

// write sends bytes to the origin. It is called with sending held.
func (s *session) write(b []byte) bool {
	_, err := s.origin.Write(b)
	return err == nil
}

// send writes bytes that belong to no exchange of their own.
func (s *session) send(b []byte) bool {
	s.sending.Lock()
	defer s.sending.Unlock()
	return s.write(b)
}

// flush deals with the held messages: answers them from memory, or sends them on. Sync says that the last of them is
// a Sync; otherwise the client waits for replies before it goes on, or holds more than is held back.
func (s *session) flush(sync bool) bool {
	if len(s.held) == 0 {
		return true
	}
	now := s.server.now()
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	if n := len(s.queue); sync && n > 0 && s.queue[n-1].copying && len(s.held) == 1 {
		if x := s.queue[n-1]; x.copied { // the Sync after the data; one before it was not heard
			x.copying, x.closed = false, true
		}
		s.mu.Unlock()
		s.held = s.held[:0]
		return s.write(s.in.take())
	}
	if n := len(s.queue); sync && n > 0 && s.queue[n-1].merged && s.queue[n-1].failed && len(s.held) == 1 {
		s.mu.Unlock() // the batch failed, so that the message behind it was not heard: this Sync ends both
		s.held = s.held[:0]
		return s.write(s.in.take())
	}
	b := s.shape()
	var x *exchange
	if n := len(s.queue); n > 0 && !s.queue[n-1].closed {
		x = s.queue[n-1] // a batch that went on after a Flush
		b.busy = whyTogether
	}
	if b.busy == "" && b.execute != nil && sync {
		d := s.decide(s.request(b, ""), now)
		if d.Outcome == ledger.Hit {
			ok := s.answerBatch(b, &d, now)
			s.mu.Unlock()
			s.held = s.held[:0]
			s.in.take()
			return ok
		}
		x = s.open(x, now)
		s.execute(x, d, now)
	} else {
		x = s.open(x, now)
		for i := range s.held {
			if p := &s.held[i]; p.kind == 'E' {
				s.executeOne(x, p, b.busy, now)
			}
		}
	}
	x.closed = x.closed || sync
	msg := s.owedParse(x)
	s.mu.Unlock()
	s.held = s.held[:0]
	if msg != nil && !s.write(msg) {
		return false
	}
	return s.write(s.in.take())
}

// open gives the exchange that the held messages belong to.
func (s *session) open(x *exchange, now time.Time) *exchange {
	if x == nil {
		x = &exchange{arrived: now}
		s.queue = append(s.queue, x)
	}
	return x
}

func (s *session) execute(x *exchange, d engine.Decision, now time.Time) {
	s.start(x, &execution{d: d, gather: d.Outcome == ledger.Miss}, now)
}

// executeOne follows one of several Execute messages; none of them is answered from memory or kept.
func (s *session) executeOne(x *exchange, p *part, busy string, now time.Time) {
	stmt := p.stmt
	if stmt == nil {
		stmt = s.unknown("a portal that is not known")
	}
	if busy == "" {
		busy = whyForm
	}
	s.execute(x, s.eng.Decide(engine.Request{Statement: stmt.st, Busy: busy, NoAsking: true}, now), now)
}

// longMessage relays a message that is too long to be looked at whole. What it runs may do anything.
func (s *session) longMessage(kind byte, total int) bool {
	const why = "too long to be analysed"
	if !s.flush(false) {
		return false
	}
	now := s.server.now()
	long := &prepared{st: engine.Statement{Pattern: s.server.Engine.Unreadable(why)}}
	s.sending.Lock()
	defer s.sending.Unlock()
	switch kind {
	case 'Q', 'F':
		s.mu.Lock()
		x := s.openSimple(now)
		s.start(x, &execution{d: s.eng.Decide(engine.Request{Statement: long.st, NoAsking: true}, now), bound: true}, now)
		s.owed = false
		s.mu.Unlock()
	case 'P', 'B':
		if err := s.in.need(headerLen + 512); err != nil {
			return false
		}
		name, rest, ok := cstring(s.in.unread()[headerLen:])
		stmt := long
		if ok && kind == 'P' {
			s.unnamed = nil
		} else if ok {
			if of, _, ok := cstring(rest); ok {
				if p := s.meant(string(of)); p != nil {
					stmt = p
				}
			}
			s.portals[string(name)] = stmt
		}
		s.mu.Lock()
		n := len(s.queue)
		if n == 0 || s.queue[n-1].closed {
			s.queue = append(s.queue, &exchange{arrived: now})
			n++
		}
		var owed []byte
		if kind == 'P' {
			s.prepare(s.queue[n-1], string(name), long)
			s.owed = s.owed && len(name) > 0
		} else {
			s.held = append(s.held[:0], part{kind: 'B', stmt: stmt})
			owed = s.owedParse(s.queue[n-1])
			s.held = s.held[:0]
		}
		s.mu.Unlock()
		if owed != nil && !s.write(owed) {
			return false
		}
	}
	return s.relayMessage(total)
}

// relayMessage sends on the message that begins here, in pieces.
func (s *session) relayMessage(total int) bool {
	for total > 0 {
		if err := s.in.need(1); err != nil {
			return false
		}
		n := min(total, len(s.in.unread()))
		s.in.pos += n
		total -= n
		if !s.write(s.in.take()) {
			return false
		}
	}
	return true
}

// relayRest sends on whatever still comes.
func (s *session) relayRest() {
	s.mu.Lock()
	s.eng.Unknown(s.server.now())
	x := &exchange{arrived: s.server.now(), simple: true, closed: true}
	x.pending.Add(s.eng.Pending()) // until the connection ends
	s.queue = append(s.queue, x)
	s.mu.Unlock()
	if !s.send(s.in.unread()) {
		return
	}
	_, _ = io.Copy(s.origin, s.client)
}
