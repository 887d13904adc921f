package postgres_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

// An application that works in transactions only is answered from memory from its second transaction on, and another session
// of it from the first.
func TestAnApplicationThatWorksInTransactions(t *testing.T) {
	for name, mode := range map[string]pgx.QueryExecMode{"simple": pgx.QueryExecModeSimpleProtocol, "in one go": pgx.QueryExecModeExec, "prepared": pgx.QueryExecModeCacheStatement} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, berths, oneBerth)
			l.keep(readBerth)
			var outcomes []ledger.Outcome
			for range 2 {
				c := connect(t, l.through, mode)
				for range 3 {
					tx, err := c.Begin(ctx)
					require.NoError(t, err)
					one(t, tx, readBerth)
					require.NoError(t, tx.Commit(ctx))
					outcome, _ := l.became(readBerth, len(outcomes)+1)
					outcomes = append(outcomes, outcome)
				}
				c.Close(ctx)
			}
			assert.Equal(t, []ledger.Outcome{ledger.Bypass, ledger.Miss, ledger.Hit, ledger.Hit, ledger.Hit, ledger.Hit}, outcomes)
		})
	}
}

// What a block changes of its own settings counts at once, and what it may do without changing a result does not.
func TestSettingsWithinATransaction(t *testing.T) {
	for _, c := range []struct {
		set string
		why string // or "" for a hit
	}{
		{"set local statement_timeout = '5s'", ""},
		{"set lock_timeout = '5s'", ""},
		{"set local app.user = '7'", ""},
		{"set transaction read only", ""},
		{"set transaction isolation level read committed", ""},
		{"set transaction isolation level repeatable read", "the first statement of a transaction, which begins it or takes its snapshot"},
		{"set local search_path = public, north", "in a transaction whose isolation is not known"},
		{"set local role postgres", "in a transaction whose isolation is not known"},
		{"select 1; set transaction isolation level read committed", "in a transaction whose isolation is not known"},
	} {
		t.Run(c.set, func(t *testing.T) {
			l := newLarder(t, berths, oneBerth, "create schema north")
			l.keep(readBerth)
			conn := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			one(t, conn, readBerth)
			_, err := conn.Exec(ctx, "begin")
			require.NoError(t, err)
			_, _ = conn.Exec(ctx, c.set)
			if conn.PgConn().TxStatus() == 'E' {
				return
			}
			one(t, conn, readBerth)
			outcome, why := l.became(readBerth, 2)
			if c.why == "" {
				assert.Equal(t, ledger.Hit, outcome, why)
			} else {
				assert.Equal(t, c.why, why)
			}
		})
	}
}

// A block whose isolation could not be set as was asked keeps the one that it has.
func TestAnIsolationThatCouldNotBeSet(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, c, readBerth)
	for _, sql := range []string{"begin isolation level repeatable read", "select count(*) from berths", "savepoint a"} {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	_, err := c.Exec(ctx, "set transaction isolation level read committed")
	require.Error(t, err)
	_, err = c.Exec(ctx, "rollback to a")
	require.NoError(t, err)
	one(t, c, readBerth)
	outcome, _ := l.became(readBerth, 2)
	assert.Equal(t, ledger.Bypass, outcome)
}

// What has been prepared keeps its name after code that might have taken it away, once the server has said that it is still
// there; and a name that means something else by now is never answered as if it did not.
func TestNamesAfterCodeThatMayTakeThemAway(t *testing.T) {
	for name, c := range map[string]struct {
		code string
		hit  bool
	}{
		"nothing with names":      {"do $$ begin execute 'select 1'; end $$", true},
		"a procedure":             {"call note('select 1')", true},
		"several in a string":     {"select 1; select 2", true},
		"another forgotten":       {"deallocate mine", true},
		"all forgotten":           {"do $$ begin execute 'deallocate all'; end $$", false},
		"another of that name":    {"do $$ begin execute 'deallocate reads'; execute 'prepare reads as select n + 100 from berths where id = 1'; end $$", false},
		"forgotten by name":       {"deallocate reads", false},
		"all forgotten, in words": {"select 1; deallocate all", false},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, berths, oneBerth, "create procedure note(what text) language plpgsql as $$ begin execute what; end $$")
			l.keep(readBerth)
			answers := map[string]string{}
			for _, url := range []string{l.direct, l.through} {
				conn := connect(t, url, pgx.QueryExecModeSimpleProtocol)
				pc := conn.PgConn()
				_, err := pc.Prepare(ctx, "reads", readBerth, nil)
				require.NoError(t, err)
				_, err = conn.Exec(ctx, "prepare mine as select 1")
				require.NoError(t, err)
				for range 2 {
					require.NoError(t, pc.ExecPrepared(ctx, "reads", nil, nil, nil).Read().Err)
				}
				_, err = conn.Exec(ctx, c.code)
				require.NoError(t, err)
				if url == l.through {
					l.know() // what may do anything may have changed definitions
				}
				for range 3 {
					r := pc.ExecPrepared(ctx, "reads", nil, nil, nil).Read()
					if r.Err != nil {
						answers[url] += r.Err.Error() + "\n"
					} else {
						answers[url] += string(r.Rows[0][0]) + "\n"
					}
				}
				if url == l.through && c.hit {
					assert.True(t, wasHit(t, conn))
				}
			}
			assert.Equal(t, answers[l.direct], answers[l.through])
		})
	}
}

// Messages that are held back because more may come go on when nothing comes.
func TestAParseThatIsSentAlone(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	raw, err := c.PgConn().Hijack()
	require.NoError(t, err)
	defer raw.Conn.Close()
	_ = raw.Conn.SetDeadline(time.Now().Add(time.Minute))
	raw.Frontend.SendParse(&pgproto3.Parse{Name: "alone", Query: "select 1"})
	require.NoError(t, raw.Frontend.Flush())
	watch := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	require.Eventually(t, func() bool {
		var n int
		err := watch.QueryRow(ctx, "select count(*) from pg_stat_activity where pid = $1 and query = 'select 1'", int32(raw.PID)).Scan(&n)
		return err == nil && n == 1
	}, time.Minute, 10*time.Millisecond, "the origin has heard of it")
	raw.Frontend.SendBind(&pgproto3.Bind{PreparedStatement: "alone"})
	raw.Frontend.SendExecute(&pgproto3.Execute{})
	raw.Frontend.SendSync(&pgproto3.Sync{})
	require.NoError(t, raw.Frontend.Flush())
	var kinds string
	for {
		m, err := raw.Frontend.Receive()
		require.NoError(t, err)
		switch m.(type) {
		case *pgproto3.ParseComplete:
			kinds += "1"
		case *pgproto3.BindComplete:
			kinds += "2"
		case *pgproto3.DataRow:
			kinds += "D"
		case *pgproto3.CommandComplete:
			kinds += "C"
		case *pgproto3.ReadyForQuery:
			assert.Equal(t, "12DC", kinds)
			return
		}
	}
}

// In a REPEATABLE READ block, what was kept before it began and is still true is an answer; the rest passes.
func TestRepeatableReadBlocks(t *testing.T) {
	const other = "select n from berths where id = 2"
	l := newLarder(t, berths, oneBerth, "insert into berths values (2, 20), (3, 30)")
	l.cacheAll()
	c, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	ask := func(sql string, hit bool) string {
		t.Helper()
		want := text(t, direct, sql)
		assert.Equal(t, want, text(t, c, sql), sql)
		assert.Equal(t, hit, wasHit(t, c), sql)
		return want
	}
	do := func(conn *pgx.Conn, sql string) {
		t.Helper()
		_, err := conn.Exec(ctx, sql)
		require.NoError(t, err, sql)
	}
	for _, sql := range []string{readBerth, other} {
		l.hit(writer, func() { text(t, writer, sql) })
		l.hit(c, func() { text(t, c, sql) })
	}
	do(c, "begin isolation level repeatable read")
	do(direct, "begin isolation level repeatable read")
	ask(readBerth, false) // which decides what it sees
	ask(readBerth, true)
	ask(other, true)
	do(writer, "update berths set n = 99 where id = 2")
	l.hit(writer, func() { text(t, writer, other) })
	ask(other, false)
	ask(readBerth, true)
	ask("select n from berths where id = 3", false)
	ask("select n from berths where id = 3", false)
	do(c, "commit and chain")
	do(direct, "commit and chain")
	ask(other, false)
	ask(other, true)
	ask(readBerth, true)
	do(c, "rollback")
	do(direct, "rollback")
	for _, begin := range []string{"begin isolation level serializable", "begin transaction isolation level serializable, read only"} {
		do(c, begin)
		do(direct, begin)
		ask(readBerth, false)
		ask(readBerth, false)
		do(c, "commit")
		do(direct, "commit")
	}
}

// A name whose Parse failed, or was skipped behind one that did, stands for nothing, however often it came.
func TestNamesWhoseParseWasSkipped(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	for _, url := range []string{l.direct, l.through} {
		raw, err := connect(t, url, pgx.QueryExecModeSimpleProtocol).PgConn().Hijack()
		require.NoError(t, err)
		said := func(list ...pgproto3.FrontendMessage) (out []string) {
			for _, m := range list {
				raw.Frontend.Send(m)
			}
			raw.Frontend.Send(&pgproto3.Sync{})
			require.NoError(t, raw.Frontend.Flush())
			for {
				m, err := raw.Frontend.Receive()
				require.NoError(t, err)
				switch m := m.(type) {
				case *pgproto3.ErrorResponse:
					out = append(out, m.Code)
				case *pgproto3.ReadyForQuery:
					return out
				default:
					out = append(out, fmt.Sprintf("%T", m))
				}
			}
		}
		for range 3 { // it is kept in this form
			assert.Len(t, said(&pgproto3.Parse{Query: readBerth}, &pgproto3.Bind{}, &pgproto3.Execute{}), 4)
		}
		parse := &pgproto3.Parse{Name: "reads", Query: readBerth}
		assert.Equal(t, []string{"26000"}, said(&pgproto3.Bind{PreparedStatement: "nothing"}, parse, parse), url)
		assert.Equal(t, []string{"26000"}, said(&pgproto3.Bind{PreparedStatement: "reads"}, &pgproto3.Execute{}), url)
		raw.Conn.Close()
	}
}
