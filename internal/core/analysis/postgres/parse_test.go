package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/analysis"
)

func names(list []analysis.Name) string {
	var out []string
	for _, n := range list {
		out = append(out, n.String())
	}
	return strings.Join(out, " ")
}

// Each row: a statement, the tables it reads, those it writes, its effect, and the first reason not to keep it.
func TestFacts(t *testing.T) {
	const none = analysis.Effect(0)
	anything := analysis.Unknown | analysis.Settings | analysis.Commits
	for _, c := range []struct {
		sql, reads, writes string
		effect             analysis.Effect
		reason             string
	}{
		{"select 1", "", "", none, ""},
		{"select * from ports p join north.quays q using (id) where p.id in (select port from sailings)", "ports north.quays sailings", "", none, ""},
		{"select a from t union all select b from u except (table v)", "t u v", "", none, ""},
		{"with x as (select * from t) select * from x, lateral (select max(a) from u where u.id = x.id) m", "x u t", "", none, ""},
		{"select count(*), sum(n), lower(name), coalesce(a, 1), n::text, '2027-1-1'::date, date_trunc('day', at)::date from t group by 3 order by 1 limit 5", "t", "", none, ""},
		{"select case when a > 1 then 'x' end, array[1,2], (a).b, a[1], row_number() over (partition by b order by c) from t", "t", "", none, ""},
		{"values (1), (2)", "", "", none, ""},
		{"select current_user, at at time zone 'UTC', extract(year from at), age(a, b) from t", "t", "", none, ""},
		{"select now()", "", "", none, "calls now(), which changes with time"},
		{"select current_timestamp", "", "", none, "asks for the current time"},
		{"select age(a) from t", "t", "", none, "calls age(), which depends on today's date"},
		{"select name::timestamptz from t", "t", "", none, "casts to timestamptz what may be a text meaning the current time"},
		{"select 't'::regclass", "", "", none, "casts to regclass, a type that is not known"},
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
		{"with d as (delete from t returning *) insert into u select * from d", "d t", "u t", none, "writes"},
		{"with d as (update t set a = 1 returning *) select * from d", "d t", "t", none, "writes"},
		{"merge into t using u on t.id = u.id when matched then delete", "t u", "t", none, "writes"},
		{"truncate t, u", "", "t u", none, "writes"},
		{"truncate t cascade", "", "t", analysis.Unknown, "writes"},
		{"copy t from stdin", "", "t", none, "copies data in or out"},
		{"copy t to stdout", "t", "", none, "copies data in or out"},
		{"copy (select * from t) to stdout", "t", "", none, "copies data in or out"},
		{"explain select * from t", "", "", none, "shows a plan, which changes with statistics"},
		{"explain (analyze, buffers) delete from t", "t", "t", none, "shows a plan, which changes with statistics"},
		{"explain (analyze off) delete from t", "t", "t", none, "shows a plan, which changes with statistics"},
		{"declare c cursor for select * from t", "t", "", none, "opens a cursor, whose rows can be read only once"},
		{"begin", "", "", analysis.Begins, "begins or ends a transaction"},
		{"commit and chain", "", "", analysis.Commits, "begins or ends a transaction"},
		{"end", "", "", analysis.Commits, "begins or ends a transaction"},
		{"rollback", "", "", analysis.Ends, "begins or ends a transaction"},
		{"rollback to a", "", "", none, "begins or ends a transaction"},
		{"prepare transaction 'x'", "", "", analysis.Commits, "begins or ends a transaction"},
		{"commit prepared 'x'", "", "", analysis.Unknown, "begins or ends a transaction"},
		{"set time zone 'UTC'", "", "", analysis.Settings, "changes a setting of its session"},
		{"reset all", "", "", analysis.Settings, "changes a setting of its session"},
		{"set role ines", "", "", analysis.Settings, "changes a setting of its session"},
		{"discard all", "", "", analysis.Settings, "changes the state of its session"},
		{"show time zone", "", "", none, "is about the session or the server, not a question"},
		{"do $$ begin end $$", "", "", anything, "runs code, which may do anything"},
		{"call p()", "", "", anything, "runs a procedure, which may do anything"},
		{"execute p", "", "", anything, "runs a statement prepared in SQL, which is not followed"},
		{"create table t (a int)", "", "", analysis.Schema, "changes the schema, privileges or the like"},
		{"grant select on t to ines", "", "", analysis.Schema, "changes the schema, privileges or the like"},
		{"create extension x", "", "", analysis.Schema, "changes the schema, privileges or the like"},
		{"refresh materialized view v", "", "", analysis.Schema, "changes the schema, privileges or the like"},
		{"begin; insert into t values (1); commit", "", "t", analysis.Begins | analysis.Commits, "begins or ends a transaction"},
		{"select 1; select 2", "", "", none, "several statements in one string"},
		{"", "", "", none, "there is no statement in it"},
		{"selct 1", "", "", anything, `its SQL is not understood: syntax error at or near "selct"`},
	} {
		f := Facts(c.sql)
		assert.Equal(t, c.reads, names(f.Reads), "reads of %s", c.sql)
		assert.Equal(t, c.writes, names(f.Writes), "writes of %s", c.sql)
		assert.Equal(t, c.effect, f.Effect, "effect of %s", c.sql)
		first := ""
		if len(f.Reasons) > 0 {
			first = f.Reasons[0]
		}
		assert.Equal(t, c.reason, first, "reason of %s", c.sql)
	}
}

func TestIsolationOfBegin(t *testing.T) {
	for sql, want := range map[string]analysis.Isolation{
		"begin": analysis.DefaultIsolation, "start transaction read only": analysis.DefaultIsolation,
		"begin isolation level read committed": analysis.ReadCommitted, "begin isolation level read uncommitted": analysis.ReadCommitted,
		"begin isolation level repeatable read": analysis.SnapshotIsolation, "start transaction isolation level serializable, read only": analysis.SnapshotIsolation,
	} {
		assert.Equal(t, want, Facts(sql).Isolation, sql)
	}
}

func TestFunctionsThatAreNotKnown(t *testing.T) {
	f := Facts("select f(1), s.g(2), pg_catalog.lower('a'), lo_unlink(1), t.h from t")
	assert.Equal(t, "f s.g lo_unlink", names(f.Functions))
	assert.Contains(t, f.Attributes, "h", "t.h may be a call of h(t)")
}

func TestStatementsThatCannotBeParsedMayDoAnything(t *testing.T) {
	for _, sql := range []string{"(((", strings.Repeat("(", 100_000), "select " + strings.Repeat("(", 600) + "1" + strings.Repeat(")", 600), strings.Repeat("x", Longest+1), "select '\x00'", "\xff\xfe"} {
		f := Facts(sql)
		assert.NotZero(t, f.Effect&analysis.Unknown, sql[:min(len(sql), 20)])
		assert.False(t, f.Plain())
	}
}

func FuzzFacts(f *testing.F) {
	f.Add("select * from t where a = $1")
	f.Add("with x as (insert into t values (1) returning *) select * from x")
	f.Fuzz(func(t *testing.T, sql string) {
		facts := Facts(sql)
		assert.True(t, !facts.Plain() || facts.Effect == 0 && len(facts.Writes) == 0, "what writes or has an effect is never plain")
	})
}
