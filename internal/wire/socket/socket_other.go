//go:build !linux

package socket

import "net"

// Socket is a connection; elsewhere its file descriptor is used where it has one.
type Socket struct{ net.Conn }

func New(c net.Conn) *Socket { return &Socket{c} }

func (s *Socket) Receive(space func() []byte, got func(n int, err error) (more, settled bool)) {
	for {
		n, err := s.Conn.Read(space())
		if more, _ := got(n, err); !more || err != nil {
			return
		}
	}
}

func (s *Socket) Answer(b []byte) error {
	_, err := s.Conn.Write(b)
	return err
}

func (s *Socket) Sever() { Sever(s.Conn) }
