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

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/standin"
	"jollylarder/internal/wire/link"
)

// statement is what is asked, with a value or a placeholder in the place of %s.
const statement = "select fare from fares where id = %s"

// Larder is one with a client, before an origin of its own. Make it with New.
type Larder struct {
	engine *larder.Larder
	client *client
	close  []func()
}

// speech is how a client and the larder speak with each other.
type speech struct {
	dialect *dialect.Dialect
	// standIn is what the stand-in of a database calls the protocol, and serve makes a server for its clients.
	standIn string
	serve   func(link.Options) link.Server
	// account is what the schema is read by, where a client's own session does not do.
	account *link.Account
	// greets says that it is the server that speaks first. Begin is what a client then says.
	greets bool
	begin  [][]byte
	// whole says whether what the client was sent since its last request is a whole answer, and failed whether an error.
	whole  func(answer []byte) bool
	failed func(answer []byte) bool
}

// New starts a larder that an exchange can be had with, and logs its client in.
func New(x Exchange) (*Larder, error) {
	l := &Larder{}
	if err := l.start(x.speech); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

func (l *Larder) start(p *speech) error {
	o, err := standin.New(standin.Options{Protocol: p.standIn})
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

	if l.engine, err = larder.New(engine.Options{Dialect: p.dialect}, time.Now()); err != nil {
		return err
	}
	l.engine.SetRules(rules.NewSet([]rules.Rule{{
		Name: "fares", Pattern: p.dialect.Syntax.Of(fmt.Sprintf(statement, "4711")), Action: rules.Cache, TTL: 24 * time.Hour,
		ControlSample: -1,
	}}))
	srv := p.serve(link.Options{
		Engine: l.engine.Engine, Origin: ln.Addr().String(),
		Log: slog.New(slog.DiscardHandler), // the stand-in does not describe its schema whole
	})
	srv.Configure(link.Settings{Catalog: p.account})
	l.client = newClient(p)
	door := &door{conns: make(chan net.Conn, 1), ended: make(chan struct{})}
	door.conns <- l.client
	go func() { _ = srv.Serve(door) }()
	l.close = append(l.close, srv.Close, func() { _ = door.Close() })

	if err := l.client.ask(nil, 0); err != nil { // for its greeting, if there is one
		return err
	}
	for _, request := range p.begin {
		if err := l.client.ask(request, 1); err != nil {
			return err
		}
	}
	return nil
}

// Run starts a larder and has an exchange answered from memory so many times.
func Run(x Exchange, times int) error {
	l, err := New(x)
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
	l, err := New(x)
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
	l, err := New(x)
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
	speech  *speech
	request []byte
}

// Exchanges are all there are.
var Exchanges = []Exchange{Simple, Prepared, Text, Executed}

// Cache asks until an exchange is answered from memory, which it is once the schema has been read.
func (l *Larder) Cache(x Exchange) error {
	for ends := time.Now().Add(time.Minute); time.Now().Before(ends); time.Sleep(time.Millisecond) {
		before := l.hits()
		if err := l.client.ask(x.request, 3); err != nil {
			return err
		}
		if l.hits() == before+3 {
			return nil
		}
	}
	return errors.New("it is not a hit within a minute")
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
	seen    []byte // of the answer
	failed  []byte // an error that was answered
	speech  *speech
}

func newClient(p *speech) *client {
	c := &client{speech: p, waiting: p.greets}
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

// Write takes a part of an answer.
func (c *client) Write(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.seen = append(c.seen, b...); !c.speech.whole(c.seen) {
		return len(b), nil
	}
	if c.speech.failed(c.seen) {
		c.failed = bytes.Clone(c.seen)
	}
	c.waiting = false
	c.seen = c.seen[:0]
	c.changed.Broadcast()
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
