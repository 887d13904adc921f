package postgres_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A definition that has nothing to do with a result leaves it in memory, and keeps nobody from being answered. One that is
// sent while a catalog that has just been read is put in place drops everything, to be safe: that may happen to any, but not
// to the same one every time.
func TestDefinitionsThatDoNotConcernAResult(t *testing.T) {
	sent := []string{
		"grant select on ports to public", // before anything of it is open
		"create table quays (id serial primary key, port int references ports on delete cascade, at timestamptz default now(), name text check (name <> ''))",
		"insert into quays (port, name) select null, 'east' from generate_series(1, 3)", "create index on quays (name)", "create unique index on quays (port, name)", "alter table quays add column depth numeric(6, 2) not null default 3.5",
		"update quays set depth = 4", "alter table quays rename column depth to metres", "alter table quays rename to piers", "delete from piers", "drop table piers", "create table calls_2026 partition of calls for values from ('2026-01-01') to ('2027-01-01')",
		"insert into calls values (1, '2026-05-01')", "comment on table berths is 'where ships lie'", "create temp table mine (id int)", "insert into mine values (1)", "drop table mine", "create view idle as select id from ports where n = 0", "drop view idle",
		"begin", "create table gone (id int)", "insert into gone values (1)", "rollback", "create sequence turns", "drop sequence turns", "create table copied as select * from ports", "drop table copied cascade",
		"analyze", "vacuum",
	}
	var dropped []string
	for round := range 3 {
		if now := droppedBy(t, sent); round == 0 {
			dropped = now
		} else {
			dropped = slices.DeleteFunc(dropped, func(sql string) bool { return !slices.Contains(now, sql) })
		}
		if len(dropped) == 0 {
			return
		}
	}
	t.Error("in each of three rounds a result was dropped by:", strings.Join(dropped, "; "))
}

// droppedBy gives those of some statements behind which what does not rest on them is not answered from memory.
func droppedBy(t *testing.T, sent []string) (list []string) {
	l := newLarder(t, berths, oneBerth, "create table ports (id int primary key, n int)", "create table calls (id int, at date) partition by range (at)", "create view busy as select n from berths", "select 1")
	l.cacheAll()
	c, other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	read := func() { one(t, c, readBerth) }
	l.hit(c, read)
	for _, sql := range sent {
		_, err := other.Exec(ctx, sql)
		require.NoError(t, err, sql)
		if read(); !wasHit(t, c) {
			list = append(list, sql)
			l.hit(c, read)
		}
	}
	return list
}

// One that does concern it is followed at once, and the result is kept again soon.
func TestDefinitionsThatConcernAResult(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	c, other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	read := func() string { return text(t, c, "select * from berths where id = 1") }
	for _, sql := range []string{"alter table berths add column depth int default 7", "alter table berths alter depth type text using 'deep'", "alter table berths drop column depth", "drop table berths; create table berths as select 1 as id, 77 as n"} {
		l.hit(c, func() { read() })
		for _, one := range []string{"begin", sql} {
			_, err := other.Exec(ctx, one)
			require.NoError(t, err, sql)
		}
		_, err := other.Exec(ctx, "commit")
		require.NoError(t, err, sql)
		want := text(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select * from berths where id = 1")
		for range 5 {
			assert.Equal(t, want, read(), sql)
		}
	}
}

// A suite of tests that makes and drops tables all the time is answered from memory in between: at once of what stays, and of
// what is new as soon as its definition has been read.
func TestASuiteThatMakesTablesAllTheTime(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(c, func() { text(t, c, readBerth) })
	dropped := 0
	for i := range 10 {
		table := fmt.Sprint("fixture", i)
		for _, sql := range []string{"begin", "create table " + table + " (id serial primary key, name text not null)", "create index on " + table + " (name)", "insert into " + table + " (name) values ('a'), ('b')", "commit"} {
			_, err := c.Exec(ctx, sql)
			require.NoError(t, err)
		}
		if text(t, c, readBerth); !wasHit(t, c) {
			dropped++
			l.hit(c, func() { text(t, c, readBerth) })
		}
		l.hit(c, func() { assert.Equal(t, "2|\n", text(t, c, "select count(*) from "+table)) })
		_, err := c.Exec(ctx, "drop table "+table)
		require.NoError(t, err)
	}
	assert.Less(t, dropped, 5, "what stays is answered from memory, but for definitions that meet with a catalog being put in place")
}

// What a unique index said of a table is not so any more when it has gone, and rows of a table's type are written otherwise
// when the table is.
func TestWhatADefinitionSaidElsewhere(t *testing.T) {
	l := newLarder(t, berths, oneBerth, "create table plain (id int default 1, n int)", "create unique index alone on plain (id)", "insert into plain values (1, 10), (2, 20)",
		"create table kind (a int, b int)", "create table uses (id int primary key, k kind)", "insert into uses values (1, row(1, 2))")
	l.cacheAll()
	c, other, direct := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	for read, sent := range map[string][]string{
		"select n from plain where id = 1 order by n":        {"drop index alone", "insert into plain (n) values (70)"},
		"select row_to_json(k)::text from uses where id = 1": {"alter table kind rename b to c"},
		"select k::text from uses where id = 1":              {"alter table kind add column d int"},
	} {
		l.hit(c, func() { text(t, c, read) })
		for _, sql := range sent {
			_, err := other.Exec(ctx, sql)
			require.NoError(t, err, sql)
			l.know()
			assert.Equal(t, text(t, direct, read), text(t, c, read), "%s after %s", read, sql)
		}
	}
}

// A table that is put into the schema of temporary ones stands before others of its name, for its session alone.
func TestATableInTheTemporarySchema(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(c, func() { one(t, c, readBerth) })
	for _, sql := range []string{"create table pg_temp.berths (id int, n int)", "insert into pg_temp.berths values (1, 777)"} {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	for range 20 {
		require.Equal(t, "777", one(t, c, readBerth))
	}
}

// A schema that is made may stand in a search path that named it already.
func TestASchemaOfASearchPathIsMade(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	c, other := connect(t, l.through, pgx.QueryExecModeSimpleProtocol), connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "set search_path = north, public")
	require.NoError(t, err)
	read := func() string { return text(t, c, readBerth) }
	l.hit(c, func() { read() })
	for _, sql := range []string{"create schema north", "create table north.berths as select id, 50 as n from public.berths"} {
		_, err := other.Exec(ctx, sql)
		require.NoError(t, err)
	}
	l.hit(other, func() { one(t, other, "select n from berths where id = 1 and n = n") })
	l.hit(c, func() { assert.Equal(t, "50|\n", read()) })
	_, err = other.Exec(ctx, "update north.berths set n = 51")
	require.NoError(t, err)
	assert.Equal(t, "51|\n", read())
}
