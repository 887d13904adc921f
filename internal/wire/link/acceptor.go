package link

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/wire/socket"
)

// Acceptor is what every Server is made of: it accepts clients, knows those that are connected, and ends them.
type Acceptor struct {
	Options
	// Handle serves one client from its first byte to its last.
	Handle func(net.Conn)

	settings atomic.Pointer[Settings]
	reach    atomic.Pointer[reach]
	draining atomic.Bool

	mu    sync.Mutex
	conns map[net.Conn]Conn // nil until it has begun
	ended bool
	ctx   context.Context // ends with Close
	stop  func()
	wg    sync.WaitGroup
}

// Conn is the session of a client that has begun.
type Conn interface {
	// EndIf ends it if it is at rest, and has been since a time; the client is told why.
	EndIf(since time.Time, why Ending)
	// Stop says that everything ends now: it waits for nothing any more.
	Stop()
	// SeverOrigin ends its connection to the origin.
	SeverOrigin()
}

// Ending is why a session at rest is ended.
type Ending uint8

// The reasons.
const (
	Stopping Ending = iota // the larder is being stopped
	Idle                   // nothing was asked for longer than the settings allow
)

// Configure puts settings in force for those who connect from now on.
func (a *Acceptor) Configure(set Settings) { a.settings.Store(set.WithDefaults()) }

// Settings gives those in force.
func (a *Acceptor) Settings() *Settings {
	if set := a.settings.Load(); set != nil {
		return set
	}
	a.settings.CompareAndSwap(nil, Settings{}.WithDefaults())
	return a.settings.Load()
}

// Time gives the present time.
func (a *Acceptor) Time() time.Time {
	if a.Now != nil {
		return a.Now()
	}
	// The system's clock is read for what has passed since the beginning alone: that is half the price of time.Now, and
	// no step of the clock makes a result older or younger.
	return began.Add(time.Since(began))
}

var began = time.Now()

// Logger gives where to say what goes wrong.
func (a *Acceptor) Logger() *slog.Logger {
	l := a.Log
	if l == nil {
		l = slog.Default()
	}
	if a.Name != "" {
		l = l.With("origin", a.Name)
	}
	return l
}

// Serve accepts clients until the listener is closed.
func (a *Acceptor) Serve(l net.Listener) error {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			a.Logger().Warn("a client could not be accepted", "error", err)
			time.Sleep(50 * time.Millisecond) // out of file descriptors, most likely
			continue
		}
		if !a.Go(c, a.Handle) {
			c.Close()
			return nil
		}
	}
}

// Go serves a client in a goroutine of its own, after which the connection is closed. It is false if everything has
// ended; then nothing is done.
func (a *Acceptor) Go(c net.Conn, serve func(net.Conn)) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ended {
		return false
	}
	if a.conns == nil {
		a.conns = map[net.Conn]Conn{}
	}
	a.conns[c] = nil
	a.wg.Go(func() {
		defer a.Forget(c)
		defer c.Close()
		serve(c)
	})
	return true
}

// Beside runs something that Close waits for.
func (a *Acceptor) Beside(f func()) { a.wg.Go(f) }

// Began notes the session of a client.
func (a *Acceptor) Began(c net.Conn, x Conn) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.conns[c] = x
}

// Forget has a client no longer count as connected.
func (a *Acceptor) Forget(c net.Conn) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.conns, c)
}

// Clients is how many clients are connected.
func (a *Acceptor) Clients() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.conns)
}

// Drain ends connections as they come to rest: those that are idle at once, busy ones when they have finished. It
// returns when all have ended, or the context has; Close ends what is left then. Nobody is to be accepted any more.
func (a *Acceptor) Drain(ctx context.Context) {
	a.draining.Store(true)
	for {
		a.each(func(x Conn) { x.EndIf(a.Time(), Stopping) })
		if a.Clients() == 0 {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Draining says whether connections end as they come to rest. A client that asks one thing after the other is at rest for
// moments only, in which Drain would hardly ever look: so its session is to look by itself, with EndIf, behind each reply.
func (a *Acceptor) Draining() bool { return a.draining.Load() }

// EndIdle ends the connections that have been idle for longer than the settings allow. It is to be called from time to
// time.
func (a *Acceptor) EndIdle() {
	if idle := a.Settings().IdleTimeout; idle > 0 {
		since := a.Time().Add(-idle)
		a.each(func(x Conn) { x.EndIf(since, Idle) })
	}
}

func (a *Acceptor) each(f func(Conn)) {
	a.mu.Lock()
	list := make([]Conn, 0, len(a.conns))
	for _, x := range a.conns {
		if x != nil {
			list = append(list, x)
		}
	}
	a.mu.Unlock()
	for _, x := range list {
		f(x)
	}
}

// closeTime is how long Close waits for what clients have begun before it ends the origin's side too.
const closeTime = 3 * time.Second

// Close ends all connections and waits until they have.
func (a *Acceptor) Close() {
	a.mu.Lock()
	a.ended = true
	if a.stop != nil {
		a.stop()
	}
	for c, x := range a.conns {
		if x == nil {
			c.Close()
		} else {
			x.Stop()
			socket.Sever(c)
		}
	}
	a.mu.Unlock()
	late := time.AfterFunc(closeTime, func() { a.each(Conn.SeverOrigin) })
	defer late.Stop()
	a.wg.Wait()
}

// Running gives a context that ends with Close.
func (a *Acceptor) Running() context.Context {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ctx == nil {
		a.ctx, a.stop = context.WithCancel(context.Background())
		if a.ended {
			a.stop()
		}
	}
	return a.ctx
}

// Survive keeps a fault of the larder's own from ending anything but the goroutine it is deferred in.
func (a *Acceptor) Survive(what string) {
	if r := recover(); r != nil {
		a.Fault(what, r)
	}
}

// Fault logs a fault of the larder's own, and what became of it.
func (a *Acceptor) Fault(what string, r any) {
	a.Logger().Error("a fault in the larder: "+what, "fault", r, "stack", string(debug.Stack()))
}
