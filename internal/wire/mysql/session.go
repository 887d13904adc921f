package mysql

import (
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/fault"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// session is one client's connection and the origin's connection that belongs to it. Two goroutines serve it: each
// relays what one side sends, and follows it.
type session struct {
	server   *Server
	accepted net.Conn

	// What follows is set when the login has ended.
	client, origin *socket.Socket
	login          *login

	writes sync.Mutex // held while the client is written to; it is taken before mu, or without

	mu sync.Mutex
	conversation
	watching
	answering
	begun    bool
	midway   bool // the client has sent a part of a packet
	active   time.Time
	gone     bool // the client is
	cut      bool // the session was ended, since it could not be followed
	changing changing
	dialled  net.Conn

	ending atomic.Bool
	ended  chan struct{} // closed when the origin is not read any more
}

// changing is a change of the user under way.
type changing struct {
	user, way, database string
	charset             byte
	attributes          map[string]string
	proved              bool
}

func newSession(s *Server, accepted, origin net.Conn) *session {
	x := &session{
		server: s, accepted: accepted, dialled: origin, active: s.Time(), ended: make(chan struct{}),
		answering: answering{learnt: make(chan struct{}, 1)},
	}
	x.since = x.active
	return x
}

// EndIf implements link.Conn. The server says nothing either when it ends a connection at rest: what it said would be
// taken for the answer to the next command.
func (s *session) EndIf(since time.Time, _ link.Ending) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.begun && s.atRest() && !s.midway && !s.active.After(since) {
		socket.Sever(s.accepted)
	}
}

// endIfDraining ends a session that has come to rest, where all are to end.
func (s *session) endIfDraining() {
	if s.server.Draining() {
		s.EndIf(s.server.Time(), link.Stopping)
	}
}

// Stop implements link.Conn.
func (s *session) Stop() {
	s.ending.Store(true)
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.begun { // it is within its login
		socket.Sever(s.dialled)
	}
}

// SeverOrigin implements link.Conn.
func (s *session) SeverOrigin() { socket.Sever(s.dialled) }

// run relays everything behind the login until one of the two ends.
func (s *session) run(l *login) {
	s.mu.Lock()
	s.login, s.client, s.origin = l, socket.New(l.client), socket.New(l.origin)
	s.withoutEOF = l.intro.caps&l.greeting.caps&capDeprecateEOF != 0
	s.tracks = l.intro.caps&l.greeting.caps&capTrack != 0
	s.status, s.now = l.status, s.server.Time()
	s.conversation.ends = func(x *command) { s.telling(func() { s.answered(x) }) }
	if s.server.Engine != nil {
		s.started()
	}
	s.begun = true
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.leaves()
	}()
	go func() {
		defer close(s.ended)
		defer s.client.Sever()
		defer s.origin.Sever()
		defer s.server.Survive("a connection was ended")
		s.fromOrigin()
	}()
	func() {
		defer func() {
			if r := recover(); r != nil {
				s.server.Fault("a connection was ended", r)
				s.client.Sever()
			}
		}()
		s.fromClient()
	}()
	s.mu.Lock()
	s.gone = true
	waiting := len(s.queue) > 0 && !s.ending.Load()
	s.mu.Unlock()
	if waiting {
		// What the client has asked for last may be a write, which is to end as it does without the larder.
		socket.CloseWrite(s.origin.Conn)
		_ = s.origin.SetReadDeadline(time.Now().Add(s.server.Settings().LostTimeout))
	} else {
		s.origin.Sever()
	}
	<-s.ended
}

// bufferSize is how much is read at once, in bytes.
const bufferSize = 64 << 10

// fromClient relays what the client sends, and answers what can be answered from memory.
func (s *session) fromClient() {
	buffer := make([]byte, bufferSize)
	s.inbound.keep = s.keeps
	s.client.Receive(func() []byte { return buffer }, func(n int, err error) (more, settled bool) {
		if n > 0 {
			var on bool
			if settled, on = s.sent(buffer[:n]); !on {
				return false, false
			}
			if settled {
				s.endIfDraining()
			}
		}
		return err == nil, settled
	})
}

// sent follows bytes from the client before they are sent on, and sends them on. It says whether the client waits for an
// answer then, and whether the connection goes on.
func (s *session) sent(b []byte) (settled, on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.active = s.server.Time()
	s.now = s.active
	w := &s.way
	*w = way{b: b, out: w.out[:0]}
	f := &s.inbound
	s.following(func() {
		for w.at < len(b) && s.lost == "" && !w.broken {
			if f.between() {
				w.begin = w.at
			}
			n, ended := f.next(b[w.at:])
			if w.at += n; ended == nil {
				if w.at == len(b) && s.withholds(f) {
					s.withhold(w)
				} else {
					s.withholdsNot(w)
				}
				continue
			}
			fault.Point("sent")
			switch {
			case s.infile:
				s.conversation.fromClient(ended)
			case s.conversation.changing():
				s.conversation.fromClient(ended)
				s.changing.responded(ended)
			default:
				s.commands(w, ended)
			}
			s.withholdsNot(w)
			s.part = false
			s.keptNoLonger()
			s.tells()
		}
	})
	if s.lost != "" {
		s.withholdsNot(w)
	}
	w.passes(b[w.start:])
	s.part = !f.between() && len(s.held) == 0
	s.midway = !f.between()
	if s.cut || w.broken {
		return false, false
	}
	settled = !s.midway && (len(s.queue) > 0 || w.said)
	return settled, s.flush(w)
}

// asksOwn says whether a reply is due that is not for the client.
func (c *conversation) asksOwn() bool {
	return slices.ContainsFunc(c.queue, func(x command) bool { return x.own != notOwn })
}

// following runs what follows the conversation. After a fault in that it is no longer followed, and goes on.
func (s *session) following(f func()) {
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("a conversation is no longer followed", r)
			s.lose("a fault in the larder")
			s.tells()
		}
	}()
	f()
}

// tells says once that a conversation is no longer followed. It is only relayed then; but where it matters who the client
// becomes, its connection ends.
func (s *session) tells() {
	switch {
	case s.lost == "":
		return
	case s.login.trusts() && !s.asksOwn():
		s.server.Logger().Warn("a conversation is no longer followed, and only relayed", "why", s.lost, "client", s.accepted.RemoteAddr())
	default:
		s.server.Logger().Error("a connection had to be ended: its conversation could not be followed", "why", s.lost, "client", s.accepted.RemoteAddr())
		s.cut = true
		s.client.Sever()
		s.origin.Sever()
	}
	s.blinds()
}

// changes takes a client's wish to be another user.
func (s *session) changes(f *frame) {
	s.changing = changing{way: wayUnnamed}
	user, rest, ok := word(f.start[1:])
	if !ok || s.login.intro.caps&capSecure == 0 || len(rest) == 0 || int(rest[0]) > len(rest)-1 {
		s.lose("a change of the user is not understood")
		return
	}
	s.changing.user, s.conversation.next = string(user), 0
	proof := rest[1 : 1+int(rest[0])]
	rest = rest[1+len(proof):]
	if database, behind, ok := word(rest); ok {
		s.changing.database = string(database)
		if len(behind) > 2 { // the character set
			s.changing.charset = behind[0]
			if way, behind, ok := word(behind[2:]); ok {
				s.changing.way, s.changing.attributes = string(way), attributes(behind)
			}
		}
	}
	s.changing.proved = proofs[s.changing.way] && len(proof) > 0
}

// responded takes what the client answers to a challenge.
func (c *changing) responded(f *frame) { c.proved = proofs[c.way] && f.length > 0 }

// longestState is how many bytes of an OK are kept, which says what of the session's state has changed.
const longestState = 4 << 10

// fromOrigin relays what the origin sends.
func (s *session) fromOrigin() {
	buffer := make([]byte, bufferSize)
	var f framer
	var held []byte // the beginning of a packet of a login, which is looked at before it is sent on
	f.keep = func(first byte, length int) int {
		switch {
		case s.conversation.changing():
			return longestLogin
		case s.tracks && (first == markOK || first == markEOF):
			return min(length, longestState)
		}
		return 0
	}
	s.origin.Receive(func() []byte { return buffer }, func(n int, err error) (more, settled bool) {
		if n == 0 {
			return err == nil, false
		}
		b := buffer[:n]
		if len(held) > 0 {
			b = append(held, b...)
			held = nil
		}
		s.writes.Lock() // before anybody knows that a reply has ended
		c := s.came(&f, b, n)
		var failed error
		if len(c.forward) > 0 {
			_, failed = s.client.Write(c.forward)
		}
		s.writes.Unlock()
		if failed != nil && !s.left() {
			return false, false
		}
		if c.learnt {
			s.learnt <- struct{}{}
		}
		if c.refused != nil {
			_ = s.client.SetWriteDeadline(time.Now().Add(time.Second))
			_, _ = s.client.Write(c.refused)
			return false, false
		}
		held = append(held, c.held...)
		if c.settled {
			s.endIfDraining()
		}
		return err == nil, c.settled
	})
}

// left says whether the client has gone. What it asked for is read to its end nevertheless.
func (s *session) left() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.gone
}

// coming is what becomes of bytes from the origin.
type coming struct {
	forward []byte // for the client
	held    []byte // to be looked at again with what comes behind them
	refused []byte // what the client is told, if its connection ends with that
	settled bool   // the origin waits for a command then
	learnt  bool   // the reply to a question of the larder's own has come
}

// came follows bytes from the origin, of which the last fresh ones are new, before they are sent on.
func (s *session) came(f *framer, b []byte, fresh int) (c coming) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.active = s.server.Time()
	s.now = s.active
	at, begin := len(b)-fresh, 0
	from := 0       // b[from:begin] is for the client, behind what is before it
	var some []byte // where not all of it is
	s.following(func() {
		for at < len(b) && s.lost == "" && c.refused == nil {
			own := notOwn
			if len(s.queue) > 0 {
				own = s.queue[0].own
			}
			if own == notOwn && f.between() && s.inRows() {
				n, count := rows(b[at:])
				x := &s.queue[0]
				x.rows, x.bytes = x.rows+count, x.bytes+n
				s.gather(x, b[at:at+n])
				if at += n; at == len(b) {
					begin = at
					return
				}
			}
			n, ended := f.next(b[at:])
			if len(s.queue) > 0 {
				s.gather(&s.queue[0], b[at:at+n])
			}
			if at += n; own != notOwn { // it is for nobody else
				some = append(some, b[from:at-n]...)
				from, begin = at, at
			}
			if ended == nil {
				continue
			}
			fault.Point("came")
			if s.conversation.changing() {
				if c.refused = s.authenticates(ended); c.refused != nil {
					return
				}
			}
			if len(s.queue) > 0 {
				s.queue[0].bytes += ended.length + headerSize*int(packets(ended))
			}
			s.conversation.fromOrigin(ended)
			s.tells()
			if begin = at; own == ownQuestion && (len(s.queue) == 0 || s.queue[0].own != ownQuestion) {
				c.learnt = true
			}
		}
	})
	to := len(b)
	switch {
	case s.cut:
		return coming{}
	case c.refused != nil:
		to = begin
	case s.lost == "" && s.conversation.changing():
		to = begin
		c.held = b[begin:]
	default:
		c.settled = f.between() && len(s.queue) == 0
	}
	if c.forward = b[from:max(from, to)]; len(some) > 0 {
		c.forward = append(some, c.forward...)
	}
	return c
}

// authenticates takes a packet of the login by which the user is changed. It gives what the client is told if that is not
// let in.
func (s *session) authenticates(f *frame) (refused []byte) {
	c := &s.changing
	deny := func(why string) []byte {
		s.server.Logger().Warn("a change of the user was refused", "user", c.user, "client", s.accepted.RemoteAddr(), "why", why)
		return errorPacket(f.number, codeDenied, stateDenied, "jolly larder refuses the user '"+c.user+"': "+why)
	}
	first, _ := f.first()
	switch {
	case first == markEOF && f.length == 1:
		c.way = "mysql_old_password"
	case first == markEOF:
		way, _, _ := word(f.start[1:])
		if c.way = string(way); c.way == waySHA256 && secure(s.login.client) != secure(s.login.origin) {
			return deny("sha256_password needs TLS on both sides of the larder or on neither")
		}
	case first == markMore && len(f.start) == 2 && f.start[1] == shaPassword && c.way == waySHA2 && secure(s.login.client) != secure(s.login.origin):
		return deny("where only one side of the larder has TLS, caching_sha2_password can be used at the beginning of a connection alone: connect again as that user")
	case first == markOK && f.length > 0:
		s.login.intro.user, s.login.proved = c.user, c.proved
		if why := s.login.refuses(); why != "" {
			return deny("the database let it in without proof, and " + why)
		}
	}
	return nil
}
