package postgres_test

import (
	"context"
	"net"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

// movable is a larder whose origin's address leads to whichever server is told.
type movable struct {
	*larder
	leads atomic.Pointer[privatepg.Server]
}

func newMovable(t *testing.T, first *privatepg.Server) *movable {
	m := &movable{larder: &larder{t: t, database: "postgres"}}
	m.leads.Store(first)
	m.serve("the address")
	m.server.Dial = func(ctx context.Context, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", m.leads.Load().Address())
	}
	m.through = "postgres://postgres@" + m.address + "/postgres?sslmode=disable"
	m.know()
	m.cacheAll()
	return m
}

func private(t *testing.T, settings ...string) *privatepg.Server {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	s, err := privatepg.Start("", settings...)
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s
}

// kept has a client ask until it is answered from memory.
func (m *movable) kept(c *pgx.Conn) string {
	m.hit(c, func() { one(m.t, c, readBerth) })
	return one(m.t, c, readBerth)
}

// After a fail-over to a server that lacks what was written last, nobody is answered with rows that no longer exist: neither
// by a standby that was promoted, nor by an old copy behind the same address.
func TestAnotherServerBehindTheSameAddress(t *testing.T) {
	for name, promoted := range map[string]bool{"a promoted standby": true, "an old copy": false} {
		t.Run(name, func(t *testing.T) {
			first := private(t)
			direct := connect(t, first.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
			for _, sql := range []string{berths, oneBerth} {
				_, err := direct.Exec(ctx, sql)
				require.NoError(t, err)
			}
			second, err := first.Copy(promoted)
			require.NoError(t, err)
			t.Cleanup(second.Stop)
			m := newMovable(t, first)
			if promoted {
				follows := connect(t, second.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
				require.Eventually(t, func() bool { return one(t, follows, "select pg_is_in_recovery()") == "true" }, time.Minute, 10*time.Millisecond)
				_, err := follows.Exec(ctx, "select pg_wal_replay_pause()") // what is written from here on is lost
				require.NoError(t, err)
				require.Eventually(t, func() bool { return one(t, follows, "select pg_get_wal_replay_pause_state()") == "paused" }, time.Minute, 10*time.Millisecond)
			}
			old := connect(t, m.through, pgx.QueryExecModeSimpleProtocol)
			_, err = old.Exec(ctx, "update berths set n = 42 where id = 1")
			require.NoError(t, err)
			require.Equal(t, "42", m.kept(old))

			if promoted {
				require.NoError(t, second.Promote())
			}
			m.leads.Store(second)
			there := connect(t, second.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
			now := one(t, there, readBerth)
			if !promoted {
				require.NotEqual(t, "42", now)
			}
			fresh := connect(t, m.through, pgx.QueryExecModeSimpleProtocol)
			assert.Equal(t, now, one(t, fresh, readBerth))
			assert.Equal(t, now, m.kept(fresh))
			assert.Equal(t, "42", one(t, old, readBerth), "who is still connected to the first is answered by the first")
			assert.Equal(t, now, one(t, fresh, readBerth), "and leaves nothing behind for the others")
			changes, _ := m.engine.Servers()
			require.NotEmpty(t, changes)
			assert.NotEqual(t, changes[0].Before, changes[0].After)
		})
	}
}

// A server that comes back from a crash without what it had not written to its disk: its connections end without a word.
func TestAServerThatCrashes(t *testing.T) {
	s := private(t, "synchronous_commit=off", "wal_writer_delay=10s")
	direct := connect(t, s.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	for _, sql := range []string{berths, oneBerth, "checkpoint"} {
		_, err := direct.Exec(ctx, sql)
		require.NoError(t, err)
	}
	m := newMovable(t, s)
	c := connect(t, m.through, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "update berths set n = 42 where id = 1")
	require.NoError(t, err)
	require.Equal(t, "42", m.kept(c))
	// One of its processes is killed: the server starts anew by itself, with the same start time.
	pid := one(t, c, "select pg_backend_pid()")
	require.NotEmpty(t, pid)
	kill(t, direct, "select pid from pg_stat_activity where backend_type = 'background writer'")
	require.Eventually(t, func() bool {
		changes, _ := m.engine.Servers()
		return len(changes) > 0 && changes[0].Lost
	}, time.Minute, 5*time.Millisecond)
	var fresh *pgx.Conn
	require.Eventually(t, func() bool {
		var err error
		fresh, err = pgx.Connect(ctx, strings.Replace(m.through, "?", "?default_query_exec_mode=simple_protocol&", 1))
		return err == nil
	}, time.Minute, 20*time.Millisecond)
	defer fresh.Close(ctx)
	there := connect(t, s.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	assert.Equal(t, one(t, there, readBerth), one(t, fresh, readBerth))
	assert.Equal(t, one(t, there, readBerth), one(t, fresh, readBerth))
}

// kill ends a process of a server's as a crash would.
func kill(t *testing.T, c *pgx.Conn, which string) {
	var pid int
	require.NoError(t, c.QueryRow(ctx, which).Scan(&pid))
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
}

// Connections that end with a word of why say nothing of the server.
func TestConnectionsThatEndForAReasonDropNothing(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, readBerth)
	l.hit(reader, func() { one(t, reader, readBerth) })
	other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	pid := one(t, other, "select pg_backend_pid()")
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	require.Equal(t, "true", one(t, direct, "select pg_terminate_backend("+pid+")"))
	_, err := other.Exec(ctx, "select 1")
	require.Error(t, err)
	for range 20 {
		c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		one(t, c, "select 1")
		require.NoError(t, c.Close(ctx))
	}
	x := dialTalk(t, l.address, l.database).ready()
	x.conn.Close() // without a word
	require.Eventually(t, func() bool { return l.server.Clients() == 1 }, time.Minute, 5*time.Millisecond)
	changes, _ := l.engine.Servers()
	assert.Empty(t, changes)
	one(t, reader, readBerth)
	assert.True(t, wasHit(t, reader))
}
