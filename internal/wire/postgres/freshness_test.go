package postgres_test

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

const (
	berths    = "create table berths (id int primary key, n int not null)"
	oneBerth  = "insert into berths values (1, 0)"
	readBerth = "select n from berths where id = 1"
)

// A reader on one connection, however fast, never sees a number older than one that a writer on another was told is
// written; and never a smaller one after a larger.
func TestNobodyReadsOldAfterAnAcknowledgement(t *testing.T) {
	const writeBerth = "update berths set n = n + 1 where id = 1 returning n"
	for name, c := range map[string]struct {
		mode        pgx.QueryExecMode
		setup       []string
		read, write string
	}{
		"simple":  {pgx.QueryExecModeSimpleProtocol, nil, readBerth, writeBerth},
		"cached":  {pgx.QueryExecModeCacheStatement, nil, readBerth, writeBerth},
		"unnamed": {pgx.QueryExecModeExec, nil, readBerth, writeBerth},
		"a view over what a trigger writes": {pgx.QueryExecModeExec, []string{
			"create table moorings (id int primary key, n int)", "insert into moorings values (1, 0)", "create view shown as select id, n from berths",
			"create function moor() returns trigger language plpgsql as $$ begin update berths set n = new.n where id = new.id; return null; end $$",
			"create trigger moors after update on moorings for each row execute function moor()",
		}, "select n from shown where id = 1", "update moorings set n = n + 1 where id = 1 returning n"},
	} {
		mode, read, write := c.mode, c.read, c.write
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, append([]string{berths, oneBerth}, c.setup...)...)
			l.keep(read)
			var acknowledged atomic.Int64
			end := time.Now().Add(1500 * time.Millisecond)
			var wg sync.WaitGroup
			for w := range 2 {
				c := connect(t, l.through, mode)
				wg.Go(func() {
					for i := 0; time.Now().Before(end); i++ {
						var n int64
						var err error
						if i%3 == w { // in a transaction block, of which only the end counts
							var tx pgx.Tx
							if tx, err = c.Begin(ctx); err == nil {
								err = tx.QueryRow(ctx, write).Scan(&n)
								if err == nil && i%5 == 0 {
									assert.NoError(t, tx.Rollback(ctx))
									continue
								}
								if err == nil {
									err = tx.Commit(ctx)
								}
							}
						} else {
							err = c.QueryRow(ctx, write).Scan(&n)
						}
						if !assert.NoError(t, err) {
							return
						}
						for old := acknowledged.Load(); old < n && !acknowledged.CompareAndSwap(old, n); old = acknowledged.Load() {
						}
						time.Sleep(time.Duration(i%4) * time.Millisecond)
					}
				})
			}
			for range 3 {
				c := connect(t, l.through, mode)
				wg.Go(func() {
					var before int64
					for time.Now().Before(end) {
						known := acknowledged.Load()
						var n int64
						if !assert.NoError(t, c.QueryRow(ctx, read).Scan(&n)) {
							return
						}
						assert.GreaterOrEqual(t, n, known, "older than an acknowledged write")
						assert.GreaterOrEqual(t, n, before, "going backwards")
						before = n
					}
				})
			}
			wg.Wait()
			total := l.engine.Ledger.Total.Total()
			assert.Greater(t, total.Count[ledger.Hit], uint64(100), "the test means nothing without hits")
			assert.Greater(t, total.Count[ledger.Miss], uint64(20))
		})
	}
}

func TestATransactionReadsItsOwnWrites(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	writer, reader := connect(t, l.through, pgx.QueryExecModeExec), connect(t, l.through, pgx.QueryExecModeExec)
	assert.Equal(t, "0", one(t, reader, readBerth))
	assert.Equal(t, "0", one(t, reader, readBerth))
	outcome, why := l.became(readBerth, 2)
	require.Equal(t, ledger.Hit, outcome, why)

	tx, err := writer.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "update berths set n = 7 where id = 1")
	require.NoError(t, err)
	assert.Equal(t, "7", one(t, tx, readBerth), "its own write")
	outcome, why = l.became(readBerth, 3)
	assert.Equal(t, ledger.Bypass, outcome)
	assert.Equal(t, "reads what its own transaction has written", why)
	assert.Equal(t, "0", one(t, reader, readBerth), "others do not see it yet")
	outcome, _ = l.became(readBerth, 4)
	assert.Equal(t, ledger.Hit, outcome, "what is not committed drops nothing")
	require.NoError(t, tx.Commit(ctx))
	assert.Equal(t, "7", one(t, reader, readBerth))
	outcome, _ = l.became(readBerth, 5)
	assert.Equal(t, ledger.Miss, outcome)

	tx, err = writer.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "update berths set n = 8 where id = 1")
	require.NoError(t, err)
	require.NoError(t, tx.Rollback(ctx))
	assert.Equal(t, "7", one(t, reader, readBerth))
	outcome, _ = l.became(readBerth, 6)
	assert.Equal(t, ledger.Hit, outcome, "a rollback moves nothing")
}

// Each case changes what the kept answer rests on, by a way that is easily forgotten. Afterwards the new answer must
// come, on the same and on another connection.
func TestEveryKindOfWriteDrops(t *testing.T) {
	setup := []string{
		berths, oneBerth,
		"create table quays (id int primary key, berth int references berths on delete cascade on update cascade)",
		"create table log (x int)",
		"create function bump() returns trigger language plpgsql as $$ begin update berths set n = n + 1; return new; end $$",
		"create trigger t after insert on log for each row execute function bump()",
		"create function quiet_bump() returns int language sql volatile as 'update berths set n = n + 1 returning n'",
		"create procedure loud_bump() language sql as 'update berths set n = n + 1'",
		"create view all_berths as select * from berths",
	}
	for name, write := range map[string]string{
		"update":               "update berths set n = n + 1 where id = 1",
		"simple transaction":   "begin; update berths set n = n + 1 where id = 1; commit",
		"schema-qualified":     `update public."berths" set n = n + 1`,
		"CTE":                  "with x as (update berths set n = n + 1 returning n) select * from x",
		"trigger":              "insert into log values (1)",
		"function":             "select quiet_bump()",
		"function in a write":  "insert into log select 2 where false or quiet_bump() > 0",
		"procedure":            "call loud_bump()",
		"anonymous code":       "do $$ begin update berths set n = n + 1; end $$",
		"view":                 "update all_berths set n = n + 1",
		"prepared in SQL":      "prepare p as update berths set n = n + 1; execute p",
		"explain analyze":      "explain analyze update berths set n = n + 1",
		"upsert":               "insert into berths values (1, 0) on conflict (id) do update set n = berths.n + 1",
		"merge":                "merge into berths b using (values (1)) v (id) on b.id = v.id when matched then update set n = n + 1",
		"truncate and refill":  "truncate berths cascade; insert into berths values (1, 5)",
		"alter":                "alter table berths add m int; update berths set n = n + 1; alter table berths drop m",
		"two-phase":            "begin; update berths set n = n + 1; prepare transaction 'x'",
		"rename and make anew": "alter table berths rename to old; create table berths as select id, n + 1 as n from old",
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, setup...)
			l.keep(readBerth)
			a, b := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			before := one(t, a, readBerth)
			require.Equal(t, before, one(t, b, readBerth))
			outcome, why := l.became(readBerth, 2)
			require.Equal(t, ledger.Hit, outcome, why)
			_, err := a.Exec(ctx, write)
			require.NoError(t, err)
			if name == "two-phase" {
				_, err = b.Exec(ctx, "commit prepared 'x'") // by another session than the one that wrote
				require.NoError(t, err)
			}
			truth := one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), readBerth)
			require.NotEqual(t, before, truth, "the case changes nothing")
			assert.Equal(t, truth, one(t, b, readBerth), "another connection")
			assert.Equal(t, truth, one(t, a, readBerth), "the same connection")
		})
	}
}

// What looks like the same question but must not have the same answer.
func TestKeysTellSessionsApart(t *testing.T) {
	const moment = "select at from tides"
	l := newLarder(t,
		"create table tides (at timestamptz)", "insert into tides values ('2027-03-01 08:00+00')",
		"create schema north", "create table north.tides (at timestamptz)", "insert into north.tides values ('2027-03-02 08:00+00')",
		"drop role if exists oona", "create role oona login", "grant usage on schema public, north to public", "grant select on tides, north.tides to public",
	)
	l.keep(moment)
	ask := func(settings ...string) string {
		c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		for _, s := range settings {
			_, err := c.Exec(ctx, s)
			require.NoError(t, err)
		}
		conn, err := c.PgConn().Exec(ctx, moment).ReadAll()
		require.NoError(t, err)
		if conn[0].Err != nil {
			return conn[0].Err.Error()
		}
		return string(conn[0].Rows[0][0])
	}
	for range 2 {
		assert.Equal(t, "2027-03-01 08:00:00+00", ask("set time zone 'UTC'"))
		assert.Equal(t, "2027-03-01 18:00:00+10", ask("set time zone 'Etc/GMT-10'"))
		assert.Equal(t, "01.03.2027 08:00:00 UTC", ask("set time zone 'UTC'", "set datestyle = 'German'"))
		assert.Equal(t, "2027-03-02 08:00:00+00", ask("set time zone 'UTC'", "set search_path = north"))
		assert.Equal(t, "2027-03-01 08:00:00+00", ask("set time zone 'UTC'", "set role oona"))
		assert.Equal(t, "2027-03-01 08:00:00+00", ask("begin", "set local time zone 'Etc/GMT-10'", "commit", "set time zone 'UTC'"))
		assert.Equal(t, "2027-03-01 18:00:00+10", ask("select set_config('timezone', 'Etc/GMT-10', false)"))
	}
	assert.Greater(t, l.engine.Ledger.Total.Total().Count[ledger.Hit], uint64(3))
	l.exec(l.through, "revoke select on tides from public")
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "set time zone 'UTC'")
	require.NoError(t, err)
	_, err = c.Exec(ctx, "set role oona")
	require.NoError(t, err)
	_, err = c.Exec(ctx, moment)
	assert.ErrorContains(t, err, "42501", "what the origin refuses is not answered from memory")
}

// Where it cannot be established that an answer would be right, the statement passes, with the reason.
func TestDoubtPasses(t *testing.T) {
	setup := []string{berths, oneBerth,
		"create view shown as select *, now() from berths", "create table guarded (n int)", "alter table guarded enable row level security",
		"create policy ours on guarded using (current_setting('a.b', true) = 'x')",
		"create function f() returns int stable language plpgsql as $$ declare n int; begin execute 'select 1' into n; return n; end $$",
		"create table odd (t timetz)"}
	for sql, why := range map[string]string{
		"select * from shown":                                   "reads the view public.shown, which calls now(), which changes with time",
		"select * from guarded":                                 "reads public.guarded, whose row security calls current_setting(), which reads a setting",
		"select * from odd":                                     "reads public.odd, which has a column of a time with time zone, read by today's date",
		"select n, f() from berths":                             "calls f(), whose tables are not known: it runs SQL that is made at run time",
		"select n, now() from berths":                           "calls now(), which changes with time",
		"select n from berths where current_date > '2020-1-1'":  "asks for the current time",
		"select n from berths where '2020-1-1'::date < 'today'": "a value in it may mean the current time",
		"select n from berths for update":                       "locks the rows it reads",
		"select random(), n from berths":                        "calls random(), which gives another value at every call",
		"select reltuples from pg_class limit 1":                "reads pg_class, whose column reltuples changes on its own",
		"select 1; select 2":                                    "several statements in one string",
	} {
		t.Run(sql, func(t *testing.T) {
			l := newLarder(t, setup...)
			l.keep(sql)
			c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			for n := 1; n <= 2; n++ {
				l.know() // a function that may do anything makes it unknown
				_, err := c.Exec(ctx, sql)
				require.NoError(t, err)
				outcome, reason := l.became(sql, n)
				assert.Equal(t, ledger.Bypass, outcome)
				assert.Equal(t, why, reason)
			}
		})
	}
}

// Sessions whose state makes an answer from memory wrong.
func TestSessionsThatPass(t *testing.T) {
	for name, c := range map[string]struct {
		before []string
		why    string
	}{
		"repeatable read":   {[]string{"begin isolation level repeatable read"}, "the first statement of a transaction, which begins it or takes its snapshot"},
		"set transaction":   {[]string{"begin", "set transaction isolation level serializable"}, "in a transaction of an isolation for which the server must see what it reads"},
		"by default":        {[]string{"set default_transaction_isolation = 'repeatable read'", "begin"}, "the first statement of a transaction, which begins it or takes its snapshot"},
		"by default, alone": {[]string{"set default_transaction_isolation = 'serializable'"}, "transactions of this session have an isolation by default for which the server must see what they read"},
		"temporary table":   {[]string{"create temp table berths (id int, n int)"}, "its session has temporary tables"},
		"backslashes":       {[]string{"set standard_conforming_strings = off"}, "the session reads backslashes in strings as escapes"},
		"strange path":      {[]string{"set search_path = public, pg_catalog"}, "the session's search path puts other schemas before the system's"},
		"begun unseen":      {[]string{"select 1; begin"}, "in a transaction whose isolation is not known"},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, berths, oneBerth)
			l.keep(readBerth)
			other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			one(t, other, readBerth)
			conn := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			for _, s := range c.before {
				_, err := conn.Exec(ctx, s)
				require.NoError(t, err)
			}
			l.know() // the catalog is read again after some of these
			_, err := conn.Exec(ctx, readBerth)
			require.NoError(t, err)
			if c.why == "the session reads backslashes in strings as escapes" {
				events := l.outcomes("select n from berths where id = 1", 1)
				assert.Len(t, events, 1, "it is not even read as the same pattern")
				return
			}
			outcome, why := l.became(readBerth, 2)
			assert.Equal(t, ledger.Bypass, outcome)
			assert.Equal(t, c.why, why)
		})
	}
}

// A read committed block may be answered from memory, also when it follows settings that were put back.
func TestReadCommittedBlocksAreAnswered(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	c := connect(t, l.through, pgx.QueryExecModeExec)
	for range 2 {
		one(t, c, readBerth)
	}
	for i, begin := range []string{"begin", "begin isolation level read committed", "begin read only"} {
		_, err := c.Exec(ctx, begin)
		require.NoError(t, err)
		one(t, c, readBerth)
		outcome, why := l.became(readBerth, 3+i)
		assert.Equal(t, ledger.Hit, outcome, why)
		assert.Equal(t, byte('T'), c.PgConn().TxStatus(), "the state byte is that of the block")
		_, err = c.Exec(ctx, "commit")
		require.NoError(t, err)
	}
}

// A write whose client goes away before the reply: nothing old may be kept while it may still be under way.
func TestAWriterThatGoesAway(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	reader := connect(t, l.through, pgx.QueryExecModeExec)
	one(t, reader, readBerth)
	writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err := writer.Exec(ctx, "set statement_timeout = 0")
	require.NoError(t, err)
	raw, err := writer.PgConn().Hijack()
	require.NoError(t, err)
	const slow = "update berths set n = 9 where (select pg_sleep(0.5)) is not null"
	raw.Frontend.SendQuery(&pgproto3.Query{String: slow})
	require.NoError(t, raw.Frontend.Flush())
	l.underWay(slow)
	raw.Conn.Close()
	for range 20 { // under way: only the origin's own answers, nothing kept
		one(t, reader, readBerth)
	}
	truth := connect(t, l.direct, pgx.QueryExecModeExec)
	require.Eventually(t, func() bool { return one(t, truth, readBerth) == "9" }, time.Minute, 10*time.Millisecond)
	assert.Equal(t, "9", one(t, reader, readBerth))
	require.Eventually(t, func() bool {
		one(t, reader, readBerth)
		events := l.outcomes(readBerth, 1)
		return events[len(events)-1].Outcome == ledger.Hit
	}, time.Minute, 20*time.Millisecond, "and in the end it is kept again")
	assert.Equal(t, "9", one(t, reader, readBerth))
}

func TestATTLEnds(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	id := patternOf(readBerth)
	c := connect(t, l.through, pgx.QueryExecModeExec)
	for range 2 {
		one(t, c, readBerth)
	}
	l.exec(l.direct, "update berths set n = 3") // around the larder
	assert.Equal(t, "0", one(t, c, readBerth), "not seen, within the TTL")
	assert.Equal(t, 1, l.engine.DropPattern(id))
	assert.Equal(t, "3", one(t, c, readBerth), "dropped by hand")
	l.exec(l.direct, "update berths set n = 4")
	assert.Equal(t, 1, l.engine.DropTable("public.berths"))
	assert.Equal(t, fmt.Sprint(4), one(t, c, readBerth))
}
