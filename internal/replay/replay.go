// Package replay has a larder answer the same exchange many times, within one process and without a socket on the
// client's side, so that what a hit costs the larder itself can be counted: allocations, instructions, nanoseconds.
package replay

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"runtime"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/standin"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// statement is what is asked, with a value or a placeholder in the place of %s.
const statement = "select fare from fares where id = %s"

// Larder is one with a client, before an origin of its own. Make it with New.
type Larder struct {
	engine *larder.Larder
	client *client
	close  []func()
}

// New starts a larder and logs its client in. The client has prepared the statement as s0.
func New() (*Larder, error) {
	l := &Larder{}
	if err := l.start(); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

func (l *Larder) start() error {
	o, err := standin.New(standin.Options{})
	if err != nil {
		return err
	}
	l.close = append(l.close, func() { _ = o.Close() })
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	l.close = append(l.close, func() { _ = ln.Close() })
	go func() { _ = o.Serve(ln) }()

	if l.engine, err = larder.New(engine.Options{Dialect: dialect.Dialect}, time.Now()); err != nil {
		return err
	}
	l.engine.SetRules(rules.NewSet([]rules.Rule{{
		Name: "fares", Pattern: dialect.Dialect.Syntax.Of(fmt.Sprintf(statement, "4711")), Action: rules.Cache, TTL: 24 * time.Hour,
		ControlSample: -1,
	}}))
	srv := wire.New(link.Options{
		Engine: l.engine.Engine, Origin: ln.Addr().String(),
		Log: slog.New(slog.DiscardHandler), // the stand-in does not describe its schema whole
	})
	l.client = newClient()
	door := &door{conns: make(chan net.Conn, 1), ended: make(chan struct{})}
	door.conns <- l.client
	go func() { _ = srv.Serve(door) }()
	l.close = append(l.close, srv.Close, func() { _ = door.Close() })

	for _, request := range [][]byte{
		encoded(&pgproto3.StartupMessage{
			ProtocolVersion: pgproto3.ProtocolVersion30, Parameters: map[string]string{"user": "postgres", "database": "skerrow"},
		}),
		encoded(&pgproto3.Query{String: "create table fares (id integer primary key, fare integer)"}),
		encoded(&pgproto3.Query{String: "insert into fares values (4711, 42)"}),
		encoded(&pgproto3.Parse{Name: "s0", Query: fmt.Sprintf(statement, "$1")}, &pgproto3.Sync{}),
	} {
		if err := l.client.ask(request, 1); err != nil {
			return err
		}
	}
	return nil
}

// Run starts a larder and has an exchange answered from memory so many times.
func Run(x Exchange, times int) error {
	l, err := New()
	if err != nil {
		return err
	}
	defer l.Close()
	if err := l.Cache(x); err != nil {
		return err
	}
	return l.Ask(x, times)
}

// Times gives what one hit took within the larder in each of some rounds of 10,000, system calls left out.
func Times(x Exchange, rounds int) (each []time.Duration, err error) {
	l, err := New()
	if err != nil {
		return nil, err
	}
	defer l.Close()
	if err := l.Cache(x); err != nil {
		return nil, err
	}
	const hits = 10_000
	for range rounds {
		began := time.Now()
		if err := l.Ask(x, hits); err != nil {
			return nil, err
		}
		each = append(each, time.Since(began)/hits)
	}
	return each, nil
}

// Allocations is how often the program allocates memory for one hit, with what else it does meanwhile.
func Allocations(x Exchange) (each float64, err error) {
	l, err := New()
	if err != nil {
		return 0, err
	}
	defer l.Close()
	if err := l.Cache(x); err != nil {
		return 0, err
	}
	const hits = 20_000
	if err := l.Ask(x, hits); err != nil { // so that its pattern is one that is asked often
		return 0, err
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	if err := l.Ask(x, hits); err != nil {
		return 0, err
	}
	runtime.ReadMemStats(&after)
	return float64(after.Mallocs-before.Mallocs) / hits, nil
}

// Close ends everything.
func (l *Larder) Close() {
	if l.client != nil {
		_ = l.client.Close()
	}
	for i := len(l.close) - 1; i >= 0; i-- {
		l.close[i]()
	}
}

// Exchange is a request and what it is called.
type Exchange struct {
	Name    string
	request []byte
}

// Simple and Prepared ask for the same row by a simple query, and by a prepared statement whose rows the client knows.
var (
	Simple   = Exchange{"simple", encoded(&pgproto3.Query{String: fmt.Sprintf(statement, "4711")})}
	Prepared = Exchange{"prepared", encoded(
		&pgproto3.Bind{PreparedStatement: "s0", Parameters: [][]byte{[]byte("4711")}}, &pgproto3.Execute{}, &pgproto3.Sync{},
	)}
)

// encoded makes messages of the protocol, all of which have an encoding.
func encoded(messages ...pgproto3.FrontendMessage) (b []byte) {
	for _, m := range messages {
		b, _ = m.Encode(b)
	}
	return b
}

// Cache asks until an exchange is answered from memory.
func (l *Larder) Cache(x Exchange) error {
	for range 100 {
		before := l.hits()
		if err := l.client.ask(x.request, 3); err != nil {
			return err
		}
		if l.hits() == before+3 {
			return nil
		}
	}
	return errors.New("it is never a hit")
}

// Ask has an exchange answered so many times.
func (l *Larder) Ask(x Exchange, times int) error {
	before := l.hits()
	if err := l.client.ask(x.request, times); err != nil {
		return err
	}
	if n := l.hits() - before; n != times {
		return fmt.Errorf("of %d requests %d were hits", times, n)
	}
	return nil
}

func (l *Larder) hits() int { return int(l.engine.Ledger.Total.Total().Count[ledger.Hit]) }

// client is the larder's end of a connection whose other end asks the same over and over, and asks again when it has
// been answered.
type client struct {
	mu      sync.Mutex
	changed sync.Cond
	request []byte
	left    int    // requests that have not been read
	rest    []byte // what of one has not
	waiting bool   // one was read and has not been answered
	closed  bool
	seen    []byte // the last bytes of the answer
	failed  []byte // an error that was answered
}

func newClient() *client {
	c := &client{}
	c.changed.L = &c.mu
	return c
}

// ask has the larder be asked so many times, and returns when it has answered all.
func (c *client) ask(request []byte, times int) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.request, c.left = request, times
	c.changed.Broadcast()
	for (c.left > 0 || c.waiting) && !c.closed {
		c.changed.Wait()
	}
	switch {
	case c.failed != nil:
		return fmt.Errorf("it was answered with an error: %q", c.failed)
	case c.closed:
		return errors.New("the larder has ended the connection")
	}
	return nil
}

// Read gives the next request, when the one before has been answered.
func (c *client) Read(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.rest) == 0 && (c.left == 0 || c.waiting) && !c.closed {
		c.changed.Wait()
	}
	if c.closed {
		return 0, io.EOF
	}
	if len(c.rest) == 0 {
		c.rest, c.waiting = c.request, true
		c.left--
	}
	n := copy(b, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// Write takes an answer. It is whole when its last bytes are those of ReadyForQuery.
func (c *client) Write(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if b[0] == 'E' {
		c.failed = bytes.Clone(b)
	}
	const ready = "Z\x00\x00\x00\x05"
	c.seen = append(c.seen, b[max(0, len(b)-len(ready)-1):]...)
	if n := len(c.seen); n > len(ready) && string(c.seen[n-1-len(ready):n-1]) == ready {
		c.waiting = false
		c.seen = c.seen[:0]
		c.changed.Broadcast()
	}
	return len(b), nil
}

func (c *client) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	c.changed.Broadcast()
	return nil
}

func (c *client) LocalAddr() net.Addr  { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1} }
func (c *client) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 2} }

// SetDeadline and the like do nothing: nothing here is late.
func (c *client) SetDeadline(time.Time) error      { return nil }
func (c *client) SetReadDeadline(time.Time) error  { return nil }
func (c *client) SetWriteDeadline(time.Time) error { return nil }

// door is a listener that lets in what it is given.
type door struct {
	conns chan net.Conn
	ended chan struct{}
	once  sync.Once
}

func (d *door) Accept() (net.Conn, error) {
	select {
	case c := <-d.conns:
		return c, nil
	case <-d.ended:
		return nil, net.ErrClosed
	}
}

func (d *door) Close() error {
	d.once.Do(func() { close(d.ended) })
	return nil
}

func (d *door) Addr() net.Addr { return &net.UnixAddr{Name: os.DevNull, Net: "unix"} }
