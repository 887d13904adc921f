package postgres_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
)

// Each row: a read, a write that reaches it by a way that neither's text shows, and one that does not, which leaves the
// kept answer where it is.
var hiddenWays = []struct{ read, write, beside string }{
	// views, nested, with rules and triggers of their own
	{"select vessel from open_sailings where id = 4", "update vessels set name = 'Tern'", "update ports set harbour_master = 'Ines'"},
	{"select count(*) from board", "update sailings set state = 'shut' where id = 5", "update fares set price = 3"},
	{"select name from ports where id = 2", "update plain_ports set name = 'Skarvoy' where id = 2", "insert into north.ports values (7, 'x')"},
	{"select count(*) from sailings where id > 500", "insert into open_sailings (id, departs_at) values (900, '2026-07-01')", ""},
	{"select name from north.board", "update north.ports set name = 'Outer'", "update ports set harbour_master = 'Ida'"},
	{"select count(*) from audit where what = 'fare'", "insert into fares (route_id, class, price) values (1, 'car', 9)", "update fares set price = 4"},
	// materialised views
	{"select sum(seats) from busy", "refresh materialized view busy", "delete from bookings where id = 1"},
	// partitions and inheritance, both ways
	{"select count(*) from tide_readings", "insert into tides_2027 values (9, '2027-05-01', 1)", "insert into staff values (70, 'x')"},
	{"select count(*) from tides_2026", "delete from tide_readings where port_id = 1 and taken_at < '2027-01-01'", "delete from tides_2027 where port_id = 9"},
	{"select count(*) from tides_2027", "update tide_readings set taken_at = '2027-08-01' where port_id = 2 and taken_at = (select min(taken_at) from tides_2026)", ""},
	{"select count(*) from staff", "insert into crew values (99, 'c', 1, 'deck')", "update vessels set name = 'Skua'"},
	{"select name from crew where id = 11", "update staff set name = 'Ola' where id = 11", ""},
	// foreign keys with cascades
	{"select count(*) from sailings where vessel_id = 3", "delete from vessels where id = 3", "insert into vessels (id, name) values (60, 'x')"},
	{"select count(*) from routes where origin = 5", "update ports set id = 55 where id = 5", "update ports set name = 'Y' where id = 6"},
	{"select count(*) from routes where id = 8", "with b as (delete from bookings), f as (delete from fares) delete from ports where id = 99", ""},
	// triggers, in SQL and PL/pgSQL, nested, and one of which nothing is known
	{"select count(*) from archive", "delete from notices where id = 3", "update notices set body = 'y' where id = 4"},
	{"select n from counters where name = 'bookings'", "insert into bookings values (900, 1, 1, 1)", "delete from archive"},
	{"select count(*) from audit", "update passengers set email = null where id = 1", "insert into passengers values (60, 'x')"},
	// functions
	{"select route_name(1)", "update ports set name = 'Z' where id = 1", "update fares set price = 5"},
	{"select nested_load(7)", "update vessels set seats = 7", "update fares set price = 6"},
	{"select atomic_count()", "insert into notices values (200, 1, 'x')", "update fares set price = 7"},
	{"select count(*) from counters where name = 'seen'", "select count_up('seen')", "select doubled(2)"},
	{"select count(*) from notices where id < 0", "call tidy()", "select load_of(1)"},
	{"select 3 <~> 2", "insert into ports values (81, 'x')", "update fares set price = 8"},
	{"select 'unsaid'::unseen", "insert into notices values (201, 1, 'z')", "update fares set price = 9"},
	{"select p.way_from from ports p where id = 4", "update routes set origin = 6 where id = 4", "update fares set price = 10"},
	// row security
	{"select count(*) from secrets", "update grants_of set may = false", "update fares set price = 11"},
	// identity, generated, references that truncate
	{"select count(*) from fares", "truncate routes cascade", ""},
	// the system catalogs
	{"select count(*) from information_schema.columns where table_name = 'ports'", "alter table ports add column depth int", "update fares set price = 12"},
	{"select count(*) from pg_class where relname = 'mine'", "create temp table mine (a int)", "insert into notices values (202, 1, 'w')"},
}

func TestHiddenDependencies(t *testing.T) {
	l := newLarder(t, hiddenSchema)
	l.exec(l.direct, "create role ferryman", "grant all on all tables in schema public, north to ferryman", "grant usage on schema north to ferryman", "grant ferryman to postgres")
	defer l.exec(l.direct, "drop owned by ferryman", "drop role ferryman")
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	for _, c := range []*pgx.Conn{reader, direct} { // one who is subject to row security
		_, err := c.Exec(ctx, "set role ferryman")
		require.NoError(t, err)
	}
	var reads []string
	for _, w := range hiddenWays {
		reads = append(reads, w.read)
	}
	l.keep(reads...)
	for _, w := range hiddenWays {
		n := 0
		ask := func() ledger.Outcome {
			got := one(t, reader, w.read)
			assert.Equal(t, one(t, direct, w.read), got, "%s, after %s", w.read, w.write)
			n++
			outcome, _ := l.became(w.read, n)
			return outcome
		}
		write := func(sql string) {
			if sql == "" {
				return
			}
			c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol) // open to the end: what is temporary goes with it
			_, err := c.Exec(ctx, sql)
			require.NoError(t, err, sql)
		}
		require.Eventually(t, func() bool { ask(); return ask() == ledger.Hit }, time.Minute, 5*time.Millisecond, "%s is kept: %v", w.read, l.passed())
		write(w.beside)
		assert.Equal(t, ledger.Hit, ask(), "%s has nothing to do with %s", w.beside, w.read)
		write(w.write)
		assert.NotEqual(t, ledger.Hit, ask(), "%s changes what is kept of %s", w.write, w.read)
	}
}

// What a function does that nobody can see may be declared, and then counts.
func TestDeclarations(t *testing.T) {
	l := newLarder(t, hiddenSchema)
	const read, plain = "select loyalty_points(3)", "select count(*) from ports"
	keepWith := func(declared ...rules.Declaration) {
		var list []rules.Rule
		for _, sql := range []string{read, plain} {
			list = append(list, rules.Rule{Pattern: patternOf(sql), Action: rules.Cache, TTL: time.Minute, ControlSample: -1})
		}
		l.engine.SetRules(rules.NewSet(list, declared...))
	}
	keepWith()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, c, read)
	outcome, why := l.became(read, 1)
	assert.Equal(t, ledger.Bypass, outcome)
	assert.Equal(t, "calls loyalty_points(), whose tables are not known: it runs SQL that is made at run time", why)

	keepWith(rules.Declaration{Function: "loyalty_points", Declaration: catalog.Declaration{Reads: []string{"bookings"}}},
		rules.Declaration{Pattern: patternOf(plain), Declaration: catalog.Declaration{Reads: []string{"public.vessels"}}})
	for i, sql := range []string{read, read, plain, plain} {
		before := one(t, c, sql)
		assert.Equal(t, []ledger.Outcome{ledger.Miss, ledger.Hit}[i%2], first(l.became(sql, []int{2, 3, 1, 2}[i])), before)
	}
	_, err := c.Exec(ctx, "insert into bookings values (901, 1, 3, 1)")
	require.NoError(t, err)
	one(t, c, read)
	assert.Equal(t, ledger.Miss, first(l.became(read, 4)))
	_, err = c.Exec(ctx, "update vessels set name = 'Fulmar'")
	require.NoError(t, err)
	one(t, c, plain)
	assert.Equal(t, ledger.Miss, first(l.became(plain, 3)), "declared for the pattern")
}

func first(o ledger.Outcome, _ string) ledger.Outcome { return o }

// A definition that is changed around the larder is noticed by the slow poll, and what was kept goes.
func TestDefinitionsChangedAround(t *testing.T) {
	l := newLarder(t, "create table berths (n int)", "create view shown as select n from berths", "insert into berths values (1)", "create table quays (n int)", "insert into quays values (7)")
	l.age = 20 * time.Millisecond
	l.serve(server.Address())
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	l.know()
	const read = "select n from shown"
	l.keep(read)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	kept := func() bool {
		n := len(l.outcomes(read, 0))
		one(t, c, read)
		return first(l.became(read, n+1)) == ledger.Hit
	}
	require.Eventually(t, kept, time.Minute, 5*time.Millisecond)
	l.exec(l.direct, "create or replace view shown as select n from quays")
	require.Eventually(t, func() bool { return one(t, c, read) == "7" }, time.Minute, 5*time.Millisecond)
	require.Eventually(t, kept, time.Minute, 5*time.Millisecond)
	_, err := c.Exec(ctx, "update quays set n = 8")
	require.NoError(t, err)
	assert.Equal(t, "8", one(t, c, read), "its new dependency counts")
}

// The catalog may be read by an account of the larder's own; then no client's connection is asked for it.
func TestCatalogByItsOwnAccount(t *testing.T) {
	l := newLarder(t, "create table berths (n int)", "create view shown as select n from berths", "insert into berths values (1)")
	l.exec(l.direct, "drop role if exists harbour_reader", "create role harbour_reader login", "create role harbour_client login", "grant select on shown to harbour_client")
	defer l.exec(l.direct, "drop owned by harbour_client", "drop role harbour_reader", "drop role harbour_client")
	l.serve(server.Address())
	l.through = "postgres://harbour_client@" + l.address + "/" + l.database + "?sslmode=disable"
	l.server.Configure(link.Settings{Catalog: &link.Account{User: "harbour_reader"}})
	l.know()
	const read = "select n from shown"
	l.keep(read)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for range 3 {
		assert.Equal(t, "1", one(t, c, read))
	}
	assert.Equal(t, ledger.Hit, first(l.became(read, 3)))
}

// What is judged by a function's name alone must hold for every overload of it: none that the server calls volatile is
// taken to be steady, and none may write unnoticed that is not known to be harmless.
func TestReviewedFunctionsAgainstTheServer(t *testing.T) {
	_, schema := hidden(t)
	c := connect(t, server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	rows, err := c.Query(ctx, `select proname, max(provolatile::text), bool_or(prokind = 'p') from pg_proc
		where pronamespace = 'pg_catalog'::regnamespace and proname not in ('age', 'timezone') group by 1`)
	require.NoError(t, err)
	steady, stable := 0, 0
	for rows.Next() {
		var name, volatility string
		var procedure bool
		require.NoError(t, rows.Scan(&name, &volatility, &procedure))
		f := facts.Facts(`select pg_catalog."` + name + `"()`)
		r := schema.Resolve(f, publicPath)
		switch volatility {
		case "v":
			assert.NotEmpty(t, r.Reasons, "%s is volatile", name)
		case "s":
			stable++
			if len(r.Reasons) == 0 {
				steady++
			}
		case "i":
			assert.False(t, r.Everything, "%s is immutable", name)
		}
	}
	assert.Greater(t, stable, 300)
	assert.Greater(t, steady, 50, "the reviewed ones")
}

// A client whose statements are cut short lets the catalog be read by another, and not be taken for one that cannot be had.
func TestATimeoutOverTheCatalog(t *testing.T) {
	l := newLarder(t, hiddenSchema)
	l.serve(server.Address())
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	hasty := connect(t, l.through+"&statement_timeout=1", pgx.QueryExecModeSimpleProtocol)
	assert.Equal(t, "1", one(t, hasty, "select 1"))
	l.know()
	l.engine.Databases(func(_ string, known, whole bool, _ []string) { assert.True(t, known && whole) })
}
