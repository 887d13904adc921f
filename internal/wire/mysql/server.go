// Package mysql stands between clients and an origin that speak the protocol of MariaDB and MySQL. It holds no password:
// the login is relayed.
package mysql

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"

	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// Server accepts clients and gives each a connection of its own to the origin.
type Server struct {
	link.Acceptor
	unknown     unknowns
	transitions transitions
	starting    starting
	reading     atomic.Bool // the catalog is being read
	background  sync.WaitGroup
}

// New makes a server.
func New(o link.Options) *Server {
	s := &Server{Acceptor: link.Acceptor{Options: o}}
	s.Handle = func(c net.Conn) { s.handle(c, false) }
	return s
}

// Close implements link.Server.
func (s *Server) Close() {
	s.Acceptor.Close()
	s.background.Wait()
}

// handle serves one client from its first byte to its last; own says that it is the larder itself. A fault of ours ends
// this connection and no other.
func (s *Server) handle(accepted net.Conn, own bool) {
	defer s.Survive("a connection was ended")
	set := s.Settings()
	l := &login{server: s, set: set, client: accepted, own: own}
	if most := set.MaxConnections; most > 0 && s.Clients() > most && !own {
		s.Logger().Warn("a client was sent away", "client", accepted.RemoteAddr(), "limit", most)
		s.sendAway(l, codeTooMany, stateTooMany, fmt.Sprintf("jolly larder has too many clients: at most %d may be connected; the limit is max_connections in the larder's configuration", most))
		return
	}
	origin, err := s.DialOrigin(set, nil)
	if err == nil {
		defer origin.Close()
		defer link.NoteOwn(origin)()
	}
	// A client says nothing before the server does. By now the larder has noted the connection that this one may be the
	// other end of, which it may not have when this one was accepted.
	if link.IsOwn(accepted) {
		s.Logger().Error("the origin's address is this larder itself", "address", s.Origin)
		s.sendAway(l, codeUnreached, stateGeneral, "jolly larder's origin "+s.Origin+" is jolly larder itself: set the larder's --origin, or address in [[origin]] of its configuration, to the database's address")
		return
	}
	if err != nil {
		s.Logger().Warn("the origin cannot be reached", "address", s.Origin, "error", err)
		s.sendAway(l, codeUnreached, stateGeneral, fmt.Sprintf("jolly larder cannot reach the database at %s: %v. %s", s.Origin, err, link.Hint(err)))
		return
	}
	l.origin = origin
	x := newSession(s, accepted, origin)
	s.Began(accepted, x)
	if err := s.login(l); err != nil {
		if !errors.Is(err, errRefused) && !errors.Is(err, io.EOF) {
			s.Logger().Info("a client did not log in as the protocol asks", "client", accepted.RemoteAddr(), "error", err)
		}
		s.Forget(accepted)
		socket.Linger(l.client)
		return
	}
	x.run(l)
}

// login has a client logged in.
func (s *Server) login(l *login) error {
	if l.set.ProxyHeader {
		if _, err := l.origin.Write(proxyHeader(l.client)); err != nil {
			return l.lost(err)
		}
	}
	for _, step := range []func() error{l.greet, l.introduce, l.run} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// sendAway tells a client why it cannot begin. It no longer counts as connected.
func (s *Server) sendAway(l *login, code uint16, state, message string) {
	s.Forget(l.client)
	_ = l.refuse(code, state, message)
	socket.Linger(l.client)
}
