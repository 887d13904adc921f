// Package postgres speaks PostgreSQL's protocol, version 3, to clients and to the origin, and asks the engine what to
// do with each statement. It holds no password: start-up and authentication are relayed as they come.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/fault"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// Server accepts clients and gives each a connection of its own to the origin.
type Server struct {
	link.Acceptor
	cancels cancels

	unreviewed atomic.Pointer[string] // the settings that the log was told of last
}

// New makes a server.
func New(o link.Options) *Server {
	s := &Server{Acceptor: link.Acceptor{Options: o}}
	s.Handle = func(c net.Conn) { s.handle(c, false) }
	return s
}

// handle serves one client from its first byte to its last; own says that it is the larder itself. A fault of ours ends
// this connection and no other.
func (s *Server) handle(accepted net.Conn, own bool) {
	defer s.Survive("a connection was ended")
	fault.Point("handle")
	set := s.Settings()
	_ = accepted.SetReadDeadline(time.Now().Add(set.StartupTimeout))
	start, client, err := readStartup(accepted, set)
	if err != nil {
		if errors.Is(err, io.EOF) {
			return // somebody looked whether the port answers
		}
		s.Logger().Info("a client did not start as the protocol asks", "client", accepted.RemoteAddr(), "error", err)
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
		s.Logger().Warn("a client was sent away", "client", accepted.RemoteAddr(), "limit", most)
		s.refuse(accepted, client, &startupError{"53300", fmt.Sprintf("jolly larder has too many clients: at most %d may be connected", most),
			"The limit is connections in the larder's configuration."})
		return
	}

	if link.IsOwn(accepted) {
		s.Logger().Error("the origin's address is this larder itself", "address", s.Origin)
		s.refuse(accepted, client, &startupError{"08006", "jolly larder's origin " + s.Origin + " is jolly larder itself",
			"Set the larder's --origin, or address in [[origin]] of its configuration, to the database's address."})
		return
	}
	origin, err := s.dial(set)
	if err != nil {
		s.Logger().Warn("the origin cannot be reached", "address", s.Origin, "error", err)
		s.refuse(accepted, client, &startupError{"08006", "jolly larder cannot reach the database at " + s.Origin + ": " + err.Error(), link.Hint(err)})
		return
	}
	defer origin.Close()
	defer link.NoteOwn(origin)()
	if start.cancel || start.other { // of which no session takes care
		defer context.AfterFunc(s.Running(), func() { origin.Close() })()
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
		s.Began(accepted, x)
		x.run()
	}
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
	s.Forget(accepted)
	_ = client.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = client.Write(fatal(why.code, why.message, why.hint))
	socket.Linger(client)
}
