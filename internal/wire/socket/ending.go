// Package socket reads and writes connections with as few system calls as there can be, and ends them.
package socket

import (
	"io"
	"net"
	"time"
)

// Sever ends a connection both ways: whoever reads or writes it finds its end. Its file descriptor stays in use.
func Sever(c net.Conn) {
	switch x := c.(type) {
	case *net.TCPConn:
		_, _ = x.CloseRead(), x.CloseWrite()
	case *net.UnixConn:
		_, _ = x.CloseRead(), x.CloseWrite()
	default:
		c.Close()
	}
}

// CloseWrite says that nothing more will be written, and leaves the other way open.
func CloseWrite(c net.Conn) {
	if w, ok := c.(interface{ CloseWrite() error }); ok {
		_ = w.CloseWrite()
	}
}

// HangUp says that nothing more will be written, and ends reading within a moment.
func HangUp(c net.Conn) {
	CloseWrite(c)
	_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
}

// Linger lets the other side read what was last written: closing on unread bytes would throw that away.
func Linger(c net.Conn) {
	HangUp(c)
	_ = c.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = io.CopyN(io.Discard, c, 1<<16)
}

// Under gives the connection that others are made of, such as TLS.
func Under(c net.Conn) net.Conn {
	for {
		x, ok := c.(interface{ NetConn() net.Conn })
		if !ok {
			return c
		}
		c = x.NetConn()
	}
}
