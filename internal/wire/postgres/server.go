// Package postgres speaks PostgreSQL's protocol, version 3, to clients and to the origin, and asks the engine what to
// do with each statement. It holds no password: start-up and authentication are relayed as they come.
package postgres

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/fault"
	"jollylarder/internal/wire/link"
)

// Server accepts clients and gives each a connection of its own to the origin.
type Server struct {
	link.Options

	settings atomic.Pointer[link.Settings]

	cancels cancels

	mu    sync.Mutex
	conns map[net.Conn]*session // nil until it has begun
	ended bool
	ctx   context.Context // ends with Close
	stop  func()
	wg    sync.WaitGroup
}

// New makes a server.
func New(o link.Options) *Server { return &Server{Options: o} }

// Configure puts settings in force for those who connect from now on.
func (s *Server) Configure(set link.Settings) { s.settings.Store(set.WithDefaults()) }

// Settings gives those in force.
func (s *Server) Settings() *link.Settings {
	if set := s.settings.Load(); set != nil {
		return set
	}
	s.settings.CompareAndSwap(nil, link.Settings{}.WithDefaults())
	return s.settings.Load()
}

func (s *Server) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	// The system's clock is read for what has passed since the beginning alone: that is half the price of time.Now, and
	// no step of the clock makes a result older or younger.
	return began.Add(time.Since(began))
}

var began = time.Now()

func (s *Server) log() *slog.Logger {
	l := s.Log
	if l == nil {
		l = slog.Default()
	}
	if s.Name != "" {
		l = l.With("origin", s.Name)
	}
	return l
}

// Serve accepts clients until the listener is closed.
func (s *Server) Serve(l net.Listener) error {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			s.log().Warn("a client could not be accepted", "error", err)
			time.Sleep(50 * time.Millisecond) // out of file descriptors, most likely
			continue
		}
		if !s.track(c) {
			c.Close()
			return nil
		}
		s.wg.Go(func() {
			defer s.untrack(c)
			s.handle(c, false)
		})
	}
}

// Clients is how many clients are connected.
func (s *Server) Clients() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.conns)
}

// Drain ends connections as they come to rest: those that are idle at once, busy ones when they have finished. It
// returns when all have ended, or the context has; Close ends what is left then. Nobody is to be accepted any more.
func (s *Server) Drain(ctx context.Context) {
	for {
		s.each(func(x *session) { x.endIf(s.now(), "57P01", "jolly larder is being stopped", "") })
		if s.Clients() == 0 {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// EndIdle ends the connections that have been idle for longer than the settings allow. It is to be called from time to
// time.
func (s *Server) EndIdle() {
	if idle := s.Settings().IdleTimeout; idle > 0 {
		since := s.now().Add(-idle)
		s.each(func(x *session) {
			x.endIf(since, "57P05", fmt.Sprintf("jolly larder: nothing was asked for %s", idle), "The limit is idle_timeout in the larder's configuration.")
		})
	}
}

func (s *Server) each(f func(*session)) {
	s.mu.Lock()
	list := make([]*session, 0, len(s.conns))
	for _, x := range s.conns {
		if x != nil {
			list = append(list, x)
		}
	}
	s.mu.Unlock()
	for _, x := range list {
		f(x)
	}
}

// closeTime is how long Close waits for what clients have begun before it ends the origin's side too.
const closeTime = 3 * time.Second

// Close ends all connections and waits until they have.
func (s *Server) Close() {
	s.mu.Lock()
	s.ended = true
	if s.stop != nil {
		s.stop()
	}
	for c, x := range s.conns {
		if x == nil {
			c.Close()
		} else {
			x.ending.Store(true)
			x.hurry()
			sever(c)
		}
	}
	s.mu.Unlock()
	late := time.AfterFunc(closeTime, func() { s.each(func(x *session) { x.origin.sever() }) })
	defer late.Stop()
	s.wg.Wait()
}

// running gives a context that ends with Close.
func (s *Server) running() context.Context {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ctx == nil {
		s.ctx, s.stop = context.WithCancel(context.Background())
		if s.ended {
			s.stop()
		}
	}
	return s.ctx
}

func (s *Server) track(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return false
	}
	if s.conns == nil {
		s.conns = map[net.Conn]*session{}
	}
	s.conns[c] = nil
	return true
}

func (s *Server) untrack(c net.Conn) {
	c.Close()
	s.mu.Lock()
	delete(s.conns, c)
	s.mu.Unlock()
}

// survive keeps a fault of the larder's own from ending anything but the goroutine it is deferred in.
func (s *Server) survive(what string) {
	if r := recover(); r != nil {
		s.fault(what, r)
	}
}

// fault logs a fault of the larder's own, and what became of it.
func (s *Server) fault(what string, r any) {
	s.log().Error("a fault in the larder: "+what, "fault", r, "stack", string(debug.Stack()))
}

// handle serves one client from its first byte to its last; own says that it is the larder itself. A fault of ours ends
// this connection and no other.
func (s *Server) handle(accepted net.Conn, own bool) {
	defer s.survive("a connection was ended")
	fault.Point("handle")
	set := s.Settings()
	_ = accepted.SetReadDeadline(time.Now().Add(set.StartupTimeout))
	start, client, err := readStartup(accepted, set)
	if err != nil {
		if errors.Is(err, io.EOF) {
			return // somebody looked whether the port answers
		}
		s.log().Info("a client did not start as the protocol asks", "client", accepted.RemoteAddr(), "error", err)
		var told *startupError
		if errors.Is(err, os.ErrDeadlineExceeded) {
			told = &startupError{"08P01", fmt.Sprintf("jolly larder: the first message did not arrive within %s", set.StartupTimeout), "The limit is startup_timeout in the larder's configuration."}
		}
		if told != nil || errors.As(err, &told) {
			s.refuse(accepted, client, told)
		}
		return
	}
	_ = accepted.SetReadDeadline(time.Time{})
	if most := set.MaxConnections; most > 0 && s.Clients() > most && !start.cancel && !own {
		s.log().Warn("a client was sent away", "client", accepted.RemoteAddr(), "limit", most)
		s.refuse(accepted, client, &startupError{"53300", fmt.Sprintf("jolly larder has too many clients: at most %d may be connected", most),
			"The limit is connections in the larder's configuration."})
		return
	}

	if isOwn(accepted) {
		s.log().Error("the origin's address is this larder itself", "address", s.Origin)
		s.refuse(accepted, client, &startupError{"08006", "jolly larder's origin " + s.Origin + " is jolly larder itself",
			"Set the larder's --origin, or address in [[origin]] of its configuration, to the database's address."})
		return
	}
	origin, err := s.dial(set)
	if err != nil {
		s.log().Warn("the origin cannot be reached", "address", s.Origin, "error", err)
		s.refuse(accepted, client, &startupError{"08006", "jolly larder cannot reach the database at " + s.Origin + ": " + err.Error(), hintOf(err)})
		return
	}
	defer origin.Close()
	defer noteOwn(origin)()
	if start.cancel || start.other { // of which no session takes care
		defer context.AfterFunc(s.running(), func() { origin.Close() })()
	}
	if start.cancel && len(start.raw) > cancelHeader {
		if x := s.cancels.session(start.raw[cancelHeader:]); x != nil {
			x.hurryOn() // the statement may be waiting for what another session fetches
		}
	}
	if _, err := origin.Write(start.raw); err != nil {
		_, _ = client.Write(fatal("08006", "jolly larder lost the database at "+s.Origin+": "+err.Error(), ""))
		return
	}
	switch {
	case start.other:
		// What the client would say in it could not be followed, so none of that gets there: the origin's answer is
		// all.
		_ = origin.SetReadDeadline(time.Now().Add(set.StartupTimeout))
		_, _ = io.Copy(client, origin)
	case start.cancel:
		_ = origin.SetReadDeadline(time.Now().Add(set.ConnectTimeout))
		_, _ = io.Copy(io.Discard, origin) // the server closes when it has acted; so does this
	default:
		start.identity.Origin, start.identity.Own = s.Name, own
		x := newSession(s, set, client, origin, start)
		s.mu.Lock()
		s.conns[accepted] = x
		s.mu.Unlock()
		x.run()
	}
}

// hintOf says what to look at after the origin could not be reached.
func hintOf(err error) string {
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var alert tls.AlertError
	switch {
	case errors.As(err, &authority):
		return "The database's certificate is signed by an authority that the larder does not know: set ca in [origin.tls] of the larder's configuration to that authority's certificate."
	case errors.As(err, &host):
		return "The database's certificate is for another host than the larder's address for it: set host in [origin.tls] of the larder's configuration to the name in the certificate, or mode = \"verify-ca\"."
	case errors.As(err, &invalid):
		return "The database's certificate is not valid at this time or for this use: look at its dates, and at the clocks of both machines."
	case errors.As(err, &alert):
		return "The database refused the larder's TLS: look at certificate and key in [origin.tls] of the larder's configuration, and at the database's log."
	case errors.Is(err, errNoTLS):
		return "Turn TLS on in the database, or set mode = \"disable\" in [origin.tls] of the larder's configuration."
	}
	return "Check that the database runs, and the larder's --origin, or address in [[origin]] of its configuration."
}

// cancelHeader is what stands before the key in a request to cancel: its length and its code.
const cancelHeader = 8

// cancels are the sessions by the key that cancels their statements. They have a lock of their own, under which nothing
// is written: a request to cancel must get through whatever the sessions do.
type cancels struct {
	mu sync.Mutex
	by map[string]*session
}

func (c *cancels) remember(key []byte, s *session) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil {
		c.by = map[string]*session{}
	}
	c.by[string(key)] = s
}

// forget takes out a key that is still that session's.
func (c *cancels) forget(key []byte, s *session) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by[string(key)] == s {
		delete(c.by, string(key))
	}
}

// session gives whose key it is, or nil.
func (c *cancels) session(key []byte) *session {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.by[string(key)]
}

// refuse tells a client why it cannot begin. It no longer counts as connected.
func (s *Server) refuse(accepted, client net.Conn, why *startupError) {
	s.mu.Lock()
	delete(s.conns, accepted)
	s.mu.Unlock()
	_ = client.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = client.Write(fatal(why.code, why.message, why.hint))
	linger(client)
}

// linger lets a client read what was last written: closing on unread bytes would throw that away.
func linger(c net.Conn) {
	hangUp(c)
	_ = c.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = io.CopyN(io.Discard, c, 1<<16)
}

// hangUp says that nothing more will be written.
func hangUp(c net.Conn) {
	closeWrite(c)
	_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
}

func closeWrite(c net.Conn) {
	if w, ok := c.(interface{ CloseWrite() error }); ok {
		_ = w.CloseWrite()
	}
}

// sever ends a connection both ways: whoever reads or writes it finds its end. Its file descriptor stays in use.
func sever(c net.Conn) {
	switch x := c.(type) {
	case *net.TCPConn:
		_, _ = x.CloseRead(), x.CloseWrite()
	case *net.UnixConn:
		_, _ = x.CloseRead(), x.CloseWrite()
	default:
		c.Close()
	}
}
