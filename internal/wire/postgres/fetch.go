package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// Fetcher asks ahead for what clients will ask: results that a write dropped, and those remembered from before. It is a
// client of the larder like any other, on an account of its own, so that all that is promised of results holds for
// these too; one at a time, and most of the time at rest, so that it is never in the way of clients.
type Fetcher struct {
	Server       *Server
	Account      link.Account
	done, failed atomic.Uint64

	mu  sync.Mutex
	why string // the last failure

	conn *ownConn
}

// rests is how many times as long as a fetch took the fetcher rests behind it, and longestFetch bounds one.
const (
	rests        = 3
	shortestRest = time.Millisecond
	longestRest  = 10 * time.Second
	longestFetch = time.Minute
)

// Run fetches until the context ends.
func (f *Fetcher) Run(ctx context.Context) {
	defer func() { f.conn.close() }()
	for ctx.Err() == nil {
		next, ok, ring := f.Server.Engine.Refetch(f.Server.Name)
		if !ok {
			select {
			case <-ctx.Done():
			case <-ring:
			case <-time.After(time.Second): // another origin's fetcher may have heard the bell
			}
			continue
		}
		began := time.Now()
		err := f.fetch(ctx, &next)
		for _, pause := range again { // the write that dropped it may not have ended yet
			if !errors.Is(err, errNotCached) || ctx.Err() != nil {
				break
			}
			time.Sleep(pause)
			err = f.fetch(ctx, &next)
		}
		if err != nil {
			f.failed.Add(1)
			f.mu.Lock()
			f.why = err.Error()
			f.mu.Unlock()
			f.conn.close()
			f.conn = nil
		} else {
			f.done.Add(1)
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(max(rests*time.Since(began), shortestRest), longestRest)):
		}
	}
}

// again is how long the fetcher waits before it tries again, where what it fetched could not be kept.
var again = []time.Duration{10 * time.Millisecond, 50 * time.Millisecond, 250 * time.Millisecond}

var errNotCached = errors.New(
	"what was fetched was not cached: its tables were being written, or its clients ask for it in another format",
)

// Counts implements link.Fetcher.
func (f *Fetcher) Counts() (done, failed uint64, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.done.Load(), f.failed.Load(), f.why
}

// ownConn is the fetcher's connection, with the settings it has.
type ownConn struct {
	*pgconn.HijackedConn
	database string
	values   []string
}

func (c *ownConn) close() {
	if c != nil {
		_, _ = c.Conn.Write(encoded(nil, &pgproto3.Terminate{}))
		c.Conn.Close()
	}
}

func (f *Fetcher) fetch(ctx context.Context, a *engine.Asked) error {
	if a.User != "" && a.User != f.Account.User {
		return fmt.Errorf(
			"results of the user %s are not fetched by the account %s: share = true in the rule would allow it where both may read all of it",
			a.User,
			f.Account.User,
		)
	}
	ctx, cancel := context.WithTimeout(ctx, longestFetch)
	defer cancel()
	if f.conn == nil || f.conn.database != a.Database {
		f.conn.close()
		f.conn = nil
		c, err := f.connect(ctx, a.Database)
		if err != nil {
			return err
		}
		f.conn = c
	}
	stop := context.AfterFunc(ctx, func() { _ = f.conn.Conn.SetDeadline(time.Now()) })
	defer stop()
	for i, name := range settingNames {
		if f.conn.values[i+1] != a.Values[i+1] && name != "role" { // some may only be set by few, even to what they are
			set := fmt.Sprintf("select pg_catalog.set_config(%s, %s, false)", literal(name), literal(a.Values[i+1]))
			if _, err := f.conn.run(encoded(nil, &pgproto3.Query{String: set})); err != nil {
				return fmt.Errorf("setting %s as it was: %w", name, err)
			}
		}
	}
	copy(f.conn.values[1:], a.Values[1:])
	var ask []byte
	switch a.Shape {
	case 'q':
		ask = encoded(nil, &pgproto3.Query{String: string(a.Exact)})
	case 'x', 'd':
		ask = frame(nil, 'P', []byte{0}, a.Exact, []byte{0}, a.Types) // as a client bound it
		ask = frame(ask, 'B', []byte{0, 0}, a.Bound)
		if a.Shape == 'd' {
			ask = encoded(ask, &pgproto3.Describe{ObjectType: 'P'})
		}
		ask = encoded(ask, &pgproto3.Execute{}, &pgproto3.Sync{})
	default:
		return fmt.Errorf("asked for in a form %q that is not known", a.Shape)
	}
	if _, err := f.conn.run(ask); err != nil {
		return err
	}
	if !f.Server.Engine.Has(a.Rule, a.Key) {
		return errNotCached
	}
	return nil
}

// literal writes a string of SQL, whatever the session makes of backslashes.
func literal(s string) string {
	out := []byte(" E'")
	for i := range len(s) {
		if s[i] == '\'' || s[i] == '\\' {
			out = append(out, '\\')
		}
		out = append(out, s[i])
	}
	return string(append(out, '\''))
}

// run sends messages and reads up to the end of their exchange. It gives the last row, as texts.
func (c *ownConn) run(messages []byte) (row []string, failed error) {
	if _, err := c.Conn.Write(messages); err != nil {
		return nil, err
	}
	for {
		m, err := c.Frontend.Receive()
		if err != nil {
			return nil, err
		}
		switch m := m.(type) {
		case *pgproto3.DataRow:
			row = nil
			for _, v := range m.Values {
				row = append(row, string(v))
			}
		case *pgproto3.ErrorResponse:
			failed = pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			return row, failed
		}
	}
}

// connect logs in to the larder itself.
func (f *Fetcher) connect(ctx context.Context, database string) (*ownConn, error) {
	cfg, err := pgconn.ParseConfig("host=larder port=1 sslmode=disable") // the environment has no say
	if err != nil {
		return nil, err
	}
	cfg.User, cfg.Password, cfg.Database = f.Account.User, f.Account.Password, database
	cfg.RuntimeParams = map[string]string{"application_name": "jolly larder"}
	cfg.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil }
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) { return f.Server.connectOwn() }
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	h, err := c.Hijack()
	if err != nil {
		return nil, err
	}
	own := &ownConn{HijackedConn: h, database: database}
	row, err := own.run(encoded(nil, &pgproto3.Query{String: settingsQuery}))
	set, ok := settings([][]string{row})
	if err == nil && !ok {
		err = errors.New("the server does not tell its settings")
	}
	if err != nil {
		own.close()
		return nil, err
	}
	own.values = set.Values
	return own, nil
}

// connectOwn opens a connection of the larder's own to itself, which nobody else can reach.
func (s *Server) connectOwn() (net.Conn, error) {
	fds, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		return nil, err
	}
	var ends [2]net.Conn
	for i, fd := range fds {
		syscall.CloseOnExec(fd)
		file := os.NewFile(uintptr(fd), "own")
		ends[i], err = net.FileConn(file)
		file.Close()
		if err != nil {
			return nil, err
		}
	}
	if !s.Go(ends[1], func(c net.Conn) { s.handle(c, true) }) {
		ends[0].Close()
		ends[1].Close()
		return nil, net.ErrClosed
	}
	return ends[0], nil
}
