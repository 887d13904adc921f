package mysql

import (
	"net"
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

	mu sync.Mutex
	conversation
	watching
	begun    bool
	midway   bool // the client has sent a part of a packet
	active   time.Time
	gone     bool // the client is
	cut      bool // the session was ended, since it could not be followed
	changing changing
	dialled  net.Conn

	ending  atomic.Bool
	reading sync.WaitGroup // of the catalog
}

// changing is a change of the user under way.
type changing struct {
	user, way, database string
	charset             byte
	attributes          map[string]string
	proved              bool
}

func newSession(s *Server, accepted, origin net.Conn) *session {
	return &session{server: s, accepted: accepted, dialled: origin, active: s.Time()}
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
	defer s.reading.Wait()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.leaves()
	}()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
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
	<-ended
}

// bufferSize is how much is read at once, in bytes.
const bufferSize = 64 << 10

// fromClient relays what the client sends.
func (s *session) fromClient() {
	buffer := make([]byte, bufferSize)
	var f framer
	f.keep = s.keeps
	s.client.Receive(func() []byte { return buffer }, func(n int, err error) (more, settled bool) {
		if n > 0 {
			var followed bool
			if settled, followed = s.sent(&f, buffer[:n]); !followed {
				return false, false
			}
			if _, failed := s.origin.Write(buffer[:n]); failed != nil {
				return false, false
			}
		}
		return err == nil, settled
	})
}

// sent follows bytes from the client before they are sent on. It says whether the client waits for an answer then, and
// whether they are to be sent on at all.
func (s *session) sent(f *framer, b []byte) (settled, on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.active = s.server.Time()
	s.now = s.active
	s.following(func() {
		for len(b) > 0 && s.lost == "" {
			n, ended := f.next(b)
			if b = b[n:]; ended == nil {
				continue
			}
			fault.Point("sent")
			login, file := s.conversation.changing(), s.infile
			s.conversation.fromClient(ended)
			switch {
			case s.lost != "" || file:
			case login:
				s.changing.responded(ended)
			default:
				if s.conversation.changing() {
					s.changes(ended)
				}
				s.telling(func() { s.asked(ended) })
			}
			s.keptNoLonger()
			s.tells()
		}
	})
	s.midway = !f.between()
	return !s.midway && len(s.queue) > 0, !s.cut
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
	case s.login.trusts():
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
		b := buffer[:n]
		if len(held) > 0 {
			b = append(held, b...)
			held = nil
		}
		if n > 0 {
			forward, refused, settled := s.came(&f, b, n)
			if len(forward) > 0 {
				if _, failed := s.client.Write(forward); failed != nil && !s.left() {
					return false, false
				}
			}
			if refused != nil {
				_ = s.client.SetWriteDeadline(time.Now().Add(time.Second))
				_, _ = s.client.Write(refused)
				return false, false
			}
			held = append(held, b[len(forward):]...)
			return err == nil, settled
		}
		return err == nil, false
	})
}

// left says whether the client has gone. What it asked for is read to its end nevertheless.
func (s *session) left() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.gone
}

// came follows bytes from the origin, of which the last fresh ones are new, before they are sent on. It gives those that
// are for the client now, and what it is told if its connection ends with that; and it says whether the origin waits for
// a command then.
func (s *session) came(f *framer, b []byte, fresh int) (forward, refused []byte, settled bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.active = s.server.Time()
	s.now = s.active
	at, begin := len(b)-fresh, 0
	s.following(func() {
		for at < len(b) && s.lost == "" && refused == nil {
			if f.between() && s.inRows() {
				n, count := rows(b[at:])
				s.queue[0].rows, s.queue[0].bytes = s.queue[0].rows+count, s.queue[0].bytes+n
				if at += n; at == len(b) {
					begin = at
					return
				}
			}
			n, ended := f.next(b[at:])
			if at += n; ended == nil {
				continue
			}
			fault.Point("came")
			if s.conversation.changing() {
				if refused = s.authenticates(ended); refused != nil {
					return
				}
			}
			if len(s.queue) > 0 {
				s.queue[0].bytes += ended.length + headerSize*int(packets(ended))
			}
			s.conversation.fromOrigin(ended)
			s.tells()
			begin = at
		}
	})
	switch {
	case s.cut:
		return nil, nil, false
	case refused != nil:
		return b[:begin], refused, false
	}
	if s.lost == "" && s.conversation.changing() {
		return b[:begin], nil, false
	}
	return b, nil, f.between() && len(s.queue) == 0
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
