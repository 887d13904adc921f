// Package postgres speaks PostgreSQL's protocol, version 3, to clients and to the origin, and asks the engine what to
// do with each statement. It holds no password: start-up and authentication are relayed as they come.
package postgres

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	"jollylarder/internal/core/engine"
)

// Server accepts clients and gives each a connection of its own to the origin.
type Server struct {
	// Engine decides. Required.
	Engine *engine.Engine
	// Origin is the database's address, as host:port. Required.
	Origin string
	// Dial opens a connection to the origin; nil means TCP.
	Dial func(ctx context.Context, address string) (net.Conn, error)
	// Now gives the time; nil means time.Now.
	Now func() time.Time
	// Log receives what goes wrong; nil means slog.Default.
	Log *slog.Logger
	// StartupTimeout bounds the time from accepting a client to its first message; 0 means 30 s.
	StartupTimeout time.Duration
	// LostTimeout bounds how long a write is waited for after its client has gone; 0 means 60 s.
	LostTimeout time.Duration

	mu    sync.Mutex
	conns map[net.Conn]struct{}
	ended bool
	wg    sync.WaitGroup
}

func (s *Server) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

func (s *Server) log() *slog.Logger {
	if s.Log != nil {
		return s.Log
	}
	return slog.Default()
}

func (s *Server) dial() (net.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if s.Dial != nil {
		return s.Dial(ctx, s.Origin)
	}
	var d net.Dialer
	return d.DialContext(ctx, "tcp", s.Origin)
}

func orDefault(d, otherwise time.Duration) time.Duration {
	if d == 0 {
		return otherwise
	}
	return d
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
			s.handle(c)
		})
	}
}

// Close ends all connections and waits until they have.
func (s *Server) Close() {
	s.mu.Lock()
	s.ended = true
	for c := range s.conns {
		c.Close()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

func (s *Server) track(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return false
	}
	if s.conns == nil {
		s.conns = map[net.Conn]struct{}{}
	}
	s.conns[c] = struct{}{}
	return true
}

func (s *Server) untrack(c net.Conn) {
	c.Close()
	s.mu.Lock()
	delete(s.conns, c)
	s.mu.Unlock()
}

// handle serves one client from its first byte to its last. A fault of ours ends this connection and no other.
func (s *Server) handle(client net.Conn) {
	defer func() {
		if r := recover(); r != nil {
			s.log().Error("a fault in the larder ended a connection", "client", client.RemoteAddr(), "fault", r)
		}
	}()
	_ = client.SetReadDeadline(time.Now().Add(orDefault(s.StartupTimeout, 30*time.Second)))
	start, err := readStartup(client)
	if err != nil {
		if !errors.Is(err, io.EOF) {
			s.log().Info("a client did not start as the protocol asks", "client", client.RemoteAddr(), "error", err)
			_, _ = client.Write(fatal("08P01", "jolly larder: "+err.Error(), ""))
			linger(client)
		}
		return
	}
	_ = client.SetReadDeadline(time.Time{})

	origin, err := s.dial()
	if err != nil {
		s.log().Warn("the origin cannot be reached", "origin", s.Origin, "error", err)
		_, _ = client.Write(fatal("08006", "jolly larder cannot reach the database at "+s.Origin+": "+err.Error(),
			"Check that the database runs and that the larder's --origin names it."))
		return
	}
	defer origin.Close()
	if _, err := origin.Write(start.raw); err != nil {
		_, _ = client.Write(fatal("08006", "jolly larder lost the database at "+s.Origin+": "+err.Error(), ""))
		return
	}
	switch {
	case start.cancel:
		_, _ = io.Copy(io.Discard, origin) // the server closes when it has acted; so does this
	case start.replication:
		relay(client, origin)
	default:
		newSession(s, client, origin, start).run()
	}
}

// linger lets a client read what was last written: closing on unread bytes would throw that away.
func linger(c net.Conn) {
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.CloseWrite()
	}
	_ = c.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = io.CopyN(io.Discard, c, 1<<16)
}

// relay copies both ways until either side ends.
func relay(a, b net.Conn) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(a, b)
		a.Close()
	}()
	_, _ = io.Copy(b, a)
	b.Close()
	<-done
}
