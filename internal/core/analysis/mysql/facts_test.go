package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/analysis"
	lexical "jollylarder/internal/core/statement/mysql"
)

// told gives facts in one line: the kind, what is read, what is written, what is called, the effects, and why its result
// is not cached.
func told(f *analysis.Facts) string {
	out := f.Called()
	names := func(what string, list []string) {
		if len(list) > 0 {
			out += " " + what + " " + strings.Join(list, ", ")
		}
	}
	var reads, writes, calls, effects, reasons []string
	for _, n := range f.Reads {
		reads = append(reads, n.String())
	}
	for _, w := range f.Writes {
		how := ""
		for i, e := range []string{"i", "u", "d", "t"} {
			if w.Events&(1<<i) != 0 {
				how += e
			}
		}
		writes = append(writes, w.Name.String()+"/"+how)
	}
	for _, n := range f.Functions {
		calls = append(calls, n.String())
	}
	for i, e := range []string{"settings", "schema", "anything", "begins", "ends", "commits", "shared"} {
		if f.Effect&(1<<i) != 0 {
			effects = append(effects, e)
		}
	}
	for _, why := range f.Reasons {
		reasons = append(reasons, why.String())
	}
	names("reads", reads)
	names("writes", writes)
	names("calls", calls)
	if len(effects) > 0 {
		out += " {" + strings.Join(effects, " ") + "}"
	}
	if len(reasons) > 0 {
		out += ": " + strings.Join(reasons, "; ")
	}
	return out
}

// What each statement does, in one line.
func TestFacts(t *testing.T) {
	for _, c := range [][2]string{
		{"select name from berths where id = 5", "select reads berths"},
		{"select a.name, b.* from Quays a join skerrow.berths b on a.id = b.quay where b.x in (select x from piers) order by 1 limit 5", "select reads Quays, skerrow.berths, piers"},
		{"with q as (select * from q) select * from q, Q", "select reads q, Q"},
		{"with recursive q as (select 1 n union all select n + 1 from q where n < 5) select * from q", "select"},
		{"(select a from t) union all (select b from u) order by 1", "select reads t, u"},
		{"select count(*), sum(a), group_concat(b) from t group by c", "select reads t"},
		{"select row_number() over (partition by a order by b) from t", "select reads t"},
		{"select now(), unix_timestamp(), unix_timestamp(a), uuid(), rand(), sleep(1), connection_id(), user(), database() from t", "select reads t: calls now(), which changes with time; calls unix_timestamp(), which changes with time; calls uuid(), which gives another value at every call; calls rand(), which gives another value at every call; calls sleep(), which waits, locks or notifies; calls connection_id(), which names the connection or transaction"},
		{"select load_price(3), skerrow.load_price(4)", "select calls load_price, skerrow.load_price"},
		{"select found_rows(), last_insert_id(), row_count()", "select: calls found_rows(), which asks about an earlier statement of its session; calls last_insert_id(), which asks about an earlier statement of its session; calls row_count(), which asks about an earlier statement of its session"},
		{"select @a, @@sql_mode, @b := 3", "select: reads or sets user variables; reads a setting"},
		{"select a from t for update", "select reads t: locks the rows it reads"},
		{"select a from t lock in share mode", "select reads t: locks the rows it reads"},
		{"select sql_calc_found_rows a from t limit 3", "select reads t: counts rows for FOUND_ROWS()"},
		{"select a into @x from t where b = 1", "select reads t: reads or sets user variables"},
		{"select a, b into @x, @y from t", "select reads t: reads or sets user variables"},
		{"select a from t into outfile '/tmp/x'", "select reads t: copies data in or out"},
		{"select t.a from t as of timestamp now()", "select reads t: uses a table of another time, which is not known to be safe"},
		{"select nextval(tickets), next value for tickets", "select: calls nextval(), which moves or reads a sequence"},
		{"select * from json_table('[]', '$[*]' columns(a int path '$')) x, berths", "select reads a, path, x, berths: its SQL is not understood: the grammar does not have it"},
		{"select a from berths offset 1 rows fetch next 2 rows only", "select reads a, berths, offset, next, only: its SQL is not understood: the grammar does not have it"},
		{"select cast(a as time), cast(b as datetime), time '10:00' from t", "select reads t: depends on today's date"},
		{"select * from information_schema.tables", "select reads information_schema.tables: reads the system table information_schema.tables"},
		{"select match(a) against ('x' in boolean mode) from t", "select reads t"},
		{"values (1, 2)", "select: its SQL is not understood: the grammar does not have it"},
		{"insert into t (a) values (1), (2)", "insert writes t/i: writes"},
		{"insert into t select * from u", "insert reads u writes t/i: writes"},
		{"insert into t (a) values (price(1)) on duplicate key update a = values(a)", "insert writes t/iu calls price: writes"},
		{"insert ignore into t set a = 1", "insert writes t/i: writes"},
		{"insert into t (a) values (1) returning id, price(a)", "insert writes t/i calls price: writes"},
		{"delete from t where a = 1 returning a", "delete writes t/d: writes"},
		{"replace into d.t values (1)", "insert writes d.t/id: writes"},
		{"update t set a = 1, b = (select max(c) from u) where d = 2 order by e limit 3", "update reads u writes t/u: writes"},
		{"update t x join u y on x.a = y.a set x.b = 1", "update reads t, u writes t/u, u/u: writes"},
		{"with c as (select a from u) update t join c on t.a = c.a set t.b = 1", "update reads u, t writes t/u: writes"},
		{"delete from t where a = 1", "delete writes t/d: writes"},
		{"delete x, u from t x join u using (a) join v using (b)", "delete reads t, u, v writes t/d, u/d: writes"},
		{"delete from x using t as x join u on x.a = u.a", "delete reads t, u writes t/d: writes"},
		{"load data local infile 'x' into table t (a, @b) set c = @b", "load writes t/id: writes; reads or sets user variables; copies data in or out"},
		{"truncate table t", "truncate writes t/t {commits}: writes"},
		{"set autocommit = 0", "set {settings commits}: changes a setting of its session"},
		{"set names utf8mb4", "set {settings}: changes a setting of its session"},
		{"set @a = 1, @b = (select max(c) from t)", "set reads t: reads or sets user variables"},
		{"set global sql_mode = ''", "set {settings schema shared}: changes a setting of its session"},
		{"set session transaction isolation level read committed", "set {settings}: changes a setting of its session"},
		{"set transaction read only", "set {settings}: changes a setting of its session"},
		{"set statement max_statement_time = 1 for select a from t", "select reads t: changes a setting of its session"},
		{"use skerrow", "use {settings}: changes a setting of its session"},
		{"begin", "begin {begins commits}: begins or ends a transaction"},
		{"begin work", "begin {begins commits}: begins or ends a transaction"},
		{"start transaction with consistent snapshot", "begin {begins commits}: begins or ends a transaction"},
		{"commit", "commit {commits}: begins or ends a transaction"},
		{"commit and chain", "commit {begins commits}: begins or ends a transaction and begins the next"},
		{"rollback", "rollback {ends}: begins or ends a transaction"},
		{"rollback to savepoint a", "savepoint: goes back to a savepoint"},
		{"savepoint a", "savepoint: sets a savepoint"},
		{"release savepoint a", "savepoint: forgets a savepoint"},
		{"call refit(3, (select max(a) from t))", "call reads t calls refit {settings commits}: runs a procedure"},
		{"do release_lock('a'), price(3)", "do calls price: runs code; calls release_lock(), which waits, locks or notifies"},
		{"do setval(`tickets`, 5, 0), price(1)", "do reads tickets calls price: its SQL is not understood: the grammar does not have it; calls setval(), which moves or reads a sequence"},
		{"prepare S from 'select a from t where b = ?'", "prepare: prepares a statement for its session"},
		{"prepare s from @q", "prepare: prepares a statement for its session"},
		{"execute s using @a", "execute {settings anything commits shared}: runs a statement that was prepared in SQL, and is not known"},
		{"deallocate prepare s", "deallocate: forgets a prepared statement"},
		{"lock tables t read, u write", "lock tables {commits}: locks a table"},
		{"unlock tables", "unlock tables {commits}: locks a table"},
		{"flush tables", "flush {commits}: is a maintenance command"},
		{"analyze table t", "analyze table {commits}: is a maintenance command"},
		{"optimize table t", "optimize table {commits}: is a maintenance command"},
		{"repair table t", "repair {schema commits}: is a maintenance command"},
		{"kill query 5", "kill: ends or cancels another connection"},
		{"show tables", "show: reads the system catalogs"},
		{"show warnings", "show: asks about an earlier statement of its session"},
		{"show engine innodb status", "show: reports the server's activity"},
		{"describe t", "show: reads the system catalogs"},
		{"explain select a from t", "explain: shows a plan, which changes with statistics"},
		{"explain extended select a from t", "explain: shows a plan, which changes with statistics"},
		{"analyze select a from t", "explain reads t: shows a plan, which changes with statistics"},
		{"analyze format=json update t set a = 1", "explain writes t/u: writes; shows a plan, which changes with statistics"},
		{"create table t (a int)", "create table {schema commits}: creates a table"},
		{"create temporary table t select * from u", "create table reads u {settings}: makes something temporary for its session"},
		{"drop temporary table t", "drop table: makes something temporary for its session"},
		{"create table t like u", "create table {schema commits}: creates a table"},
		{"drop table t", "drop table {settings schema commits}: changes the schema or privileges"},
		{"alter table t add column b int", "alter table {schema commits}: changes the schema or privileges"},
		{"rename table a to b", "rename table {schema commits}: changes the schema or privileges"},
		{"create index i on t (a)", "create index {schema commits}: changes the schema or privileges"},
		{"create or replace view v as select 1", "create view {schema commits}: changes the schema or privileges"},
		{"create trigger x before insert on t for each row set new.a = 1; ", "create trigger {schema commits}: changes the schema or privileges"},
		{"create definer=ines@localhost function f() returns int begin select 1 into @a; return 1; end", "create function {settings schema anything commits shared}: changes the schema or privileges"},
		{"create server s foreign data wrapper mysql options (host 'x'); set names gbk", "create server {settings schema anything commits shared}: changes the schema or privileges"},
		{"drop trigger x", "drop trigger {schema commits}: changes the schema or privileges"},
		{"create event e on schedule every 1 day do delete from t", "create event {schema commits}: changes the schema or privileges"},
		{"create procedure p() begin delete from t; end", "create procedure {schema commits}: changes the schema or privileges"},
		{"grant select on a.* to ines", "grant {schema commits shared}: changes privileges"},
		{"set password = 'x'", "set password {schema commits shared}: changes privileges"},
		{"create user x", "create user {schema commits shared}: changes privileges"},
		{"xa start 'a'", "unknown {settings anything commits shared}: its SQL is not understood: the grammar does not have it"},
		{"handler t open", "unknown {settings anything commits shared}: its SQL is not understood: the grammar does not have it"},
		{"binlog 'x'", "unknown {settings anything commits shared}: its SQL is not understood: the grammar does not have it"},
		{"select 1; select 2", "several: several statements in one string"},
		{"update t set a = 1; nonsense", "unknown {settings anything commits shared}: its SQL is not understood: the grammar does not have it"},
		{"nonsense", "unknown {settings anything commits shared}: its SQL is not understood: the grammar does not have it"},
		{"select /* c */ a from t -- b", "select reads t"},
		{"select /*! a */ from t", "unknown {settings anything commits shared}: its SQL is not understood: a comment of which it is not certain that the server leaves it out"},
		{"insert into mysql.user values (1)", "insert writes mysql.user/i {schema shared}: writes"},
		{"select * from berths partition (p0) use index (i)", "select reads berths"},
		{"select tests from berths where a regexp 'x' and b like 'y' and c <=> null and d div 2 and not e", "select reads berths"},
		{"select sys_guid(), json_arrayagg(a order by b), percentile_cont(0.5) within group (order by a) over () from t", "select reads a, b, within, t: its SQL is not understood: the grammar does not have it; calls sys_guid(), which gives another value at every call"},
		{"select a from t where b = (select c from u where u.d = t.d) and exists (select 1 from v)", "select reads t, u, v"},
		{"select a from t1, lateral (select b from t2 where t2.a = t1.a) x", "select reads t1, t2"},
		{"select 1 from dual", "select"},
		{"table berths", "select reads berths"},
	} {
		assert.Equal(t, c[1], told(Facts(lexical.Syntax, c[0])), c[0])
	}
}

// What stands in double quotes is a text or a name, as the session's mode has it.
func TestFactsByMode(t *testing.T) {
	const sql = `select "a" from "t" where b = 'x\'`
	assert.Equal(t, "select reads t", told(Facts(lexical.Of(lexical.ANSIQuotes|lexical.NoBackslashEscapes), sql)))
	assert.Contains(t, told(Facts(lexical.Syntax, sql)), "its SQL is not understood")
	assert.Equal(t, "select reads t", told(Facts(lexical.Syntax, "select \"from u\" from `t`")))
}

// A statement that SQL prepares does what it does each time that it is run, if its text stands there.
func TestFactsOfWhatIsPrepared(t *testing.T) {
	f := Facts(lexical.Syntax, "prepare S from 'update t set a = 1'")
	assert.Equal(t, "s", f.Prepares)
	assert.Equal(t, "update writes t/u: writes", told(f.Prepared))
	assert.NotZero(t, Facts(lexical.Syntax, "prepare s from @q").Prepared.Effect&analysis.Unknown)
	assert.Equal(t, "s", Facts(lexical.Syntax, "execute S").Executes)
}

// A tree that is too deep, or a text that is too long, is not read, and may do anything.
func TestFactsOfWhatIsTooLarge(t *testing.T) {
	for _, sql := range []string{
		"select " + strings.Repeat("(", 100_000) + "1" + strings.Repeat(")", 100_000),
		"select 1" + strings.Repeat("+1", 20_000), "insert into t values (1" + strings.Repeat(",1", 200_000) + ")",
	} {
		f := Facts(lexical.Syntax, sql)
		assert.Equal(t, analysis.KindUnknown, f.Kind)
		assert.NotZero(t, f.Effect&analysis.Unknown)
	}
}

// Whatever the text is, reading it ends, and what is not understood may do anything.
func FuzzFacts(f *testing.F) {
	f.Add("select a from t where b = 'x' and c in (1, 2) limit 5", byte(0))
	f.Add("delete x from t x join `u` using (a) returning a", byte(1))
	f.Add("set statement max_statement_time = 1 for select \"a\" into @b from t", byte(3))
	f.Fuzz(func(t *testing.T, sql string, mode byte) {
		facts := Facts(lexical.Of(lexical.Mode(mode)), sql)
		if facts.Kind == analysis.KindUnknown {
			assert.NotZero(t, facts.Effect&analysis.Unknown)
		}
		if len(facts.Writes) > 0 {
			assert.False(t, facts.Plain())
		}
	})
}

// Some writes come after the reply, also where they stand among others.
func TestWritesThatComeLater(t *testing.T) {
	for sql, want := range map[string]bool{
		"insert delayed into t values (1)": true, "replace delayed into t values (1)": true, "insert into t values (1)": false, "insert low_priority into t values (1)": false,
		"insert delayed into t values (1); insert into t values (2)": true,
	} {
		assert.Equal(t, want, Facts(lexical.Syntax, sql).Later, sql)
	}
}
