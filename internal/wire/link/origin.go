package link

import (
	"context"
	"net"
	"sync"
	"time"

	"jollylarder/internal/wire/socket"
)

// DialOrigin opens a connection to the origin, and has secure make of it what it is to be, such as TLS, within the time that
// the settings allow.
func (a *Acceptor) DialOrigin(set *Settings, secure func(net.Conn) (net.Conn, error)) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(a.Running(), set.ConnectTimeout)
	defer cancel()
	var c net.Conn
	var err error
	if a.Dial != nil {
		c, err = a.Dial(ctx, a.Origin)
	} else {
		var d net.Dialer
		c, err = d.DialContext(ctx, Network(a.Origin), a.Origin)
	}
	if err != nil || secure == nil {
		return c, err
	}
	deadline, _ := ctx.Deadline()
	_ = c.SetDeadline(deadline)
	stopped := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stopped()
	t, err := secure(c)
	if err != nil {
		c.Close()
		return nil, err
	}
	if stopped() {
		_ = c.SetDeadline(time.Time{})
	}
	return t, nil
}

// ownConnections are the two addresses of each connection from this process to an origin: a client whose connection has
// the same is the larder itself, whose origin leads back to it.
var ownConnections sync.Map

// NoteOwn notes a connection to an origin, until forget is called.
func NoteOwn(c net.Conn) (forget func()) {
	t, ok := socket.Under(c).(*net.TCPConn)
	if !ok {
		return func() {}
	}
	ends := [2]string{t.LocalAddr().String(), t.RemoteAddr().String()}
	ownConnections.Store(ends, true)
	return func() { ownConnections.Delete(ends) }
}

// IsOwn says whether a client is this process.
func IsOwn(c net.Conn) bool {
	t, ok := socket.Under(c).(*net.TCPConn)
	if !ok {
		return false
	}
	_, own := ownConnections.Load([2]string{t.RemoteAddr().String(), t.LocalAddr().String()})
	return own
}
