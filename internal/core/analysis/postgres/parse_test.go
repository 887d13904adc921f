package postgres

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/postgres/grammar"
	syntax "jollylarder/internal/core/statement/postgres"
)

func names(list []analysis.Name) string {
	var out []string
	for _, n := range list {
		out = append(out, n.String())
	}
	return strings.Join(out, " ")
}

func written(list []analysis.Write) string {
	var out []string
	for _, w := range list {
		out = append(out, w.String())
	}
	return strings.Join(out, " ")
}

// Each row: a statement, the tables it reads, those it writes, its effect, and the first reason not to keep it.
func TestFacts(t *testing.T) {
	const none = analysis.Effect(0)
	unreadable := analysis.Unknown | analysis.Shared | analysis.Settings | analysis.Commits
	anything := analysis.Unknown | analysis.Settings | analysis.Commits
	for _, c := range []struct {
		sql, reads, writes string
		effect             analysis.Effect
		reason             string
	}{
		{"select 1", "", "", none, ""},
		{"select * from ports p join north.quays q using (id) where p.id in (select port from sailings)", "ports north.quays sailings", "", none, ""},
		{"select a from t union all select b from u except (table v)", "t u v", "", none, ""},
		{"with x as (select * from t) select * from x, lateral (select max(a) from u where u.id = x.id) m", "t u", "", none, ""},
		{"select count(*), sum(n), lower(name), coalesce(a, 1), n::text, '2027-1-1'::date, date_trunc('day', at)::date from t group by 3 order by 1 limit 5", "t", "", none, ""},
		{"select case when a > 1 then 'x' end, array[1,2], (a).b, a[1], row_number() over (partition by b order by c) from t", "t", "", none, ""},
		{"values (1), (2)", "", "", none, ""},
		{"select current_user, at at time zone 'UTC', extract(year from at), age(a, b) from t", "t", "", none, ""},
		{"select now()", "", "", none, "calls now(), which changes with time"},
		{"select current_timestamp", "", "", none, "asks for the current time"},
		{"select age(a) from t", "t", "", none, "calls age(), which depends on today's date"},
		{"select lower(name)::timestamptz from t", "t", "", none, "casts to timestamptz what may be a text meaning the current time"},
		{"select 't'::regclass", "", "", none, ""},
		{"select * from t for share", "t", "", none, "locks the rows it reads"},
		{"select * from t tablesample system (1)", "t", "", none, "uses RangeTableSample, which is not known to be safe"},
		{"select nextval('s')", "", "", none, "calls nextval(), which moves or reads a sequence"},
		{"select pg_advisory_lock(1)", "", "", none, "calls pg_advisory_lock(), which waits, locks or notifies"},
		{"select set_config('a.b', 'c', false)", "", "", analysis.Settings, "changes a setting of its session"},
		{"select * into u from t", "t", "", analysis.Schema, "creates a table"},
		{"insert into t select * from u", "u", "t", none, "writes"},
		{"insert into t values ((select max(a) from u)) on conflict (id) do update set a = excluded.a returning id", "u", "t", none, "writes"},
		{"update t set a = 1 from u where u.id = t.id", "t u", "t", none, "writes"},
		{"delete from t using u where u.id = t.id", "t u", "t", none, "writes"},
		{"with d as (delete from t returning *) insert into u select * from d", "t", "t u", none, "writes"},
		{"with d as (update t set a = 1 returning *) select * from d", "t", "t", none, "writes"},
		{"merge into t using u on t.id = u.id when matched then delete", "t u", "t", none, "writes"},
		{"truncate t, u", "", "t u", none, "writes"},
		{"truncate t cascade", "", "t", none, "writes"},
		{"copy t from stdin", "", "t", none, "copies data in or out"},
		{"copy t to stdout", "t", "", none, "copies data in or out"},
		{"copy (select * from t) to stdout", "t", "", none, "copies data in or out"},
		{"explain select * from t", "", "", none, "shows a plan, which changes with statistics"},
		{"explain (analyze, buffers) delete from t", "t", "t", none, "shows a plan, which changes with statistics"},
		{"explain (analyze off) delete from t", "t", "t", none, "shows a plan, which changes with statistics"},
		{"declare c cursor for select * from t", "t", "", none, "opens a cursor, whose rows can be read only once"},
		{"begin", "", "", analysis.Begins, "begins or ends a transaction"},
		{"commit and chain", "", "", analysis.Commits, "begins or ends a transaction and begins the next"},
		{"end", "", "", analysis.Commits, "begins or ends a transaction"},
		{"rollback", "", "", analysis.Ends, "begins or ends a transaction"},
		{"rollback to a", "", "", none, "goes back to a savepoint"},
		{"prepare transaction 'x'", "", "", analysis.Ends, "prepares its transaction for two-phase commit"},
		{"commit prepared 'x'", "", "", analysis.Unknown | analysis.Shared, "commits what another session may have written"},
		{"set time zone 'UTC'", "", "", analysis.Settings, "changes the setting timezone of its session"},
		{"reset all", "", "", analysis.Settings, "changes all settings of its session"},
		{"set local role ines", "", "", analysis.Settings, "changes the setting role for its transaction"},
		{"set role ines", "", "", analysis.Settings, "changes the setting role of its session"},
		{"discard all", "", "", analysis.Settings | analysis.System, "discards the state of its session"},
		{"show time zone", "", "", none, "shows a setting of its session"},
		{"do $$ begin end $$", "", "", anything, "runs code, which may do anything"},
		{"call p()", "", "", analysis.Settings | analysis.Commits, "runs a procedure"},
		{"execute p", "", "", anything, "runs a statement that was prepared in SQL, and is not known"},
		{"create table t (a int)", "", "", analysis.System, "changes the definition of what it names"},
		{"grant select on t to ines", "", "", analysis.System, "changes privileges"},
		{"grant select on all tables in schema public to ines", "", "", analysis.Schema, "changes the schema or privileges"},
		{"create extension x", "", "", analysis.Schema, "changes the schema or privileges"},
		{"refresh materialized view v", "", "v", analysis.System, "writes"},
		{"refresh materialized view concurrently v", "", "v", analysis.System | analysis.Settings, "writes"},
		{"reindex table t", "", "", analysis.System, "is a maintenance command"},
		{"create temp table x (a int)", "", "", analysis.Settings | analysis.System, "makes something temporary for its session"},
		{"begin; insert into t values (1); commit", "", "t", analysis.Begins | analysis.Commits, "begins or ends a transaction"},
		{"select 1; select 2", "", "", none, "several statements in one string"},
		{"", "", "", none, "there is no statement in it"},
		{"selct 1", "", "", unreadable, `its SQL is not understood: syntax error`},
	} {
		f := Facts(c.sql)
		assert.Equal(t, c.reads, names(f.Reads), "reads of %s", c.sql)
		assert.Equal(t, c.writes, written(f.Writes), "writes of %s", c.sql)
		assert.Equal(t, c.effect, f.Effect, "effect of %s", c.sql)
		first := ""
		if len(f.Reasons) > 0 {
			first = f.Reasons[0].String()
		}
		assert.Equal(t, c.reason, first, "reason of %s", c.sql)
	}
}

func TestIsolationOfBegin(t *testing.T) {
	for sql, want := range map[string]analysis.Isolation{
		"begin": analysis.DefaultIsolation, "start transaction read only": analysis.DefaultIsolation,
		"begin isolation level read committed": analysis.ReadCommitted, "begin isolation level read uncommitted": analysis.ReadCommitted,
		"begin isolation level repeatable read": analysis.RepeatableRead, "start transaction isolation level serializable, read only": analysis.Serializable,
	} {
		assert.Equal(t, want, Facts(sql).Isolation, sql)
	}
}

// Where the order of rows decides, the same rows may give another result.
func TestWhatRestsOnTheOrderOfRows(t *testing.T) {
	for sql, want := range map[string]bool{
		"select * from t": false, "select * from t order by a": false, "select count(*), max(a) from t group by b": false, "select distinct a from t": false,
		"select * from t limit 3": true, "select * from t order by a limit 3": true, "select * from t order by a offset 1": true, "select distinct on (a) b from t order by a": true,
		"select array_agg(a) from t": true, "select string_agg(a, ',') from t": true, "select json_agg(t) from t": true, "select json_agg(a order by b) from t": true, "select percentile_disc(0.5) within group (order by a) from t": false,
		"select row_number() over (order by a) from t": true, "select sum(a) over w from t window w as (order by b)": true, "select own_aggregate(a) from t": true,
		"select * from (select a from t order by a limit 1) x": true, "select xmlagg(x) from t": true,
	} {
		assert.Equal(t, want, Facts(sql).AnyRows, sql)
	}
}

func TestFunctionsThatAreNotKnown(t *testing.T) {
	f := Facts("select f(1), s.g(2), pg_catalog.lower('a'), lo_export(1, 'x'), t.h from t")
	assert.Equal(t, "f s.g lo_export", names(f.Functions))
	assert.Equal(t, "h", f.Fields[0].Name, "t.h may be a call of h(t)")
}

func TestStatementsThatCannotBeParsedMayDoAnything(t *testing.T) {
	for _, sql := range []string{"(((", strings.Repeat("(", 100_000), "select 1" + strings.Repeat("+1", 100_000), "select a" + strings.Repeat("::a", 50_000), strings.Repeat("x", grammar.Longest+1), "select '\x00'", "\xff\xfe"} {
		f := Facts(sql)
		assert.NotZero(t, f.Effect&analysis.Unknown, sql[:min(len(sql), 20)])
		assert.False(t, f.Plain())
	}
}

// A reason is shown to people, and must not tell a literal.
func TestReasonsTellNoLiteral(t *testing.T) {
	for sql, want := range map[string]string{
		"select 'secret":           "its SQL is not understood: unterminated quoted string",
		"select 1 2":               "its SQL is not understood: syntax error",
		"select * from t wher a":   "its SQL is not understood: syntax error",
		"select 1 from from":       `its SQL is not understood: syntax error at or near "from"`,
		"alter role x password S3": "its SQL is not understood: syntax error",
		"select f(1 'secret' 'x')": "its SQL is not understood: syntax error",
	} {
		assert.Equal(t, want, Facts(sql).Reasons[0].String(), sql)
	}
}

// A load of rows of many megabytes is known by its first row.
func TestLongStatementsAreReadByTheirPattern(t *testing.T) {
	sql := "insert into t (a, b) values " + strings.Repeat("(1, 'x'), ", 300_000) + "(2, 'y')"
	require.Greater(t, len(sql), grammar.Longest)
	assert.NotZero(t, Facts(sql).Effect&analysis.Unknown)
	f := Facts(syntax.Syntax.Parameterised(syntax.Syntax.Normalise([]byte(sql))))
	assert.Equal(t, "t", written(f.Writes))
	assert.Zero(t, f.Effect)
	f = Facts(syntax.Syntax.Parameterised(syntax.Syntax.Normalise([]byte("select a[1], b::varchar, -5 from t where a in (1, 2) and b = 'x' and (c, d) in ((1, 2), (3, 4)) limit 3"))))
	assert.Equal(t, "t", names(f.Reads))
	assert.True(t, f.Plain(), f.Reasons)
}

// Each row: a body in PL/pgSQL, the tables it reads, those it writes, or why it is not followed. Every place is there in
// which a body can hold an expression or a statement.
func TestBodies(t *testing.T) {
	for body, want := range map[string][2]string{
		"declare n int := (select max(a) from t); begin return n; end":                                                                      {"t", ""},
		"declare n int default f((select a from t)); c cursor (x int) for select * from u; begin open c(n); end":                            {"t u", ""},
		"declare r t%rowtype := (select t from t); begin return r.a; end":                                                                   {"t", ""},
		"declare r record := (select t from t); begin return r.a; end":                                                                      {"it gives a record a first value, which is not followed", "!"},
		"declare r record; begin select * into r from t where a = 1; return r.a; end":                                                       {"t", ""},
		"begin if exists (select 1 from t) then return 1; elsif (select true from u) then return 2; else delete from v; end if; end":        {"t u v", "v"},
		"begin case (select a from t) when (select 1 from u) then insert into v values (1); else null; end case; end":                       {"t u", "v"},
		"begin for i in (select 1 from t)..(select 2 from u) by (select 3 from v) loop perform (select 1 from w); end loop; end":            {"t u v w", ""},
		"declare r record; begin for r in select * from t loop update u set a = r.a; end loop; end":                                         {"t u", "u"},
		"declare r record; c cursor for select * from t; begin for r in c loop null; end loop; end":                                         {"t", ""},
		"declare x int; begin foreach x in array (select a from t) loop null; end loop; end":                                                {"t", ""},
		"begin while (select true from t) loop exit when (select true from u); end loop; end":                                               {"t u", ""},
		"declare a int[]; begin a[(select 1 from t)] := (select 2 from u); return a[1]; end":                                                {"t u", ""},
		"begin new.x := (select 1 from t); new.y = (select 2 from u); return new; end":                                                      {"t u", ""},
		"begin begin insert into t values (1); exception when others then insert into u values (1); end; end":                               {"", "t u"},
		"begin raise notice '%', (select 1 from t) using hint = (select 'x' from u); assert (select true from v), (select 'm' from w); end": {"t u v w", ""},
		"declare c refcursor; x record; begin open c for select * from t; fetch c into x; close c; end":                                     {"t", ""},
		"begin return query select * from t; return query with x as (delete from u returning *) select * from x; end":                       {"t u", "u"},
		"begin return next (select a from t); end":                                                                                          {"t", ""},
		"begin merge into t using u on true when matched then delete; truncate v; end":                                                      {"t u", "t v"},
		"begin execute 'select 1'; end":                                                {"it runs SQL that is made at run time", "!"},
		"begin return query execute 'select 1'; end":                                   {"it runs SQL that is made at run time", "!"},
		"declare c refcursor; begin open c for execute 'select 1'; end":                {"it runs SQL that is made at run time", "!"},
		"declare r record; begin for r in execute 'select 1' loop null; end loop; end": {"it runs SQL that is made at run time", "!"},
		"begin this is not; end":                                                       {"its body is not understood", "!"},
	} {
		returns := "setof int"
		if !strings.Contains(body, "return query") && !strings.Contains(body, "return next") {
			returns = "trigger"
		}
		f, err := Body("create function f() returns " + returns + " language plpgsql as $b$" + body + "$b$")
		if want[1] == "!" {
			assert.ErrorContains(t, err, want[0], body)
			continue
		}
		if assert.NoError(t, err, body) {
			reads, writes := strings.Fields(names(f.Reads)), strings.Fields(written(f.Writes))
			slices.Sort(reads)
			slices.Sort(writes)
			assert.Equal(t, want, [2]string{strings.Join(reads, " "), strings.Join(writes, " ")}, body)
		}
	}
	f, err := Body("create function f(a int default g(1)) returns int language sql begin atomic select a from t; insert into u values (1); end")
	require.NoError(t, err)
	assert.Equal(t, "t / u / g", names(f.Reads)+" / "+written(f.Writes)+" / "+names(f.Functions))
	_, err = Body("create function f() returns int language plpython3u as 'return 1'")
	assert.EqualError(t, err, "it is written in plpython3u")
}

// The shape of a function's body, whatever it holds, is either known whole or not at all.
func FuzzBody(f *testing.F) {
	for _, body := range []string{"begin insert into t values (1); return 1; end", "declare n int := f(2); begin execute 'x'; end", "begin n[1] := 3; for r in select * from t loop perform g(r.a); end loop; end"} {
		f.Add(body)
	}
	f.Fuzz(func(t *testing.T, body string) {
		for _, language := range []string{"plpgsql", "sql"} {
			facts, err := Body("create function f() returns int language " + language + " as $b$" + body + "$b$")
			assert.True(t, (facts == nil) == (err != nil))
		}
	})
}

func FuzzFacts(f *testing.F) {
	f.Add("select * from t where a = $1")
	f.Add("with x as (insert into t values (1) returning *) select * from x")
	f.Fuzz(func(t *testing.T, sql string) {
		facts := Facts(sql)
		assert.True(t, !facts.Plain() || facts.Effect == 0 && len(facts.Writes) == 0, "what writes or has an effect is never plain")
	})
}
