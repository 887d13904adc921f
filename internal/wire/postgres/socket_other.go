//go:build !linux

package postgres

import "net"

// socket is a connection; elsewhere its file descriptor is used where it has one.
type socket struct{ net.Conn }

func newSocket(c net.Conn) *socket { return &socket{c} }

func (s *socket) receive(space func() []byte, got func(n int, err error) (more, settled bool)) {
	for {
		n, err := s.Conn.Read(space())
		if more, _ := got(n, err); !more || err != nil {
			return
		}
	}
}

func (s *socket) answer(b []byte) error {
	_, err := s.Conn.Write(b)
	return err
}

func (s *socket) sever() { sever(s.Conn) }
