package postgres_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

const berthOne = "select n from berths where id = 1"

var fiftyBerths = []string{"create table berths (id int primary key, n int)", "insert into berths select i, i from generate_series(1, 50) i"}

// rule puts one rule for a statement in force.
func (l *larder) rule(sql string, change func(*rules.Rule)) {
	r := rules.Rule{Pattern: patternOf(sql), Action: rules.Cache, TTL: time.Minute, ControlSample: -1}
	change(&r)
	l.engine.SetRules(rules.NewSet([]rules.Rule{r}))
}

func TestWhoAsksToBeLeftOutIs(t *testing.T) {
	l := newLarder(t, fiftyBerths...)
	l.keep(berthOne)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	n := 0
	became := func(sql string) string {
		one(t, c, sql)
		n++
		outcome, reason := l.became(berthOne, n)
		return outcome.String() + " " + reason
	}
	became(berthOne)
	assert.Equal(t, "hit ", became(berthOne))
	assert.Equal(t, "bypass its label asks for it to be left out", became(berthOne+" /*jollylarder='off'*/"))
	assert.Equal(t, "hit ", became(berthOne+" /*jollylarder='on'*/"))
	for _, how := range []string{"set jollylarder.caching = off", "select set_config('jollylarder.caching', 'off', false)"} {
		l.exec2(c, how)
		assert.Equal(t, "bypass its session asked to be left out", became(berthOne), how)
		l.exec2(c, "reset jollylarder.caching")
		assert.Equal(t, "hit ", became(berthOne))
	}
	l.exec2(c, "begin", "set local jollylarder.caching = off")
	assert.Contains(t, became(berthOne), "bypass ", "where settings cannot be asked for, nothing is answered from memory")
	l.exec2(c, "commit")
	assert.Equal(t, "hit ", became(berthOne))
	cfg, err := pgx.ParseConfig(l.through)
	require.NoError(t, err)
	cfg.RuntimeParams["options"] = "-c jollylarder.caching=off"
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	c, err = pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	defer c.Close(ctx)
	assert.Equal(t, "bypass its session asked to be left out", became(berthOne), "from its first statement on")
}

func (l *larder) exec2(c *pgx.Conn, sql ...string) {
	for _, s := range sql {
		_, err := c.Exec(ctx, s)
		require.NoError(l.t, err, s)
	}
}

func TestAClientLearnsWhatBecameOfItsLastStatement(t *testing.T) {
	l := newLarder(t, fiftyBerths...)
	l.keep(berthOne)
	for _, mode := range []pgx.QueryExecMode{
		pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec, pgx.QueryExecModeDescribeExec, pgx.QueryExecModeCacheDescribe, pgx.QueryExecModeCacheStatement,
	} {
		t.Run(mode.String(), func(t *testing.T) {
			c := connect(t, l.through, mode)
			last := func() (out [6]string) {
				require.NoError(t, c.QueryRow(ctx, "SHOW jollylarder.last").Scan(&out[0], &out[1], &out[2], &out[3], &out[4], &out[5]))
				return out
			}
			_, err := c.Exec(ctx, "update berths set n = n where id = 1")
			require.NoError(t, err)
			assert.Equal(t, "write", last()[0])
			one(t, c, berthOne)
			assert.Equal(t, "miss", last()[0])
			one(t, c, berthOne)
			hit := last()
			assert.Equal(t, []string{"hit", "", string(patternOf(berthOne))}, hit[:3])
			assert.NotEqual(t, "0.000", hit[4], "its age")
			assert.Equal(t, hit, last(), "asking does not count")
			one(t, c, "select 1 from berths limit 1")
			assert.Equal(t, "no rule caches this pattern", last()[1])
			tx, err := c.Begin(ctx)
			require.NoError(t, err)
			assert.Equal(t, "bypass", last()[0])
			_, err = c.Exec(ctx, "select 1/0")
			require.Error(t, err)
			_, err = c.Exec(ctx, "show jollylarder.last")
			assert.ErrorContains(t, err, "25P02", "in a transaction that has failed the server has the word")
			require.NoError(t, tx.Rollback(ctx))
			assert.Equal(t, "1", one(t, c, berthOne), "and the conversation goes on")
		})
	}
}

func TestEqualMissesAreFetchedOnce(t *testing.T) {
	const slower = "select sum(length(md5(g::text || b.n))) from berths b, generate_series(1, 8000) g"
	l := newLarder(t, fiftyBerths...)
	l.keep(slower)
	var wg sync.WaitGroup
	ready := make(chan struct{})
	answers := make(chan string, 8)
	for range 8 {
		c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		one(t, c, "select 1 from berths limit 1")
		wg.Go(func() {
			<-ready
			answers <- one(t, c, slower)
		})
	}
	close(ready)
	wg.Wait()
	close(answers)
	first := <-answers
	for a := range answers {
		assert.Equal(t, first, a)
	}
	misses := 0
	for _, e := range l.outcomes(slower, 8) {
		if e.Outcome == ledger.Miss {
			misses++
		}
	}
	assert.Equal(t, 1, misses, "the others waited for it")
}

// Who waits for a result that a write overtakes is not answered with it.
func TestWhoWaitsIsNotAnsweredWithWhatAWriteOvertook(t *testing.T) {
	l := newLarder(t, append(fiftyBerths, "create table gate (id int)")...)
	const gated = "select n from berths where id = 1 and (select count(*) from gate) >= 0"
	l.keep(gated)
	lock := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	reader, follower, writer := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, gated)
	l.exec2(writer, "update berths set n = 7 where id = 1")
	l.exec2(lock, "begin", "lock table gate in access exclusive mode")
	got := make(chan string, 2)
	go func() { got <- one(t, reader, gated) }()
	l.underWay(gated) // behind the lock
	l.exec2(writer, "update berths set n = 8 where id = 1")
	go func() { got <- one(t, follower, gated) }()
	time.Sleep(50 * time.Millisecond)
	l.exec2(writer, "update berths set n = 9 where id = 1")
	l.exec2(lock, "commit")
	assert.Equal(t, "9", <-got)
	assert.Equal(t, "9", <-got)
}

// A statement that waits for another session's can be cancelled like any other.
func TestWhoWaitsCanBeCancelled(t *testing.T) {
	l := newLarder(t, append(fiftyBerths, "create table gate (id int)")...)
	const gated = "select count(*) from gate"
	l.keep(gated)
	lock := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	l.exec2(lock, "begin", "lock table gate in access exclusive mode")
	leader, follower := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	led, followed := make(chan error, 1), make(chan error, 1)
	go func() { _, err := leader.Exec(ctx, gated); led <- err }()
	l.underWay(gated)
	go func() { _, err := follower.Exec(ctx, gated); followed <- err }()
	time.Sleep(50 * time.Millisecond)
	for range 20 { // a request to cancel may come before its statement, as without the larder
		require.NoError(t, follower.PgConn().CancelRequest(ctx))
		select {
		case err := <-followed:
			assert.ErrorContains(t, err, "57014")
			l.exec2(lock, "commit")
			assert.NoError(t, <-led)
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
	require.Fail(t, "it was not cancelled")
}

func TestModesOfARule(t *testing.T) {
	l := newLarder(t, append(fiftyBerths, "create table other (x int)", "create view timed as select n, now() as at from berths where id = 1")...)
	c := connect(t, l.through, pgx.QueryExecModeExec)
	outcomes := func(sql string, change func(*rules.Rule), between ...string) string {
		l.know() // a definition may just have changed
		l.engine.DropPattern(patternOf(sql))
		l.rule(sql, change)
		before := l.outcomesBefore(sql, c)
		one(t, c, sql)
		l.exec2(c, between...)
		one(t, c, sql)
		list := l.outcomes(sql, before+2)
		last := list[len(list)-1]
		return last.Outcome.String() + " " + last.Reason.String()
	}
	write := "update berths set n = n + 1"
	assert.Equal(t, "hit ", outcomes(berthOne, func(r *rules.Rule) {}))
	assert.Equal(t, "miss ", outcomes(berthOne, func(r *rules.Rule) {}, write))
	assert.Equal(t, "hit ", outcomes(berthOne, func(r *rules.Rule) { r.TTLOnly = true }, write), "age is accepted")
	assert.Equal(t, "miss ", outcomes(berthOne, func(r *rules.Rule) { r.TTLOnly, r.TTL = true, time.Nanosecond }))
	assert.NotContains(t, outcomes(berthOne, func(r *rules.Rule) { r.TTLOnly = true }, "alter table berths add column x int", "alter table berths drop column x"), "hit", "but not another shape")
	l.hit(c, func() { one(t, c, readBerth) }) // when the definition has been read again
	assert.Equal(t, "bypass its rule is paused", outcomes(berthOne, func(r *rules.Rule) { r.Paused = true }))
	assert.Equal(t, "miss ", outcomes(berthOne, func(r *rules.Rule) { r.SizeLimit = 20 }))
	assert.Equal(t, "miss a control sample: also asked of the database, to compare", outcomes(berthOne, func(r *rules.Rule) { r.ControlSample = 1 }))
	assert.Equal(t, "miss ", outcomes("select n from berths where id = 1 limit 1", func(r *rules.Rule) { r.AlsoReads = []string{"other"} }, "insert into other values (1)"))
	const nothing = "select count(*) from berths where id = -1 having count(*) > -1"
	assert.Equal(t, "hit ", outcomes(nothing, func(r *rules.Rule) { r.SkipEmpty = true }), "a row of nothing is a row")
	const at = "select at from timed"
	assert.Equal(t, "bypass reads the view public.timed, which calls now(), which changes with time", outcomes(at, func(r *rules.Rule) {}))
	assert.Equal(t, "hit ", outcomes(at, func(r *rules.Rule) { r.TimeFunctions = true }))
	assert.Equal(t, "hit ", outcomes("select n from berths where id = 1 and '2020-01-01' < 'today'::date", func(r *rules.Rule) { r.TimeFunctions = true }))

	const none = "select n from berths where id = 77 and n > 0"
	l.rule(none, func(r *rules.Rule) {})
	l.exec2(c, none, none)
	l.rule(none, func(r *rules.Rule) { r.SkipEmpty = true })
	l.engine.DropPattern(patternOf(none))
	l.exec2(c, none, none)
	var became []string
	for _, e := range l.outcomes(none, 4) {
		became = append(became, e.Outcome.String())
	}
	assert.Equal(t, []string{"miss", "hit", "miss", "miss"}, became, "that there is nothing is kept, unless a rule says otherwise")
}

// Users share what was fetched only where each may read all of it, and where it does not matter who asks.
func TestUsersShareWhatBothMayRead(t *testing.T) {
	l := newLarder(t, append(fiftyBerths,
		"drop role if exists share_a", "drop role if exists share_b", "drop role if exists share_c",
		"create role share_a login", "create role share_b login", "create role share_c login",
		"grant select on berths to share_a, share_b", "create table secured (id int, who text)", "insert into secured values (1, 'x')",
		"alter table secured enable row level security", "create policy p on secured using (true)", "grant select on secured to share_a, share_b",
		"create view seen as select n from berths where id = 2", "grant select on seen to share_a, share_b, share_c")...)
	defer l.exec(l.direct, "drop owned by share_a, share_b, share_c", "drop role share_a, share_b, share_c")
	as := func(user string) *pgx.Conn {
		return connect(t, fmt.Sprintf("postgres://%s@%s/%s?sslmode=disable", user, l.address, l.database), pgx.QueryExecModeSimpleProtocol)
	}
	a, b, c := as("share_a"), as("share_b"), as("share_c")
	second := func(sql string, next *pgx.Conn) string {
		l.rule(sql, func(r *rules.Rule) { r.AcrossUsers = true })
		before := l.outcomesBefore(sql, a, next)
		one(t, a, sql)
		one(t, next, sql)
		return l.outcomes(sql, before+2)[before+1].Outcome.String()
	}
	assert.Equal(t, "hit", second(berthOne, b))
	assert.Equal(t, "miss", second("select n from berths where id = 3 and current_user <> ''", b), "it matters who asks")
	assert.Equal(t, "miss", second("select id from secured", b), "row security")
	assert.Equal(t, "hit", second("select n from seen", b))
	assert.Equal(t, "miss", second("select n from seen", c), "not all that is behind it")
	_, err := c.Exec(ctx, berthOne)
	assert.ErrorContains(t, err, "42501", "and who may not read is refused by the database")
	l.rule(berthOne, func(r *rules.Rule) { r.AcrossUsers = true })
	one(t, a, berthOne)
	l.exec(l.through, "revoke select on berths from share_b")
	_, err = b.Exec(ctx, berthOne)
	assert.ErrorContains(t, err, "42501", "from the moment it is revoked")
	l.rule(berthOne, func(r *rules.Rule) {})
	one(t, as("postgres"), berthOne)
	_, err = b.Exec(ctx, berthOne)
	assert.ErrorContains(t, err, "42501")
}

// What a write dropped is fetched again by an account of the larder's, and what was asked most before at the start.
func TestFetchingAhead(t *testing.T) {
	l := newLarder(t, fiftyBerths...)
	again := func(r *rules.Rule) { r.Refetch = true }
	fetcher := wire.NewFetcher(l.server, link.Account{User: "postgres"})
	run, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { defer close(ended); fetcher.Run(run) }()
	defer func() { stop(); <-ended }()
	const byBinding = "select n from berths where id = $1"
	for i, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec, pgx.QueryExecModeDescribeExec, pgx.QueryExecModeCacheStatement} {
		t.Run(mode.String(), func(t *testing.T) {
			l.rule(byBinding, again)
			c := connect(t, l.through, mode)
			l.exec2(c, "set timezone = 'Asia/Tokyo'", "set datestyle = 'German'")
			one(t, c, byBinding, 40+i)
			one(t, c, byBinding, 40+i)
			before := fetched(fetcher)
			l.exec2(c, fmt.Sprintf("update berths set n = %d where id = %d", 1000+i, 40+i))
			require.Eventually(t, func() bool { return fetched(fetcher) >= before+1 }, time.Minute, time.Millisecond, why(fetcher))
			hits := func() (n int) {
				for _, e := range l.outcomes(byBinding, 0) {
					if e.Outcome == ledger.Hit {
						n++
					}
				}
				return n
			}
			already := hits()
			assert.Equal(t, fmt.Sprint(1000+i), one(t, c, byBinding, 40+i))
			require.Eventually(t, func() bool { return hits() > already }, time.Minute, time.Millisecond, "the next reader does not wait")
		})
	}
	t.Run("not counted", func(t *testing.T) {
		l.engine.Ledger.Applications(func(name string, _ *ledger.Tally) { assert.NotEqual(t, "jolly larder", name) })
	})
	t.Run("at the start", func(t *testing.T) {
		keys := l.engine.MostUsed(string(patternOf(byBinding)), 10)
		require.NotEmpty(t, keys)
		l.engine.DropPattern(patternOf(byBinding))
		before := fetched(fetcher)
		l.engine.WarmUp(&l.engine.Rules().List()[0], keys)
		require.Eventually(t, func() bool { return fetched(fetcher) >= before+uint64(len(keys)) }, time.Minute, time.Millisecond, why(fetcher))
		for _, k := range keys {
			assert.True(t, l.engine.Has(string(patternOf(byBinding)), k))
		}
	})
	t.Run("another user's", func(t *testing.T) {
		l.exec(l.direct, "drop role if exists fetch_u", "create role fetch_u login", "grant select on berths to fetch_u")
		defer l.exec(l.direct, "drop owned by fetch_u", "drop role fetch_u")
		c := connect(t, fmt.Sprintf("postgres://fetch_u@%s/%s?sslmode=disable", l.address, l.database), pgx.QueryExecModeExec)
		one(t, c, byBinding, 3)
		one(t, c, byBinding, 3)
		before := failed(fetcher)
		l.exec(l.through, "update berths set n = 5 where id = 3")
		require.Eventually(t, func() bool { return failed(fetcher) > before }, time.Minute, time.Millisecond)
		assert.Contains(t, why(fetcher), "results of the user fetch_u are not fetched by the account postgres")
	})
}

// The origin is asked for a share of would-be hits all the same; an answer that differs with no change to explain it is a stale catch.
func TestControlSamples(t *testing.T) {
	for name, c := range map[string]struct {
		read   string
		change func(*rules.Rule)
		around string
		stale  bool
		then   ledger.Outcome
		why    string
	}{
		"equal":            {"select n from berths where id = 1", nil, "", false, ledger.Miss, "a control sample: also asked of the database, to compare"},
		"in other order":   {"select n from berths where id < 9", nil, "update berths set n = n where id < 5", false, ledger.Miss, "a control sample: also asked of the database, to compare"},
		"old":              {"select n from berths where id = 2", nil, "update berths set n = -n where id = 2", true, ledger.Bypass, "its rule is paused after a stale answer"},
		"old, and goes on": {"select n from berths where id = 3", func(r *rules.Rule) { r.GoOn = true }, "update berths set n = -n where id = 3", true, ledger.Miss, ""},
		"an age accepted":  {"select n from berths where id = 4", func(r *rules.Rule) { r.TTLOnly = true }, "update berths set n = -n where id = 4", false, ledger.Miss, "a control sample: also asked of the database, to compare"},
		"any rows":         {"select n from berths limit 1", nil, "update berths set n = n + 1", false, ledger.Miss, "a control sample: also asked of the database, to compare"},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, fiftyBerths...)
			l.rule(c.read, func(r *rules.Rule) {
				r.ControlSample = 1
				if c.change != nil {
					c.change(r)
				}
			})
			conn := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			one(t, conn, c.read)
			if c.around != "" {
				l.exec(l.direct, c.around)
			}
			fresh := one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), c.read)
			assert.Equal(t, fresh, one(t, conn, c.read), "a sample is answered by the origin")
			samples := l.engine.Samples
			require.Eventually(t, func() bool {
				n := samples.Counts()
				judged := n.Equal + n.Explained + n.Unordered + n.Stale
				accepted := l.engine.Rules().List()[0].TTLOnly // an age that is accepted is not judged
				return accepted || n.Taken > 0 && judged == n.Taken
			}, time.Minute, time.Millisecond, "every sample is judged")
			caught := samples.Stale()
			require.Len(t, caught, map[bool]int{true: 1}[c.stale])
			if c.stale {
				assert.Equal(t, []string{"public.berths"}, caught[0].Tables)
			}
			assert.Equal(t, fresh, one(t, conn, c.read))
			outcome, why := l.became(c.read, 3)
			assert.Equal(t, c.then, outcome)
			assert.Equal(t, c.why, why)
		})
	}
}

func fetched(f *link.Fetcher) uint64 { done, _, _ := f.Counts(); return done }

func failed(f *link.Fetcher) uint64 { _, n, _ := f.Counts(); return n }

func why(f *link.Fetcher) string { _, _, why := f.Counts(); return why }
