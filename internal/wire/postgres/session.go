package postgres

import (
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/fault"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

const (
	// mostHeld is how many bytes of a client's messages are held back while it is not clear whether they can be
	// answered from memory, and longest is the longest message that is looked at whole. Beyond either, bytes are
	// relayed as they come.
	mostHeld = 64 << 10
	longest  = 1<<20 + 1024
	// mostOutstanding is how many replies may be outstanding before the client is no longer read: each is remembered.
	mostOutstanding = 4096
	// mostNames is how many of a client's names of statements, and of portals, are remembered.
	mostNames = 10_000
)

// session is one client's connection and the origin's connection that belongs to it. Two goroutines serve it:
// fromClient reads what the client sends, decides, and answers or sends on; fromOrigin relays what comes back.
type session struct {
	server         *Server
	settings       *link.Settings // those in force when it began
	client, origin *socket.Socket
	auth           auth
	startup        *startup
	awaiting       atomic.Bool // it waits for another session's result, or is about to send what waited

	// sending is held from queueing an exchange to its last byte being written, so that the queue is in the order of
	// the bytes. It is taken before mu.
	sending sync.Mutex

	// telling is held while anything is written to the client. It is taken with mu held, which need not be held until
	// the writing is done: so an answer from memory never lands within or before a reply from the origin, and yet the
	// client's next statement does not wait for the end of the last reply's writing.
	telling sync.Mutex

	// mu guards what follows and the engine's session.
	mu sync.Mutex
	conversation
	crowded    bool       // fromClient waits on room for fewer outstanding replies
	room       *sync.Cond // of mu
	clientGone bool
	cause      error // by which the session ends, once it does
	originGone bool
	active     time.Time
	parameters map[string]string
	cancelKey  []byte        // by which its statements can be cancelled
	hurried    chan struct{} // ends the waiting for another session's result
	awaits     bool          // it waits for that
	ending     atomic.Bool   // the server is being closed

	plainSettings bool // the session may not ask which server it is
	leaving       bool // the client has said that it goes
	dismissed     bool // the origin has said why it ends the connection
	hiding        bool // what is arriving from the origin is not for the client as it comes

	// What follows belongs to fromClient alone.
	admitted   bool // login is over, as fromClient knows
	in         inbound
	reserved   int64      // room for a message that needs a buffer of its own
	lateBefore *heldBegin // the BEGIN that was held when what is being dealt with began
	partly     bool       // of what is being dealt with, something has been written already
	following  int        // bytes still to come of a message that is sent on as it comes
	settled    bool       // the client waits for what it asked
	until      time.Time  // by when a silence ends what is held back; zero for never
	held       []part     // the messages since the last Sync that have not been sent on
	through    bool       // the bytes held are copy data, which only wait for more of it
	answers    []byte     // for several answers from memory
	scratch    []byte     // for one that is not the entry's own bytes
	hits       []hit      // those being answered
	toOrigin   []byte     // for messages that are not sent as they came
}

// part is one held message: its place in the held bytes, and that of what it names. What a name means is worked out
// when the message is dealt with, behind those before it.
type part struct {
	kind       byte
	ofPortal   bool // of Describe and Close
	limited    bool // of Execute: it asks for some rows only
	wrong      bool // it is not understood
	start, end int
	name       place     // of Parse its statement, of Bind and Execute their portal, of Describe and Close what they name
	statement  place     // of Bind: the statement
	bound      int       // of Bind: where formats, values and result formats begin; they end with it
	stmt       *prepared // of Parse
}

// place is a stretch of the held bytes.
type place struct{ from, to int }

func (p place) empty() bool { return p.from == p.to }

func newSession(srv *Server, set *link.Settings, client, origin net.Conn, start *startup) *session {
	s := &session{
		server: srv, settings: set, client: socket.New(client), origin: socket.New(origin),
		auth: newAuth(set, client, origin), startup: start, conversation: conversation{login: true},
		parameters: map[string]string{}, hurried: make(chan struct{}, 1),
		active: srv.Time(),
	}
	s.room = sync.NewCond(&s.mu)
	x := s.queue.open(s.active)
	x.closed, x.synced = true, true
	s.expects(x, expected{kind: wholeExchange}) // the login, which ends with the first ReadyForQuery
	return s
}

func (s *session) run() {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer s.client.Sever()
		defer s.origin.Sever()
		defer s.server.Survive("a connection was ended")
		defer s.endQuestions()
		s.fromOrigin()
	}()
	s.fromClientSafely()
	s.mu.Lock()
	told := s.clientGone
	s.endsBy(errClient)
	waiting := s.waiting()
	s.mu.Unlock()
	if told {
		socket.Linger(s.client.Conn)
	}
	if waiting {
		// Its client is gone, but a write is under way: what became of it matters to everybody else. The origin learns
		// that nothing more will come, and ends the connection when it has done what it was asked.
		socket.CloseWrite(s.origin.Conn)
		_ = s.origin.SetReadDeadline(time.Now().Add(s.settings.LostTimeout))
	} else {
		s.origin.Sever()
	}
	<-ended
	s.close()
}

// fromClientSafely is fromClient, after a fault in which the connection ends.
func (s *session) fromClientSafely() {
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("a connection was ended", r)
			s.client.Sever()
		}
	}()
	s.fromClient()
}

// close has everybody else know that the session has ended.
func (s *session) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.server.Logger().Debug("a connection has ended", "client", s.address(), "cause", s.cause)
	s.server.cancels.forget(s.cancelKey, s)
	s.unreserve()
	if s.eng == nil {
		return
	}
	for _, x := range s.queue.all() {
		for i := range x.expect {
			if e := x.expect[i].exec; e != nil {
				s.copied(e)
			}
		}
	}
	s.eng.Close(s.server.Time())
}

// admit has the engine know of a session whose login has ended well. It is called with mu held.
func (s *session) admit() {
	s.login = false
	s.eng = s.server.Engine.NewSession(s.startup.identity)
	for name, value := range s.parameters {
		s.reported(name, value)
	}
	s.room.Broadcast()
	s.aside(s.askAhead)
}

// aside runs something beside the session's two goroutines, which may last longer than the session, but no longer than
// the server. A fault in it ends the session and nothing else.
func (s *session) aside(f func()) {
	s.server.Beside(func() {
		defer func() {
			if r := recover(); r != nil {
				s.server.Fault("a connection was ended", r)
				s.mu.Lock()
				defer s.mu.Unlock()
				s.cut(errFault)
			}
		}()
		f()
	})
}

// outside runs something with mu given up. It is called with mu held.
func (s *session) outside(f func()) {
	s.mu.Unlock()
	defer s.mu.Lock()
	f()
}

// sent gives sending up, when what was to be sent has been.
func (s *session) sent() {
	if s.awaiting.Load() {
		s.awaiting.Store(false)
	}
	s.sending.Unlock()
}

// address is where the client is, for the log.
func (s *session) address() string { return s.startup.identity.Address }

// waiting says whether a write is under way whose outcome has not arrived.
func (s *session) waiting() bool { return s.eng != nil && s.eng.Writing() }

// endQuestions lets go whoever waits for an answer that will not come.
func (s *session) endQuestions() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.originGone && !s.clientGone && !s.leaving && !s.raw && !s.dismissed && !s.login && !s.ending.Load() {
		s.server.Logger().Warn(
			"a connection to the database was lost; all results cached from it are dropped",
			"client",
			s.address(),
		)
		s.server.Engine.LostServer(s.server.Name)
	}
	s.originGone = true
	s.causes(errOrigin)
	s.hurry()
	for _, x := range s.queue.all() {
		if x.question != nil {
			x.question.end()
		}
	}
	s.crowded = false
	s.room.Broadcast()
}

// atRest says whether nothing is under way: the connection can be ended without anybody losing anything.
func (s *session) atRest() bool {
	return !s.raw && !s.login && !s.mid && !s.awaits && s.queue.len() == 0 && s.eng.State() == engine.Idle
}

// rest does what is to be done when the session has come to rest. It is called with mu held.
func (s *session) rest(now time.Time) {
	if s.queue.len() == 0 && s.eng.State() == engine.Idle && s.eng.WantsCatalog(now) {
		s.aside(s.askAhead)
	}
}

// end tells the client that its connection ends, and why, and ends it. It is called with mu held, and with no message
// partly written.
func (s *session) end(code, message, hint string) {
	if s.clientGone {
		return
	}
	s.endsBy(errors.New(message))
	_ = s.client.SetWriteDeadline(time.Now().Add(time.Second)) // one that does not read must not hold up the others
	s.telling.Lock()
	defer s.telling.Unlock()
	fault.Point("end")
	_, _ = s.client.Write(fatal(code, message, hint))
	socket.HangUp(s.client.Conn)
}

// EndIf implements link.Conn.
func (s *session) EndIf(since time.Time, why link.Ending) {
	if !s.mu.TryLock() { // then it is busy, or its client does not read
		return
	}
	defer s.mu.Unlock()
	if !s.telling.TryLock() {
		return
	}
	s.telling.Unlock()
	if !s.atRest() || s.active.After(since) {
		return
	}
	switch why {
	case link.Stopping:
		s.end("57P01", "jolly larder is being stopped", "")
	case link.Idle:
		s.end("57P05", fmt.Sprintf("jolly larder: nothing was asked for %s", s.server.Settings().IdleTimeout), "The limit is idle_timeout in the larder's configuration.")
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
	s.hurry()
}

// SeverOrigin implements link.Conn.
func (s *session) SeverOrigin() { s.origin.Sever() }

// lose gives up following a conversation: something came that has no place in it. From then on everything is relayed,
// nothing is answered from memory, and every write there may be counts for every table. It is called with mu held.
func (s *session) lose(why string, now time.Time) {
	if s.raw {
		return
	}
	private := s.hiding
	for _, x := range s.queue.all() {
		private = private || x.private()
	}
	if s.login || private || s.holding() {
		// What comes next is in part for nobody, or not for the client as it comes; or nobody knows who the client is.
		s.server.Logger().Error(
			"a connection had to be ended: its conversation could not be followed",
			"why",
			why,
			"client",
			s.address(),
		)
		s.cut(errLost)
		return
	}
	s.server.Logger().Warn("a conversation is no longer followed, and only relayed", "why", why, "client", s.address())
	s.raw, s.crowded = true, false
	s.room.Broadcast()
	fault.Point("lose")
	s.eng.Unknown(now)
	x := s.queue.open(now)
	x.closed, x.synced = true, true // until the connection ends
}

// The causes of a session's end that are told to nobody else.
var (
	errClient  = errors.New("the client ended it")
	errOrigin  = errors.New("the database ended it")
	errUnread  = errors.New("the client could not be written to")
	errLost    = errors.New("its conversation could not be followed")
	errFault   = errors.New("a fault in the larder")
	errStopped = errors.New("the larder is being stopped")
	errAsking  = errors.New("a question of the larder's own could not be put")
)

// endsBy notes that the session ends, and by what: what ends it first is the cause. It is called with mu held.
func (s *session) endsBy(cause error) {
	s.clientGone = true
	s.causes(cause)
}

// causes notes what a session ends by, if nothing has ended it before.
func (s *session) causes(cause error) {
	switch {
	case s.cause != nil:
	case s.ending.Load():
		s.cause = errStopped
	default:
		s.cause = cause
	}
}

// cut ends the session at once, both ways. It is called with mu held.
func (s *session) cut(why error) {
	s.endsBy(why)
	s.client.Sever()
	s.origin.Sever()
}
