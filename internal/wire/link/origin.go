package link

import (
	"context"
	"errors"
	"net"
	"sync"
	"time"

	"jollylarder/internal/wire/socket"
)

// DialOrigin opens a connection to the origin, and has secure make of it what it is to be, such as TLS, within the time that
// the settings allow.
func (a *Acceptor) DialOrigin(set *Settings, secure func(net.Conn) (net.Conn, error)) (_ net.Conn, err error) {
	ctx, cancel := context.WithTimeout(a.Running(), set.ConnectTimeout)
	defer cancel()
	defer func() {
		if a.Running().Err() == nil {
			a.reach.Store(&reach{err, a.Time()})
		}
	}()
	c, err := a.dial(ctx)
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

func (a *Acceptor) dial(ctx context.Context) (net.Conn, error) {
	if a.Dial != nil {
		return a.Dial(ctx, a.Origin)
	}
	var d net.Dialer
	return d.DialContext(ctx, Network(a.Origin), a.Origin)
}

// reach is what came of the last connection to the origin, and when.
type reach struct {
	err error
	at  time.Time
}

// reachAge is how long a connection that failed stands for others.
const reachAge = time.Second

// Reach gives an error if the origin cannot be reached: if the last connection to it failed, and another fails now. It connects
// for that alone, once a second at most, or where there has been none yet: servers of MySQL's protocol turn hosts away that connect again and again
// and do not log in.
func (a *Acceptor) Reach(ctx context.Context) error {
	if last := a.reach.Load(); last != nil && (last.err == nil || a.Time().Sub(last.at) < reachAge) {
		return last.err
	}
	c, err := a.dial(ctx)
	if err == nil {
		c.Close()
	}
	if !errors.Is(ctx.Err(), context.Canceled) { // else whoever asked has gone
		a.reach.Store(&reach{err, a.Time()})
	}
	return err
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
