package postgres_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// What was kept is not answered after a write that changes it, however hidden that is.
func TestWhatIsEasyToMiss(t *testing.T) {
	for name, group := range easyToMiss {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, group.schema)
			l.cacheAll()
			reader, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
			for _, c := range group.cases {
				l.know()
				if c.passes {
					for range 2 {
						text(t, reader, c.read)
						assert.False(t, wasHit(t, reader), "%s is not kept", c.read)
					}
				} else {
					l.hit(reader, func() { text(t, reader, c.read) })
				}
				was := text(t, direct, c.read)
				text(t, writer, c.write)
				now := text(t, direct, c.read)
				if !c.passes {
					assert.NotEqual(t, was, now, "%s changes %s", c.write, c.read)
					assert.Equal(t, now, text(t, reader, c.read), "%s after %s", c.read, c.write)
				}
			}
		})
	}
}

// text gives all that a statement gives, as text.
func text(t testing.TB, c *pgx.Conn, sql string) string {
	results, err := c.PgConn().Exec(ctx, sql).ReadAll()
	require.NoError(t, err, sql)
	var out strings.Builder
	for _, r := range results {
		for _, row := range r.Rows {
			for _, v := range row {
				fmt.Fprintf(&out, "%s|", v)
			}
			out.WriteByte('\n')
		}
	}
	return out.String()
}

// cacheAll keeps whatever can be kept.
func (l *larder) cacheAll() {
	l.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
}

// run runs a prepared statement and gives its rows, or the code of its error.
func run(c *pgconn.PgConn, name string, values ...[]byte) string {
	r := c.ExecPrepared(ctx, name, values, nil, nil).Read()
	var failed *pgconn.PgError
	if errors.As(r.Err, &failed) {
		return failed.Code
	}
	if r.Err != nil {
		return r.Err.Error()
	}
	var out strings.Builder
	for _, row := range r.Rows {
		for _, v := range row {
			fmt.Fprintf(&out, "%s|", v)
		}
	}
	return out.String()
}

// wasHit says whether a client's last statement was answered from memory, by the larder's word.
func wasHit(t testing.TB, c *pgx.Conn) bool {
	return strings.HasPrefix(text(t, c, "show jollylarder.last"), ledger.Hit.String()+"|")
}

// hit asks until it is answered from memory.
func (l *larder) hit(c *pgx.Conn, ask func()) {
	l.t.Helper()
	require.Eventually(l.t, func() bool {
		ask()
		return wasHit(l.t, c)
	}, time.Minute, 5*time.Millisecond, "it is kept: %v", l.passed())
}

// A prepared statement belongs to the definitions and settings under which it was prepared.
func TestPreparedStatementsBelongToTheirMoment(t *testing.T) {
	prepare := func(c *pgx.Conn, name, sql string) {
		_, err := c.PgConn().Prepare(ctx, name, sql, nil)
		require.NoError(t, err)
	}
	t.Run("definitions", func(t *testing.T) {
		l := newLarder(t, "create table t (id int primary key, a int)", "insert into t values (1, 5)")
		l.cacheAll()
		const sql = "select a from t where id = 1"
		old, fresh := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		prepare(old, "p", sql)
		l.hit(old, func() { assert.Equal(t, "5|", run(old.PgConn(), "p")) })
		text(t, connect(t, l.through, pgx.QueryExecModeSimpleProtocol), "alter table t alter a type text")
		prepare(fresh, "p", sql)
		l.hit(fresh, func() { assert.Equal(t, "5|", run(fresh.PgConn(), "p")) })
		assert.Equal(t, "0A000", run(old.PgConn(), "p"), "its result has another type now")
	})
	t.Run("search path", func(t *testing.T) {
		l := newLarder(t, "create table t (id int primary key, a text)", "insert into t values (1, 'x')", "create schema north", "create table north.t (id int primary key, a varchar(8))", "insert into north.t values (1, 'y')")
		l.cacheAll()
		const sql = "select a from t where id = $1"
		old, fresh := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		text(t, old, "set search_path = north, public")
		prepare(old, "p", sql)
		l.hit(old, func() { assert.Equal(t, "y|", run(old.PgConn(), "p", []byte("1"))) })
		text(t, old, "reset search_path")
		prepare(fresh, "p", sql)
		l.hit(fresh, func() { assert.Equal(t, "x|", run(fresh.PgConn(), "p", []byte("1"))) })
		assert.Equal(t, "0A000", run(old.PgConn(), "p", []byte("1")), "its result has another type now")
	})
	t.Run("settings", func(t *testing.T) {
		l := newLarder(t, "create table t (id int primary key, at timestamptz)", "insert into t values (1, '2026-01-01 00:00 UTC')")
		l.cacheAll()
		const sql = "select count(*) from t where at >= '2026-01-01 00:00'"
		c, other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
		text(t, c, "set timezone = 'UTC'")
		l.hit(c, func() { text(t, c, "select count(*) from t") })
		for _, x := range []*pgx.Conn{c, direct} {
			text(t, x, "set timezone = 'UTC'")
			prepare(x, "p", sql)
			text(t, x, "set timezone = 'America/Lima'")
		}
		for range 3 {
			assert.Equal(t, run(direct.PgConn(), "p"), run(c.PgConn(), "p"))
		}
		text(t, other, "set timezone = 'America/Lima'")
		prepare(other, "p", sql)
		for range 3 {
			assert.Equal(t, "0|", run(other.PgConn(), "p"), "midnight in Lima is later")
		}
	})
}

// The server may read a prepared statement's constants anew whenever it runs it, by the settings of then.
func TestConstantsThatAreReadAnew(t *testing.T) {
	l := newLarder(t, "create table t (id int primary key, at timestamptz)", "insert into t values (1, '2026-01-01 00:00 UTC')")
	l.cacheAll()
	const sql = "select count(*) from t where at >= '2026-01-01 00:00'"
	c, other, direct := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	both := func(do func(*pgx.Conn)) {
		do(c)
		do(direct)
	}
	both(func(x *pgx.Conn) {
		text(t, x, "set timezone = 'UTC'")
		_, err := x.PgConn().Prepare(ctx, "p", sql, nil)
		require.NoError(t, err)
		assert.Equal(t, "1|", run(x.PgConn(), "p"))
		text(t, x, "set timezone = 'America/Lima'")
	})
	l.exec(l.direct, "create index on t (at)") // which has the server plan everything anew that reads the table
	both(func(x *pgx.Conn) {
		run(x.PgConn(), "p")
		text(t, x, "set timezone = 'UTC'")
	})
	want := run(direct.PgConn(), "p")
	assert.Equal(t, "0|", want, "midnight is still Lima's")
	for range 3 {
		assert.Equal(t, want, run(c.PgConn(), "p"))
	}
	text(t, other, "set timezone = 'UTC'")
	_, err := other.PgConn().Prepare(ctx, "p", sql, nil)
	require.NoError(t, err)
	for range 3 {
		assert.Equal(t, "1|", run(other.PgConn(), "p"))
	}
}

// A function in PL/pgSQL reads its constants when a session first runs them, and has them for the rest of it.
func TestConstantsThatAFunctionRemembers(t *testing.T) {
	l := newLarder(t, "create table t (id int primary key, at timestamptz)", "insert into t values (1, '2026-01-01 00:00 UTC')", "set timezone = 'UTC'",
		"create function f() returns bigint language plpgsql stable as $$ begin return (select count(*) from t where at >= '2026-01-01 00:00'); end $$")
	l.cacheAll()
	fresh, changed := connect(t, l.through+"&timezone=UTC", pgx.QueryExecModeSimpleProtocol), connect(t, l.through+"&timezone=UTC", pgx.QueryExecModeSimpleProtocol)
	text(t, changed, "set timezone = 'America/Lima'")
	assert.Equal(t, "0|\n", text(t, changed, "select f()"))
	text(t, changed, "set timezone = 'UTC'")
	l.hit(fresh, func() { assert.Equal(t, "1|\n", text(t, fresh, "select f()")) })
	for range 3 {
		assert.Equal(t, "0|\n", text(t, changed, "select f()"))
		assert.Equal(t, "1|\n", text(t, fresh, "select f()"))
	}
}

// Who is asked for by a name that has become another's gets his own rows.
func TestRolesThatAreRenamed(t *testing.T) {
	l := newLarder(t, "create table t (who oid, n int)", "create role r_one login", "create role r_two login", "alter table t enable row level security", "create policy own on t using (who = (select oid from pg_roles where rolname = current_user))",
		"grant select on t to r_one, r_two", "insert into t select oid, case rolname when 'r_one' then 1 else 2 end from pg_roles where rolname in ('r_one', 'r_two')")
	defer l.exec(l.direct, "drop owned by r_one, r_two", "drop role r_one, r_two")
	l.cacheAll()
	as := func(user string) *pgx.Conn {
		return connect(t, strings.Replace(l.through, "postgres@", user+"@", 1), pgx.QueryExecModeSimpleProtocol)
	}
	one := as("r_one")
	l.hit(one, func() { assert.Equal(t, "1|\n", text(t, one, "select n from t")) })
	admin := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for _, sql := range []string{"alter role r_one rename to r_x", "alter role r_two rename to r_one", "alter role r_x rename to r_two"} {
		text(t, admin, sql)
	}
	two := as("r_one")
	l.hit(two, func() { assert.Equal(t, "2|\n", text(t, two, "select n from t")) })
	for range 3 {
		assert.Equal(t, "1|\n", text(t, one, "select n from t"))
	}
}

// What may do anything may do what no rollback undoes.
func TestWhatNoRollbackUndoes(t *testing.T) {
	l := newLarder(t, "create table t (n int)", "insert into t values (1)", "create extension dblink")
	l.cacheAll()
	reader, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(reader, func() { text(t, reader, "select n from t") })
	text(t, writer, "begin")
	text(t, writer, "select dblink_exec('dbname="+l.database+" user=postgres host=127.0.0.1 port="+fmt.Sprint(server.Port)+"', 'update t set n = 2')")
	assert.Equal(t, "2|\n", text(t, reader, "select n from t"))
	text(t, writer, "rollback")
	assert.Equal(t, "2|\n", text(t, reader, "select n from t"))
}

// A parameter whose type another mention decides tells nothing of the column it is compared with.
func TestParametersOfMixedTypes(t *testing.T) {
	l := newLarder(t, "create table k (id bigint primary key, v int)", "insert into k values (9007199254740992, 1)")
	l.cacheAll()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err := c.PgConn().Prepare(ctx, "p", "select v, $1::float8 from k where id = $1", nil)
	require.NoError(t, err)
	l.hit(c, func() { run(c.PgConn(), "p", []byte("9007199254740993")) })
	text(t, connect(t, l.through, pgx.QueryExecModeSimpleProtocol), "update k set v = 2 where id = 9007199254740992")
	assert.Equal(t, "2|9.007199254740992e+15|", run(c.PgConn(), "p", []byte("9007199254740993")))
}

// While the catalog is not known, a read may do anything, for as long as it runs.
func TestReadsThatWriteWhileNothingIsKnown(t *testing.T) {
	l := newLarder(t, "create table t (n int)", "insert into t values (1)", "create table gate ()",
		"create function slow() returns int language plpgsql volatile as $$ begin perform pg_sleep(0.5); update t set n = n + 1; return 1; end $$", "create view shown as select slow() as x")
	l.cacheAll()
	reader, other, ddl := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(reader, func() { text(t, reader, "select n from t") })
	for i := range 3 {
		text(t, ddl, fmt.Sprintf("create table made%d ()", i)) // the catalog is not known now
		done := make(chan string)
		go func() { done <- text(t, other, "select x from shown") }()
		ended := false
		for !ended {
			select {
			case <-done:
				ended = true
			default:
				text(t, reader, "select n from t")
			}
		}
		assert.Equal(t, fmt.Sprintf("%d|\n", i+2), text(t, reader, "select n from t"))
	}
}

// What has nothing to do with what is kept leaves it where it is, and what is like it and has something to do with it does not.
func TestWhatIsNeedless(t *testing.T) {
	l := newLarder(t, `create table t (id int primary key, code varchar(8), n int); insert into t values (1, 'a', 1), (2, 'b', 2); create table u (id int primary key, n int); insert into u values (1, 1);
		create extension citext; create extension hstore; create extension "uuid-ossp"; create extension pgcrypto; create extension moddatetime; create role r_needless;
		create table stamped (id int primary key, n int, at timestamp); insert into stamped values (1, 1, now()); create trigger stamps before update on stamped for each row execute function moddatetime(at)`)
	defer l.exec(l.direct, "drop owned by r_needless", "drop role r_needless")
	l.cacheAll()
	const read = "select n from t where code = 'a'"
	reader, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for _, c := range []struct {
		sql   string
		drops bool
	}{
		{"create temp table mine (id int primary key, s text)", false}, {"insert into mine values (1, 'x')", false}, {"update mine set s = 'y' where id = 1", false}, {"truncate mine", false}, {"drop table mine", false},
		{"update t set n = 3 where code = 'b'", false}, {"update t set n = 4 where code = 'a'", true},
		{"select uuid_generate_v4()", false}, {"select gen_salt('md5')", false}, {"update stamped set n = 2 where id = 1", false},
		{"prepare p as select n from t", false}, {"execute p", false}, {"prepare q (int) as update u set n = $1", false}, {"execute q (5)", false}, {"prepare w (int) as update t set n = $1", false}, {"execute w (5)", true}, {"deallocate all", false},
		{"do $$ begin null; end $$", false}, {"do $$ begin update u set n = 6; end $$", false}, {"do $$ begin update t set n = 6; end $$", true}, {"do $$ begin execute 'update t set n = 7'; end $$", true},
		{"comment on table t is 'x'", false}, {"grant select on u to r_needless", false}, {"revoke select on u from r_needless", false}, {"grant select on t to r_needless", true},
		{"select lo_unlink(lo_create(0))", false}, {"select txid_status(1)", false}, {"select * from pg_partition_tree('t')", false}, {"select pg_stat_reset()", false}, {"select (information_schema._pg_expandarray(array[1, 2])).n", false},
	} {
		l.hit(reader, func() { text(t, reader, read) })
		text(t, writer, c.sql)
		l.know() // what changes who may read what has the catalog read again
		text(t, reader, read)
		assert.Equal(t, c.drops, !wasHit(t, reader), c.sql)
	}
}

// A function with a variable for a row of a table reads the types of its columns, also those of extensions, and is cached.
func TestFunctionsWithRowsOfExtensionTypes(t *testing.T) {
	l := newLarder(t, "create extension citext; create extension hstore; create extension ltree; create extension cube; create extension isn; create extension seg",
		"create table boats (id int primary key, name citext, extra hstore, place ltree, box cube, code ean13, depth seg); insert into boats values (1, 'Auk', 'a=>1', 'a.b', '(1,2)', null, '1')",
		"create function boat(int) returns text language plpgsql stable as $$ declare b boats%rowtype; begin select * into b from boats where id = $1; return b.name; end $$",
		"create function all_boats() returns setof boats language sql stable as 'select * from boats'")
	l.cacheAll()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for _, sql := range []string{"select boat(1)", "select name from all_boats()"} {
		l.hit(c, func() { text(t, c, sql) })
	}
	text(t, c, "update boats set name = 'Bonxie' where id = 1")
	for _, sql := range []string{"select boat(1)", "select name from all_boats()"} {
		assert.Equal(t, "Bonxie|\n", text(t, c, sql))
	}
}

// A call of a function by its number does what the function does: with large objects, or where another table is written, nothing that is kept is concerned.
func TestCallsByNumber(t *testing.T) {
	l := newLarder(t, "create table t (n int)", "insert into t values (1)", "create function f() returns int language plpgsql as $$ begin update t set n = n + 1; return 1; end $$",
		"create table u (n int)", `create function "G h"() returns int language plpgsql as $$ begin insert into u values (1); return 1; end $$`)
	l.cacheAll()
	reader, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	number := func(name string) (n uint32) {
		require.NoError(t, writer.QueryRow(ctx, "select '"+name+"'::regprocedure::oid").Scan(&n))
		return n
	}
	for _, x := range []struct {
		function string
		argument []byte
		drops    bool
	}{{"lo_create(oid)", []byte("0"), false}, {"f()", nil, true}, {`"G h"()`, nil, false}, {"pi()", nil, false}} {
		n := number(x.function)
		l.hit(reader, func() { text(t, reader, "select n from t") })
		f := writer.PgConn().Frontend()
		call := &pgproto3.FunctionCall{Function: n, ResultFormatCode: 0}
		if x.argument != nil {
			call.Arguments = [][]byte{x.argument}
		}
		f.Send(call)
		require.NoError(t, f.Flush())
		for {
			m, err := f.Receive()
			require.NoError(t, err)
			if _, end := m.(*pgproto3.ReadyForQuery); end {
				break
			}
		}
		text(t, reader, "select n from t")
		assert.Equal(t, x.drops, !wasHit(t, reader), x.function)
	}
}

// A definition in one database has nothing to do with another, but for those that all have in common.
func TestDatabasesAreApart(t *testing.T) {
	l := newLarder(t, "create table t (n int)", "insert into t values (1)")
	other := newLarder(t, "create table t (n int)")
	l.cacheAll()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	beside := connect(t, strings.Replace(l.through, "/"+l.database, "/"+other.database, 1), pgx.QueryExecModeSimpleProtocol)
	known := func() (n int) {
		l.engine.Databases(func(_ string, k, _ bool, _ []string) {
			if k {
				n++
			}
		})
		return n
	}
	for sql, drops := range map[string]bool{"create table made ()": false, "do $$ begin execute 'select 1'; end $$": false, "create role r_common": true} {
		require.Eventually(t, func() bool { text(t, beside, "select 1"); text(t, c, "select 1"); return known() == 2 }, time.Minute, 5*time.Millisecond)
		l.hit(c, func() { text(t, c, "select n from t") })
		text(t, beside, sql)
		text(t, c, "select n from t")
		assert.Equal(t, drops, !wasHit(t, c), sql)
	}
	text(t, beside, "drop role r_common")
}

// Who may read a table, but not use what is asked of it, is not answered with what another has fetched.
func TestSharedResultsAskForAllPrivileges(t *testing.T) {
	for name, sql := range map[string]struct{ read, revoke string }{
		"operators":  {"select n from t where n @@@ 1", ""},
		"built-ins":  {"select upper(s) from t", "revoke execute on function upper(text) from public"},
		"types":      {"select s::hidden.kind::text from t", ""},
		"collations": {"select s from t order by s collate hidden.way", ""},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, "create table t (n int, s text)", "insert into t values (1, 'a')", "create schema hidden", "create type hidden.kind as enum ('a')", `create collation hidden.way from "C"`,
				"create function hidden.same(int, int) returns boolean language sql immutable as 'select $1 = $2'", "create operator public.@@@ (leftarg = int, rightarg = int, function = hidden.same)", "revoke execute on function hidden.same(int, int) from public",
				"create role r_reader login", "grant select on t to r_reader")
			defer l.exec(l.direct, "drop owned by r_reader", "drop role r_reader")
			if sql.revoke != "" {
				l.exec(l.direct, sql.revoke)
			}
			l.serve(server.Address())
			l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
			l.know()
			l.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1, AcrossUsers: true}}))
			one := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			l.hit(one, func() { text(t, one, sql.read) })
			two := connect(t, strings.Replace(l.through, "postgres@", "r_reader@", 1), pgx.QueryExecModeSimpleProtocol)
			for range 3 {
				_, err := two.PgConn().Exec(ctx, sql.read).ReadAll()
				assert.ErrorContains(t, err, "permission denied")
			}
		})
	}
}
