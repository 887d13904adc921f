package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	core "jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/stream"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// With so many counters, hardly any two values of these tests share one by chance.
func init() { freshness.FewestCounters = 1 << 16 }

var ctx = context.Background()

// faulty has a fault at statements that hold a certain word.
func faulty() *dialect.Dialect {
	d := *postgres.Dialect
	d.Facts = func(syntax *statement.Syntax, sql string) *analysis.Facts {
		if strings.Contains(sql, "'a fault'") {
			return nil
		}
		return postgres.Dialect.Facts(syntax, sql)
	}
	return &d
}

// server is the PostgreSQL that all tests of this package share; each has a database of its own on it.
var server *privatepg.Server

func TestMain(m *testing.M) {
	var err error
	server, err = privatepg.Start("host all scram_user 127.0.0.1/32 scram-sha-256\nhost all md5_user 127.0.0.1/32 md5\nhost all all 127.0.0.1/32 trust", "max_prepared_transactions=5")
	if err != nil {
		if !errors.Is(err, privatepg.ErrMissing) || os.Getenv("CI") == "true" {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		fmt.Fprintln(os.Stderr, "tests against PostgreSQL are left out:", err)
	}
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	os.Exit(code)
}

var databases atomic.Int64

// larder is one before a database of the test's own.
type larder struct {
	t        testing.TB
	engine   *core.Larder
	server   *wire.Server
	address  string
	database string
	age      time.Duration // of the catalog, before it is read again
	direct   string        // the database's own URL
	through  string        // its URL through the larder

	mu     sync.Mutex
	events []stream.Event
}

func newLarder(t testing.TB, setup ...string) *larder {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	l := &larder{t: t, database: fmt.Sprintf("d%d", databases.Add(1))}
	admin := connect(t, server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	_, err := admin.Exec(ctx, "drop database if exists "+l.database+" with (force)")
	require.NoError(t, err)
	_, err = admin.Exec(ctx, "create database "+l.database)
	require.NoError(t, err)
	l.direct = server.URL("postgres", l.database)
	l.exec(l.direct, setup...)
	l.serve(server.Address())
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	l.know()
	return l
}

func (l *larder) serve(origin string) {
	e, err := core.New(engine.Options{Dialect: faulty(), Settle: time.Second, CatalogAge: l.age, Misuse: func(what string) { l.t.Error(what) }}, time.Now())
	require.NoError(l.t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(l.t, err)
	srv := wire.New(link.Options{Engine: e.Engine, Origin: origin})
	l.engine, l.server, l.address = e, srv, ln.Addr().String()
	ended := make(chan struct{})
	w := e.Stream.Watch(false, false)
	go func() { _ = srv.Serve(ln) }()
	go func() {
		tick := time.NewTicker(10 * time.Millisecond)
		for {
			select {
			case now := <-tick.C:
				e.Tick(now)
				events, _ := w.Read()
				l.mu.Lock()
				l.events = append(l.events, events...)
				l.mu.Unlock()
			case <-ended:
				return
			}
		}
	}()
	l.t.Cleanup(func() {
		ln.Close()
		srv.Close()
		close(ended)
	})
}

// know waits until the database's catalog is known: a first client has it read.
func (l *larder) know() {
	c := connect(l.t, l.through, pgx.QueryExecModeSimpleProtocol)
	defer c.Close(ctx)
	require.Eventually(l.t, func() bool {
		_, err := c.Exec(ctx, "select 'is it known'")
		known := false
		l.engine.Databases(func(_ string, k, _ bool, _ []string) { known = k })
		return err == nil && known
	}, time.Minute, 10*time.Millisecond)
}

// keep puts rules in force for the patterns of statements.
func (l *larder) keep(sql ...string) {
	var list []rules.Rule
	for _, s := range sql {
		list = append(list, rules.Rule{Pattern: patternOf(s), Action: rules.Cache, TTL: time.Minute, ControlSample: -1})
	}
	l.engine.SetRules(rules.NewSet(list))
}

func patternOf(sql string) statement.ID { return postgres.Dialect.Syntax.Of(sql) }

// outcomes waits for the end of n statements of a pattern and gives what became of them.
func (l *larder) outcomes(sql string, n int) []stream.Event {
	id := patternOf(sql)
	var found []stream.Event
	require.Eventually(l.t, func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		found = nil
		for _, e := range l.events {
			if e.Pattern != nil && e.Pattern.ID == id {
				found = append(found, e)
			}
		}
		return len(found) >= n
	}, time.Minute, 2*time.Millisecond, "statements of %s", sql)
	return found
}

// passed gives why statements passed so far.
func (l *larder) passed() (why []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, e := range l.events {
		if e.Outcome == ledger.Bypass {
			why = append(why, e.Reason.String())
		}
	}
	return why
}

// outcomesBefore tells how many statements of a pattern have ended, when all that the connections asked before is known.
func (l *larder) outcomesBefore(sql string, conns ...*pgx.Conn) int {
	for _, c := range conns {
		mark := fmt.Sprintf("select 1 as mark_%d", marks.Add(1)) // a pattern of its own
		one(l.t, c, mark)
		l.outcomes(mark, 1)
	}
	return len(l.outcomes(sql, 0))
}

var marks atomic.Int64

// underWay waits until a statement of a pattern is under way.
func (l *larder) underWay(sql string) {
	id := patternOf(sql)
	require.Eventually(l.t, func() bool {
		for _, r := range l.engine.Running() {
			if r.Pattern.ID == id {
				return true
			}
		}
		return false
	}, time.Minute, time.Millisecond, "under way: %s", sql)
}

// became says what became of the last of n statements of a pattern, and why.
func (l *larder) became(sql string, n int) (ledger.Outcome, string) {
	e := l.outcomes(sql, n)[n-1]
	return e.Outcome, e.Reason.String()
}

func (l *larder) exec(url string, sql ...string) {
	if len(sql) == 0 {
		return
	}
	c := connect(l.t, url, pgx.QueryExecModeSimpleProtocol)
	for _, s := range sql {
		_, err := c.Exec(ctx, s)
		require.NoError(l.t, err, s)
	}
	require.NoError(l.t, c.Close(ctx))
}

func connect(t testing.TB, url string, mode pgx.QueryExecMode) *pgx.Conn {
	cfg, err := pgx.ParseConfig(url)
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = mode
	c, err := pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(ctx) })
	return c
}

// one reads a single value as text.
func one(t testing.TB, c interface {
	QueryRow(context.Context, string, ...any) pgx.Row
}, sql string, args ...any) string {
	var v any
	require.NoError(t, c.QueryRow(ctx, sql, args...).Scan(&v), sql)
	return fmt.Sprint(v)
}
