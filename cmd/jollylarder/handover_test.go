package main

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/privatemaria"
	"jollylarder/internal/privatepg"
)

// succession is a larder and those that take over from it.
type succession struct {
	*program
	dir     string
	address string
	api     *client.Client
}

// began runs a larder before a PostgreSQL server that others can take over from, with a rule that caches everything.
func began(t *testing.T, origin string) *succession {
	return beganWith(t, fmt.Sprintf("address = %q\n", origin))
}

// beganWith is began before an origin as the configuration describes it.
func beganWith(t *testing.T, origin string) *succession {
	dir := t.TempDir()
	s := &succession{dir: dir, address: free(t), api: client.NewClient(filepath.Join(dir, "c.sock"))}
	rules := filepath.Join(dir, "rules.toml")
	require.NoError(t, os.WriteFile(rules, []byte("[[rule]]\nname = \"all\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1h\"\n"), 0o600))
	file := filepath.Join(dir, "larder.toml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "state = %q\ncontrol = %q\nrules = %q\n[[origin]]\nlisten = [%q]\n%s",
		filepath.Join(dir, "state"), filepath.Join(dir, "c.sock"), rules, s.address, origin), 0o600))
	s.program = run(t, "serve", "--config", file)
	s.endsSuccessor(s.api)
	s.logs("the larder is running", 1)
	return s
}

// endsSuccessor has the process that is left at the end of the test killed: it is no child of this one.
func (p *program) endsSuccessor(api *client.Client) {
	p.t.Cleanup(func() {
		if st, err := api.Status(ctx); err == nil && st.Process != p.cmd.Process.Pid {
			_ = syscall.Kill(st.Process, syscall.SIGKILL)
		}
	})
}

// exits waits until the process has ended, and well. Its log goes on as long as its successor's.
func (p *program) exits() {
	p.t.Helper()
	st, err := p.cmd.Process.Wait()
	require.NoError(p.t, err)
	assert.True(p.t, st.Success(), st)
}

// status gives that of the larder which answers at this moment.
func (s *succession) status() control.Status {
	st, err := s.api.Status(ctx)
	require.NoError(s.t, err)
	return st
}

// handsOver has another process take over.
func (s *succession) handsOver() {
	before := s.status().Process
	out := (&shell{s.t, filepath.Join(s.dir, "c.sock")}).does(exitDone, "hand-over")
	after := s.status().Process
	assert.NotEqual(s.t, before, after)
	assert.Contains(s.t, out, fmt.Sprintf("Process %d has taken over", after))
}

// caches waits until nothing is left of the larders before.
func (s *succession) caches() {
	require.Eventually(s.t, func() bool {
		st, err := s.api.Status(ctx)
		return err == nil && len(st.Problems) == 0
	}, time.Minute, 5*time.Millisecond)
}

// What happened to clients while larders took over from each other.
type happened struct{ transactions, reads, atRest, refused, broken, stale atomic.Int64 }

// seen is what clients know of a counter: what at least has been committed.
type seen struct{ committed atomic.Int64 }

// talking is a client's connection.
type talking interface {
	// exec runs a statement, and number gives the one number that it asks for.
	exec(ctx context.Context, sql string, args ...any) error
	number(ctx context.Context, sql string, args ...any) (int64, error)
	close()
}

// kindOfClient is how clients of a database connect.
type kindOfClient struct {
	connect func() (talking, error)
	// atRest says whether a session was ended as servers end those at rest when they stop, before anything was asked.
	atRest func(error) bool
	// adds, reads and locks are the statements that concern one counter.
	adds, reads, locks string
}

// works is one client: it connects as often as it has to, adds to counters and reads them, in transactions and without, and
// holds every answer against what is known to have been committed before it asked.
func (h *happened) works(kind *kindOfClient, counters []seen, stop <-chan struct{}, report func(string)) {
	for {
		c, err := kind.connect()
		switch {
		case err == nil:
			done := h.serves(kind, c, counters, stop, report)
			c.close()
			if done {
				return
			}
		case kind.atRest(err): // as during its first question
			h.atRest.Add(1)
		default:
			h.refused.Add(1)
			report("refused: " + err.Error())
		}
	}
}

// serves works on one connection until that ends, or the client is told to.
func (h *happened) serves(kind *kindOfClient, c talking, counters []seen, stop <-chan struct{}, report func(string)) (done bool) {
	for round := 0; ; round++ {
		select {
		case <-stop:
			return true
		default:
		}
		i := round % len(counters)
		ctx, cancel := context.WithTimeout(ctx, time.Minute)
		var err error
		inside := false // a transaction has begun, as the client knows
		if round%3 == 0 {
			inside, err = h.adds(ctx, kind, c, &counters[i], i, round%8 == 0, report)
		} else {
			least := counters[i].committed.Load()
			var v int64
			if v, err = c.number(ctx, kind.reads, i); err == nil {
				h.reads.Add(1)
				if v < least {
					h.stale.Add(1)
					report(fmt.Sprintf("counter %d is %d, and was %d when it was asked for", i, v, least))
				}
			}
		}
		cancel()
		switch {
		case err == nil:
			continue
		case inside:
			h.broken.Add(1)
			report("a transaction was broken: " + err.Error())
		case kind.atRest(err):
			h.atRest.Add(1)
		default:
			report("an error that no restart explains: " + err.Error())
		}
		return false
	}
}

// adds has a transaction add to a counter, and says whether it has begun.
func (h *happened) adds(ctx context.Context, kind *kindOfClient, c talking, n *seen, i int, slow bool, report func(string)) (inside bool, err error) {
	if err := c.exec(ctx, "begin"); err != nil {
		return false, err
	}
	v, err := c.number(ctx, kind.locks, i)
	if err != nil {
		return true, err
	}
	if err := c.exec(ctx, kind.adds, i); err != nil {
		return true, err
	}
	own, err := c.number(ctx, kind.reads, i)
	if err != nil {
		return true, err
	}
	if own != v+1 {
		h.stale.Add(1)
		report(fmt.Sprintf("counter %d: its own write of %d is read as %d", i, v+1, own))
	}
	if slow { // it is still under way when the other larder serves others
		time.Sleep(100 * time.Millisecond)
	}
	if err := c.exec(ctx, "commit"); err != nil {
		return true, err
	}
	raise(&n.committed, own)
	h.transactions.Add(1)
	return true, nil
}

// ofPostgreSQL is a connection to PostgreSQL.
type ofPostgreSQL struct{ *pgx.Conn }

func (c ofPostgreSQL) exec(ctx context.Context, sql string, args ...any) error {
	_, err := c.Exec(ctx, sql, args...)
	return err
}

func (c ofPostgreSQL) number(ctx context.Context, sql string, args ...any) (n int64, err error) {
	return n, c.QueryRow(ctx, sql, args...).Scan(&n)
}

func (c ofPostgreSQL) close() { _ = c.Close(ctx) }

// ofMariaDB is a connection to MariaDB.
type ofMariaDB struct{ *sql.Conn }

func (c ofMariaDB) exec(ctx context.Context, text string, args ...any) error {
	_, err := c.ExecContext(ctx, text, args...)
	return err
}

func (c ofMariaDB) number(ctx context.Context, text string, args ...any) (n int64, err error) {
	return n, c.QueryRowContext(ctx, text, args...).Scan(&n)
}

func (c ofMariaDB) close() {
	_ = c.Raw(func(any) error { return driver.ErrBadConn }) // it is not to be used again
	_ = c.Close()
}

// raise sets a number to a greater one.
func raise(n *atomic.Int64, to int64) {
	for have := n.Load(); have < to && !n.CompareAndSwap(have, to); have = n.Load() {
	}
}

// Larders take over from each other under load: no client is refused, no transaction is broken, and no answer is older than
// what was committed through either process before it was asked for.
func TestLardersTakeOverUnderLoad(t *testing.T) {
	const create = "create table counters (id int primary key, n bigint not null)"
	t.Run("PostgreSQL", func(t *testing.T) {
		pg, err := privatepg.Start("")
		if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") == "" {
			t.Skip(err)
		}
		require.NoError(t, err)
		t.Cleanup(pg.Stop)
		admin := connect(t, pg.URL("postgres", "postgres"))
		_, err = admin.Exec(ctx, create+"; insert into counters values (0, 0), (1, 0), (2, 0), (3, 0), (4, 0)")
		require.NoError(t, err)
		s := began(t, pg.Address())
		modes := []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec, pgx.QueryExecModeCacheStatement}
		var connects atomic.Int64
		takeOverInTurn(t, s, &kindOfClient{
			connect: func() (talking, error) {
				cfg, err := pgx.ParseConfig("postgres://postgres@" + s.address + "/postgres?sslmode=disable")
				if err != nil {
					return nil, err
				}
				cfg.DefaultQueryExecMode = modes[int(connects.Add(1))%len(modes)]
				c, err := pgx.ConnectConfig(ctx, cfg)
				return ofPostgreSQL{c}, err
			},
			atRest: terminated,
			adds:   "update counters set n = n + 1 where id = $1", reads: "select n from counters where id = $1",
			locks: "select n from counters where id = $1 for update",
		})
	})
	t.Run("MariaDB", func(t *testing.T) {
		server, err := privatemaria.Options{}.Start()
		if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") == "" {
			t.Skip(err)
		}
		require.NoError(t, err)
		t.Cleanup(server.Stop)
		admin, err := sql.Open("mysql", "root@tcp("+server.Address()+")/?multiStatements=true")
		require.NoError(t, err)
		t.Cleanup(func() { admin.Close() })
		_, err = admin.Exec("create database skerrow; use skerrow; " + create + "; insert into counters values (0, 0), (1, 0), (2, 0), (3, 0), (4, 0); create user larder; grant select, show view, trigger, execute on *.* to larder")
		require.NoError(t, err)
		s := beganWith(t, fmt.Sprintf("protocol = \"mysql\"\naddress = %q\n[origin.catalog]\nuser = \"larder\"\n", server.Address()))
		var connects atomic.Int64
		var pools []*sql.DB
		for _, more := range []string{"", "?interpolateParams=true"} {
			db, err := sql.Open("mysql", "root@tcp("+s.address+")/skerrow"+more)
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			db.SetMaxIdleConns(0)
			pools = append(pools, db)
		}
		takeOverInTurn(t, s, &kindOfClient{
			connect: func() (talking, error) {
				c, err := pools[int(connects.Add(1))%len(pools)].Conn(ctx)
				return ofMariaDB{c}, err
			},
			atRest: func(err error) bool {
				return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF)
			},
			adds: "update counters set n = n + 1 where id = ?", reads: "select n from counters where id = ?",
			locks: "select n from counters where id = ? for update",
		})
	})
}

// takeOverInTurn has larders take over from each other while clients work.
func takeOverInTurn(t *testing.T, s *succession, kind *kindOfClient) {
	var h happened
	known := make([]seen, 5)
	stop := make(chan struct{})
	var mu sync.Mutex
	var reports []string
	report := func(text string) {
		mu.Lock()
		defer mu.Unlock()
		if len(reports) < 20 {
			reports = append(reports, text)
		}
	}
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() { h.works(kind, known, stop, report) })
	}
	defer func() { // also when something fails meanwhile
		if stop != nil {
			close(stop)
			wg.Wait()
		}
		mu.Lock()
		defer mu.Unlock()
		assert.Empty(t, strings.Join(reports, "\n"))
	}()
	some := func() {
		transactions, reads := h.transactions.Load(), h.reads.Load()
		require.Eventually(t, func() bool { return h.transactions.Load() > transactions+50 && h.reads.Load() > reads+100 }, time.Minute, time.Millisecond)
	}
	for range 3 {
		some()
		s.handsOver()
		some()
		s.caches()
		before := s.status().Total.Hits
		require.Eventually(t, func() bool { return s.status().Total.Hits > before+20 }, time.Minute, 5*time.Millisecond)
	}
	for range 3 { // the one before may not have gone yet
		s.handsOver()
	}
	some()
	s.caches()
	close(stop)
	stop = nil
	wg.Wait()
	assert.Zero(t, h.refused.Load())
	assert.Zero(t, h.broken.Load())
	assert.Zero(t, h.stale.Load())
	t.Logf("%d transactions, %d reads, %d connections were ended at rest", h.transactions.Load(), h.reads.Load(), h.atRest.Load())
}

// A program or a configuration that is wrong is refused before anything changes, and one that fails while it takes over has
// the first process go on.
func TestAHandoverThatCannotBe(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "larder.toml")
	from := origin(t, "Cairn Point")
	listen := free(t)
	config := func(more string) {
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "state = %q\ncontrol = %q\nrules = %q\n%s\n[[origin]]\naddress = %q\nlisten = [%q]\n",
			filepath.Join(dir, "state"), filepath.Join(dir, "c.sock"), filepath.Join(dir, "rules.toml"), more, from, listen), 0o600))
	}
	rules := filepath.Join(dir, "rules.toml")
	right := "[[rule]]\nname = \"all\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1h\"\n"
	require.NoError(t, os.WriteFile(rules, []byte(right), 0o600))
	config("")
	p := run(t, "serve", "--config", file)
	p.logs("the larder is running", 1)
	s := &shell{t, filepath.Join(dir, "c.sock")}
	api := client.NewClient(s.socket)
	p.endsSuccessor(api)
	url := "postgres://ines@" + listen + "/skerrow?sslmode=disable"
	c := connect(t, url)
	process := func() int {
		st, err := api.Status(ctx)
		require.NoError(t, err)
		return st.Process
	}
	assert.Equal(t, p.cmd.Process.Pid, process())

	config("memory = \"little\"")
	assert.Contains(t, s.does(exitConflict, "hand-over"), "would not start with this configuration")
	config("")
	require.NoError(t, os.WriteFile(rules, []byte("[[rule]]\nttl = \"soon\"\n"), 0o600))
	assert.Contains(t, s.does(exitConflict, "hand-over"), "ttl \"soon\"")
	require.NoError(t, os.WriteFile(rules, []byte(right), 0o600))
	assert.Equal(t, "Cairn Point", name(t, c), "nothing has changed")
	assert.Zero(t, p.times("another larder takes over"))

	config("metrics = \"192.0.2.1:1\"") // which is not this machine's, as only the attempt shows
	out := s.does(exitFailed, "hand-over")
	assert.Contains(t, out, "has not taken over, and the one before goes on: exit status 1; the log has the reason")
	p.logs("the larder is running", 2)
	assert.Contains(t, p.text(), "exposing metrics")
	assert.Equal(t, p.cmd.Process.Pid, process())
	assert.Equal(t, "Cairn Point", name(t, connect(t, url)))

	config("")
	assert.Contains(t, s.does(exitDone, "hand-over"), "has taken over")
	p.exits()
	next := process()
	assert.NotEqual(t, p.cmd.Process.Pid, next)
	assert.Equal(t, "Cairn Point", name(t, connect(t, url)))
	require.NoError(t, syscall.Kill(next, syscall.SIGTERM))
	require.Eventually(t, func() bool { _, err := api.Status(ctx); return err != nil }, time.Minute, 5*time.Millisecond)
}

// Without a directory for state two processes do not find each other.
func TestAHandoverWithoutState(t *testing.T) {
	dir := t.TempDir()
	s := &shell{t, filepath.Join(dir, "c.sock")}
	args := []string{"serve", "--listen", free(t), "--origin", "127.0.0.1:1", "--control", s.socket}
	run(t, args...).logs("the larder is running", 1)
	assert.Contains(t, s.does(exitConflict, "hand-over"), "set state in the configuration")
	out, code := s.run(append(args, "--take-over")...)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, "--take-over needs state")
}

// A process that is told to stop while it serves its last clients lets them finish, within drain_timeout.
func TestALeavingLarderThatIsToldToStop(t *testing.T) {
	s := began(t, origin(t, "Cairn Point"))
	url := "postgres://ines@" + s.address + "/skerrow?sslmode=disable"
	busy := connect(t, url)
	_, err := busy.Exec(ctx, "begin")
	require.NoError(t, err)
	s.handsOver()
	s.logs("this one ends with its last clients", 1)
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	assert.Equal(t, "Cairn Point", name(t, busy))
	_, err = busy.Exec(ctx, "commit")
	require.NoError(t, err)
	s.exits()

	s = began(t, origin(t, "Cairn Point"))
	url = "postgres://ines@" + s.address + "/skerrow?sslmode=disable"
	busy = connect(t, url)
	_, err = busy.Exec(ctx, "begin")
	require.NoError(t, err)
	s.handsOver()
	s.logs("this one ends with its last clients", 1)
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	s.logs("the larder stops when its busy clients have finished", 1) // or the two may be one signal
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGTERM))
	s.exits()
	assert.Error(t, busy.Ping(ctx))
}
