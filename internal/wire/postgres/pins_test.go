package postgres_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

const pinSchema = `
create table ports (id int primary key, code varchar(4) unique, name text, zone int not null default 1, busy int generated always as (zone * 2) stored);
create table slots (port_id int, day date, n int, note text, primary key (port_id, day));
create table tokens (id uuid primary key, owner bigint, label text);
create table sailings (id serial primary key, port_id int references ports, seats numeric);
create table readings (id int, at date, v int) partition by range (id);
create table readings_a partition of readings for values from (0) to (100);
create table readings_b partition of readings for values from (100) to (200);
create table guarded (id int primary key, v int);
create function clamp() returns trigger language plpgsql as $$ begin new.id := least(new.id, 100); return new; end $$;
create trigger before_write before insert or update on guarded for each row execute function clamp();
create function echo() returns trigger language plpgsql as $$ begin update readings set v = new.v where id = new.id; return null; end $$;
create trigger after_write after update on guarded for each row execute function echo();
insert into ports (id, code, name, zone) select g, 'P' || g, 'port ' || g, g % 3 from generate_series(1, 9) g;
insert into slots select p, d::date, 0, '' from generate_series(1, 9) p, generate_series('2026-01-01'::timestamp, '2026-01-03', '1 day') d;
insert into tokens select ('00000000-0000-0000-0000-00000000000' || g)::uuid, g, 'l' from generate_series(1, 9) g;
insert into sailings (port_id, seats) select g, 5 from generate_series(1, 9) g;
insert into readings select g * 20, '2026-01-01', g from generate_series(0, 9) g;
insert into guarded select g, 0 from generate_series(1, 9) g;
insert into guarded values (60, 0);
`

// Each row: a read, a write that may change it, and one that cannot, after which the kept answer is still there.
var pinWays = []struct{ read, write, beside string }{
	{"select name from ports where id = 5", "update ports set name = 'x' where id = 5", "update ports set name = 'y' where id = 6"},
	{"select name from ports where 3 = id", "delete from ports where id = 0 or id = 3 and name = ''", "update ports set name = 'y' where id in (4, 6, -3)"},
	{"select name from ports where id in (2, 4)", "update ports set name = 'z' where id = 4", "update ports set name = 'y' where id = 6"},
	{"select name from ports where id = any('{2,7}')", "update ports set name = 'w' where id = '7'", "update ports set name = 'y' where id = any(array[3, 4])"},
	{"select count(*) from ports where id = -7", "insert into ports (id, code) values (-7, 'Q')", "insert into ports (id, code) values (70, 'R')"},
	// a value that is assigned counts before and after
	{"select count(*) from ports where zone = 40", "update ports set zone = 40 where zone = 39 or id = 2", "update ports set name = 'q' where zone = 41"},
	{"select count(*) from ports where zone = 50", "update ports set zone = 50 where zone = 40", "update ports set zone = 44 where zone = 43"},
	{"select count(*) from ports where zone = 44", "update ports set zone = zone + 1 where zone = 43", ""},
	{"select count(*) from ports where busy = 4", "update ports set zone = 2 where busy = 0", ""},
	// texts
	{"select name from ports where code = 'P5'", "update ports set name = 'v' where code = 'P5'", "update ports set name = 'v' where code = 'P6'"},
	{"select count(*) from ports where code = 'T1'", "insert into ports (id, code) values (71, 'T1     ')", "insert into ports (id, code) values (72, 'T2')"},
	{"select count(*) from ports where code = 'it''s'", "insert into ports (id, code) values (73, $$it's$$)", "insert into ports (id, code) values (74, 'it''')"},
	{"select count(*) from ports where name = 'Skær'", "insert into ports (id, name) values (75, 'Skær')", "update ports set name = 'Skar' where name = 'Skår'"},
	// dates, identifiers, several columns together
	{"select n from slots where port_id = 2 and day = '2026-01-02'", "update slots set n = 1 where day = '2026-01-02' and port_id = 2", "update slots set n = 1 where port_id = 2 and day = '2026-01-01'"},
	{"select sum(n) from slots where port_id = 3", "update slots set n = 1 where day = '2026-01-01' and port_id = 3", "update slots set n = 2 where port_id = 2 and day = '2026-01-01'"},
	{"select label from tokens where id = '00000000-0000-0000-0000-000000000005'", "update tokens set label = 'm' where id = '00000000000000000000000000000005'", "update tokens set label = 'k' where id = '00000000-0000-0000-0000-00000000000F'"},
	{"select label from tokens where owner = 4", "update tokens set label = 'n' where id = '00000000-0000-0000-0000-000000000004'", "update tokens set label = 'k' where owner = 40000000000"},
	// an addition does not change a row that is there, and may be one that was not
	{"select port_id from sailings where id = 4", "update sailings set seats = 4 where port_id = 4", "insert into sailings (port_id, seats) values (5, 1)"},
	{"select port_id from sailings where id = 11", "insert into sailings (port_id, seats) values (6, 1)", "update sailings set seats = 1 where id = 3"},
	{"select count(*) from sailings where id = 12", "insert into sailings (port_id, seats) values (6, 1)", "update sailings set seats = 1 where id = 3"},
	{"select name from ports where id = 8", "insert into ports (id, code) values (8, 'N') on conflict (id) do update set name = 'up'", "insert into ports (id, code) values (9, 'N') on conflict (id) do update set name = 'up'"},
	{"select name from ports where id = 7", "insert into ports (id, code) values (80, 'P7') on conflict (code) do update set name = 'up'", "insert into ports (id, code) values (90, 'N7') on conflict do nothing"},
	{"select count(*) from ports where id = 81", "insert into ports (id, code) values (80, 'R') on conflict (code) do update set id = 81", "insert into ports (id, code) values (82, 'N8') on conflict do nothing"},
	// joins
	{"select p.name from sailings s join ports p on p.id = s.port_id where s.port_id = 2", "update ports set name = 'j' where id = 2", "update ports set name = 'k' where id = 3"},
	{"select p.name from sailings s join ports p on p.id = s.port_id where s.id = 3", "update ports set name = 'j' where id = 3", "update sailings set seats = 9 where id = 4"},
	{"select count(*) from ports p left join sailings s on s.port_id = p.id and s.id = 5 where p.id = 5", "update sailings set port_id = 6 where id = 5", "update ports set name = 'k' where id = 3"},
	{"select count(*) from ports a join ports b on a.zone = b.zone where a.id = 1", "update ports set zone = 1 where id = 3", "update tokens set label = 'o' where id = '00000000-0000-0000-0000-000000000001'"},
	// parts, and triggers that write other rows than the statement says
	{"select v from readings where id = 40", "update readings_a set v = 9 where id = 40", "update readings set v = 9 where id = 120"},
	{"select v from readings_a where id = 60", "with w as (update guarded set v = 3 where id = 60 returning id) update readings set v = 3 where id = 120", "update readings set v = 4 where id = 120"},
	{"select count(*) from readings where id = 150", "insert into readings (id, v) values (150, 1)", "insert into readings_b (id, v) values (151, 1)"},
	{"select v from guarded where id = 100", "insert into guarded values (500, 1)", "delete from guarded where id = 4"},
	// what is no exact value
	{"select name from ports where id = 5.0", "update ports set name = 'f' where id = 5", ""},
	{"select name from ports where id = 6", "update ports set name = 'g' where id = 6.0", "update ports set name = 'h' where id = 3"},
	{"select name from ports where id = 2", "with w as (update ports set name = 'm' where id = 3) update ports set name = 'n' where id = 2", "update ports p set name = 'n' from sailings s where s.id = 2 and p.id = s.id + 1 and p.id = 3"},
	{"select name from ports where id = 4 and id = 5 or id = 3", "update ports set name = 'o' where id = 3", ""},
	{"select name from ports where id = 1 union select name from ports where id = 2", "update ports set name = 'p' where id = 2", ""},
}

// A write drops what reads one of its rows, and leaves what reads others.
func TestPins(t *testing.T) {
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeCacheStatement} {
		t.Run(mode.String(), func(t *testing.T) {
			l := newLarder(t, pinSchema)
			reader, writer := connect(t, l.through, mode), connect(t, l.through, mode)
			direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
			var reads []string
			for _, w := range pinWays {
				reads = append(reads, w.read)
			}
			l.keep(reads...)
			all := func(c *pgx.Conn, sql string) (out []string) {
				rows, err := c.Query(ctx, sql)
				require.NoError(t, err)
				defer rows.Close()
				for rows.Next() {
					v, err := rows.Values()
					require.NoError(t, err)
					out = append(out, fmt.Sprint(v))
				}
				require.NoError(t, rows.Err())
				return out
			}
			asked := map[string]int{}
			ask := func(sql string) ledger.Outcome {
				assert.Equal(t, all(direct, sql), all(reader, sql), sql)
				asked[string(patternOf(sql))]++
				outcome, _ := l.became(sql, asked[string(patternOf(sql))])
				return outcome
			}
			for _, w := range pinWays {
				require.Eventually(t, func() bool { ask(w.read); return ask(w.read) == ledger.Hit }, time.Minute, time.Millisecond, "%s is kept: %v", w.read, l.passed())
				for sql, want := range map[string]bool{w.beside: true} {
					if sql == "" {
						continue
					}
					_, err := writer.Exec(ctx, sql)
					require.NoError(t, err, sql)
					assert.Equal(t, want, ask(w.read) == ledger.Hit, "%s\nleaves\n%s", sql, w.read)
				}
				_, err := writer.Exec(ctx, w.write)
				require.NoError(t, err, w.write)
				assert.NotEqual(t, ledger.Hit, ask(w.read), "%s\nchanges\n%s", w.write, w.read)
			}
		})
	}
}

// Where the database has an equality of its own, a value tells nothing.
func TestAnEqualityOfItsOwn(t *testing.T) {
	l := newLarder(t, "create table codes (code varchar primary key, n int)", "insert into codes values ('a', 1), ('A', 2)",
		"create function alike(varchar, varchar) returns boolean language sql immutable as 'select lower($1::text) = lower($2::text)'",
		"create operator = (leftarg = varchar, rightarg = varchar, function = alike)")
	const read = "select sum(n) from codes where code = 'a'::varchar"
	l.keep(read)
	c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for range 2 {
		assert.Equal(t, "3", one(t, c, read))
	}
	_, err := c.Exec(ctx, "insert into codes values ('A ', 4)")
	require.NoError(t, err)
	_, err = c.Exec(ctx, "update codes set n = 5 where code = 'A'::varchar")
	require.NoError(t, err)
	assert.Equal(t, "10", one(t, c, read))
}

// Values that are bound narrow as literals do, in each format.
func TestBoundPins(t *testing.T) {
	l := newLarder(t, pinSchema)
	const byID, byDay, byToken, many = "select name from ports where id = $1", "select n from slots where port_id = $1 and day = $2", "select label from tokens where id = $1", "select count(*) from ports where id = any($1)"
	l.keep(byID, byDay, byToken, many)
	asked := map[string]int{}
	day := time.Date(2026, 1, 2, 0, 0, 0, 0, time.UTC)
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeCacheStatement, pgx.QueryExecModeExec, pgx.QueryExecModeDescribeExec} {
		t.Run(mode.String(), func(t *testing.T) {
			c := connect(t, l.through, mode)
			for _, w := range []struct {
				read           string
				args           []any
				write          string
				touches, other []any
			}{
				{byID, []any{5}, "update ports set name = 'b' where id = $1", []any{5}, []any{6}},
				{byID, []any{7}, "update ports set name = $2 where id = $1", []any{7, "c"}, []any{6, "7"}},
				{byDay, []any{2, day}, "update slots set n = 4 where port_id = $1 and day = $2", []any{2, day}, []any{3, day}},
				{byToken, []any{"00000000-0000-0000-0000-000000000003"}, "update tokens set label = 'x' where id = $1", []any{"00000000-0000-0000-0000-000000000003"}, []any{"00000000-0000-0000-0000-000000000004"}},
				{many, []any{[]int32{1, 2}}, "update ports set name = 'd' where id = any($1)", []any{[]int32{2, 3}}, []any{[]int32{3, 4}}},
			} {
				ask := func() ledger.Outcome {
					one(t, c, w.read, w.args...)
					asked[w.read]++
					return first(l.became(w.read, asked[w.read]))
				}
				require.Eventually(t, func() bool { return ask() == ledger.Hit }, time.Minute, time.Millisecond)
				for i, args := range [][]any{w.other, w.touches} {
					_, err := c.Exec(ctx, w.write, args...)
					require.NoError(t, err)
					outcome := ask()
					if i == 1 {
						assert.NotEqual(t, ledger.Hit, outcome, "%s %v", w.write, args)
					} else if mode != pgx.QueryExecModeExec || w.read != byDay { // there the day is sent as a time
						assert.Equal(t, ledger.Hit, outcome, "%s %v", w.write, args)
					}
				}
			}
		})
	}
}
