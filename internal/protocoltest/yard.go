package protocoltest

import (
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
)

// waits bounds how long anything is waited for that must happen, in nanoseconds: so long that no machine is too busy for
// it.
var waits atomic.Int64

func init() { waits.Store(int64(time.Minute)) }

func patience() time.Duration { return time.Duration(waits.Load()) }

// yard is a larder before the subject's server.
type yard struct {
	t       testing.TB
	subject *Subject
	engine  *larder.Larder
	server  link.Server
	address string
	misused atomic.Pointer[string]

	first    string // what reading all rows gave before anything was written
	answered uint64 // from memory, of what is being tested
}

// counts counts what is answered from memory while f runs.
func (y *yard) counts(f func() error) error {
	before := y.hits()
	err := f()
	y.answered += y.hits() - before
	return err
}

// newYard starts a larder that keeps everything.
func newYard(t testing.TB, s *Subject) *yard {
	y := &yard{t: t, subject: s}
	var err error
	y.engine, err = larder.New(engine.Options{
		Dialect: s.Protocol.Dialect, Settle: time.Second, CatalogAge: s.CatalogAge, Misuse: func(what string) { y.misused.Store(&what) },
	}, time.Now())
	require.NoError(t, err)
	y.keep(true)
	y.server = s.Protocol.New(link.Options{Engine: y.engine.Engine, Origin: s.Address, Log: slog.New(slog.DiscardHandler)})
	set := s.Settings
	set.Unchallenged = link.Anybody
	y.server.Configure(set)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	y.address = ln.Addr().String()
	ended := make(chan struct{})
	served := make(chan struct{})
	go func() { defer close(served); _ = y.server.Serve(ln) }()
	go func() {
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case now := <-tick.C:
				y.engine.Tick(now)
			case <-ended:
				return
			}
		}
	}()
	t.Cleanup(func() {
		ln.Close()
		y.server.Close()
		close(ended)
		<-served
		y.engine.Close()
		if what := y.misused.Load(); what != nil {
			t.Error(*what)
		}
	})
	return y
}

// keep has everything kept, or nothing.
func (y *yard) keep(on bool) {
	var list []rules.Rule
	if on {
		list = []rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: -1}}
	}
	y.engine.SetRules(rules.NewSet(list))
}

// hits is how many statements were answered from memory so far.
func (y *yard) hits() uint64 { return y.engine.Ledger.Total.Total().Count[ledger.Hit] }

// ready starts a larder, and makes a database that it knows.
func ready(t testing.TB, s *Subject) (y *yard, database string, err error) {
	y = newYard(t, s)
	database, err = y.database()
	return y, database, err
}

// database makes one with the table, and waits until it is known.
func (y *yard) database() (string, error) {
	name := y.subject.Database(y.t)
	c, err := enter(y.subject, y.subject.Address, name)
	if err != nil {
		return "", err
	}
	defer c.conn.Close()
	if err := c.restore(); err != nil {
		return "", err
	}
	return name, y.know(name)
}

// restore makes the table anew.
func (c *client) restore() error {
	for _, sql := range c.sql.Restore {
		if received, err := c.Ask(sql); err != nil {
			return fmt.Errorf("%s: %w: %s", sql, err, received)
		}
	}
	return nil
}

// client is a session, with the address that it went to.
type client struct {
	Session
	conn    net.Conn
	address string
	sql     *SQL
}

// enter logs in at an address.
func enter(s *Subject, address, database string) (*client, error) {
	c, err := net.DialTimeout(link.Network(address), address, patience())
	if err != nil {
		return nil, err
	}
	_ = c.SetDeadline(time.Now().Add(patience()))
	x, err := s.Login(c, database)
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("logging in at %s: %w", address, err)
	}
	return &client{x, c, address, &s.SQL}, nil
}

// know waits until a database is known so well that reads of it are answered from memory.
func (y *yard) know(database string) error {
	c, err := enter(y.subject, y.address, database)
	if err != nil {
		return err
	}
	defer c.conn.Close()
	for end := time.Now().Add(patience()); time.Now().Before(end); time.Sleep(time.Millisecond) {
		before := y.hits()
		_ = c.conn.SetDeadline(time.Now().Add(2 * patience()))
		for range 2 {
			if _, err := c.Ask(y.subject.SQL.ReadAll); err != nil {
				return err
			}
		}
		if y.hits() > before {
			return nil
		}
	}
	return fmt.Errorf("nothing is answered from memory, though everything is to be kept")
}

// differ shows where what was received first differs from what was to be.
func differ(want, got string) error {
	if want == got {
		return nil
	}
	a, b := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range max(len(a), len(b)) {
		if i < len(a) && i < len(b) && a[i] == b[i] {
			continue
		}
		part := func(list []string) string {
			return strings.Join(list[min(max(i-3, 0), len(list)):min(i+4, len(list))], "\n")
		}
		return fmt.Errorf("other bytes than the database's, from message %d on\ndirectly:\n%.2000s\nthrough:\n%.2000s", i, part(a), part(b))
	}
	return nil
}

// alike is what was received, as far as it has to be the same.
func (s *Subject) alike(received string) string {
	if s.Alike == nil {
		return received
	}
	return s.Alike(received)
}
