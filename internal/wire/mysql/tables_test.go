package mysql_test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	described "jollylarder/internal/core/catalog/mysql"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
	wire "jollylarder/internal/wire/mysql"
)

// The server's own knowledge of which tables a statement needs is its metadata locks, which it holds until the end of the
// transaction. What the larder finds in a statement's text and in the schema must name them all.

// island is a database for random statements: its tables have the same columns, and names that are easily mistaken.
type island struct {
	t        testing.TB
	random   *rand.Rand
	does     *sql.Conn
	looks    *sql.DB
	thread   int
	names    []string // of tables and views, as they are written
	views    map[string]bool
	function []string
	ctes     []string
}

var columns = "(id int primary key, a int, b varchar(40), c datetime, key (a)) engine="

// islandTables are its tables by their names as they are written.
var islandTables = []string{"ports", "Ports", "`order`", "2027_log", "skerrow2.sailings", "`har bour`.`a``b`", "_x$1", "sailings"}

func newIsland(t testing.TB, seed uint64) *island {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	root := connect(t, server.Address(), "root", "", "")
	root.SetMaxOpenConns(4)
	c, err := root.Conn(context.Background())
	require.NoError(t, err)
	x := &island{t: t, random: rand.New(rand.NewPCG(seed, 0)), does: c, looks: root, views: map[string]bool{}}
	for _, q := range []string{"create database skerrow2", "create database `har bour`", "use skerrow2"} {
		x.must(q)
	}
	t.Cleanup(func() {
		c.Close()
		for _, d := range []string{"`har bour`", "skerrow2"} {
			if root.Ping() == nil {
				_, err := root.Exec("drop database " + d)
				assert.NoError(t, err)
			}
		}
	})
	require.NoError(t, c.QueryRowContext(context.Background(), "select connection_id()").Scan(&x.thread))
	x.must("set max_statement_time = 1") // some joins would take hours
	for i, n := range islandTables {
		if n != "skerrow2.sailings" {
			x.must("create table " + n + " " + columns + []string{"innodb", "innodb", "myisam", "aria"}[i%4])
		}
		x.names = append(x.names, n)
	}
	x.must("create table child (id int primary key, a int, b varchar(40), c datetime, foreign key (a) references ports (a) on delete cascade on update cascade) engine=innodb")
	x.must("create table `har bour`.grandchild (id int primary key, a int, b varchar(40), c datetime, foreign key (a) references skerrow2.child (id) on delete set null on update cascade) engine=innodb")
	x.names = append(x.names, "child")
	for i := range 3 {
		x.function = append(x.function, fmt.Sprintf("f%d", i))
		x.must(fmt.Sprintf("create function f%d(x int) returns int reads sql data begin declare n int; select count(*) into n from %s; return n; end", i, x.pick(x.names...)))
	}
	x.must("create function writes(x int) returns int deterministic modifies sql data begin insert into `order` (id, b) values (x + 1000, 'x'); return x; end")
	x.must("create procedure does(x int) begin update Ports set a = writes(x) where id = x; delete from `har bour`.`a``b` where id = x; end")
	for i := range 6 {
		name := fmt.Sprintf("view%d", i)
		for try := 0; ; try++ {
			require.Less(t, try, 60)
			if _, err := c.ExecContext(context.Background(), "create view "+name+" as "+x.selects(2, true)); err == nil {
				break
			}
		}
		x.views[name] = true
		x.names = append(x.names, name)
	}
	x.must("create trigger t1 after insert on 2027_log for each row insert ignore into ports (id, a) select id + 5000, a from `order` limit 1")
	x.must("create trigger t2 before update on sailings for each row set new.a = f1(new.id)")
	x.must("create trigger t3 after delete on child for each row call does(old.id)")
	for _, n := range islandTables {
		x.must("insert ignore into " + n + " values (1, 1, 'one', now()), (2, 2, 'two', now())")
	}
	return x
}

func (x *island) must(q string) {
	_, err := x.does.ExecContext(context.Background(), q)
	require.NoError(x.t, err, q)
}

// pick gives one of several, and one is true as often as n times.
func (x *island) pick(list ...string) string { return list[x.random.IntN(len(list))] }
func (x *island) one(n int) bool             { return x.random.IntN(n) == 0 }

func (x *island) often(text string, n int) string {
	if x.one(n) {
		return text
	}
	return ""
}

// expression gives one over the columns of the tables of these aliases.
func (x *island) expression(aliases []string, depth int) string {
	column := func() string {
		c := x.pick("id", "a", "b", "c")
		if len(aliases) == 0 {
			return x.literal()
		}
		return x.pick(aliases...) + "." + c
	}
	if depth <= 0 {
		return x.pick(column(), column(), x.literal())
	}
	e := func() string { return x.expression(aliases, depth-1) }
	switch x.random.IntN(26) {
	case 0:
		return "(" + x.selects(depth-1, false) + ")"
	case 1:
		return "exists (" + x.selects(depth-1, false) + ")"
	case 2:
		return e() + " in (" + x.scalar(depth-1) + ")"
	case 3:
		return e() + x.pick(" = any ", " <> all ", " > some ") + "(" + x.scalar(depth-1) + ")"
	case 4:
		return x.pick(x.function...) + "(" + e() + ")"
	case 5:
		return "skerrow2." + x.pick(x.function...) + "(" + e() + ")"
	case 6:
		return "case when " + e() + " then " + e() + " else " + e() + " end"
	case 7:
		return "case " + e() + " when " + e() + " then " + e() + " end"
	case 8:
		return e() + x.pick(" between ", " not between ") + x.literal() + " and " + x.literal()
	case 9:
		return e() + x.pick(" like ", " not like ") + x.pick("'a%'", "'!%' escape '!'")
	case 10:
		return x.pick("substring(", "mid(") + e() + x.pick(" from 1 for 2)", ", 2)", " from 2)")
	case 11:
		return "trim(" + x.pick("leading 'x' from ", "both from ", "") + e() + ")"
	case 12:
		return "date_add(" + e() + ", interval " + x.pick("1 day", "'1:1' minute_second", "a hour") + ")"
	case 13:
		return x.pick("cast(", "convert(") + e() + x.pick(" as char)", " as signed)")
	case 14:
		return "convert(" + e() + " using utf8mb4)"
	case 15:
		return x.pick("concat", "coalesce", "greatest", "concat_ws", "ifnull", "nullif", "mod", "if") + "(" + e() + ", " + e() + x.often(", "+e(), 2) + ")"
	case 16:
		return "extract(" + x.pick("year", "day_hour") + " from " + e() + ")"
	case 17:
		return "position(" + x.literal() + " in " + e() + ")"
	case 18:
		return x.pick("-", "!", "~", "not ", "binary ") + "(" + e() + ")"
	case 19:
		return "(" + e() + x.pick(" is null", " is not true", " is unknown", " collate utf8mb4_bin") + ")"
	case 20:
		return "(" + e() + ", " + e() + ") " + x.pick("=", "<=>") + " (" + e() + ", " + x.literal() + ")"
	case 21:
		return "@v" + x.pick("", " := 1")
	case 22:
		return "json_extract('{\"a\": 1}', '$.a')"
	case 23:
		return e() + x.pick(" regexp ", " rlike ") + "'x'"
	default:
		return e() + x.pick("+", " - ", "*", "/", " div ", " % ", " and ", " or ", " xor ", "=", "<=>", "<>", "!=", "<", ">=", "<<", "|", "&", "^", " && ") + e()
	}
}

func (x *island) literal() string {
	return x.pick("1", "-2", "'quay'", `"it's"`, `'it\'s -- /* x */'`, "0x41", "x'41'", "b'101'", "1.5e2", ".5", "null", "true", "date '2027-03-01'", "'a' 'b'", "N'x'", "_utf8mb4'y'", "@@sql_mode", "current_user", "version()", "'from ports'")
}

// name gives one of a table or view, perhaps with its schema.
func (x *island) name() string {
	n := x.pick(x.names...)
	if !strings.Contains(n, ".") && x.one(4) {
		return x.pick("skerrow2.", "`skerrow2`.", "skerrow2 . ") + n
	}
	return n
}

// from gives what stands behind FROM, and the aliases.
func (x *island) from(depth int) (text string, aliases []string) {
	source := func() string {
		alias := fmt.Sprintf("t%d", x.random.IntN(1000))
		aliases = append(aliases, alias)
		as := x.pick(" ", " as ") + alias
		switch {
		case depth > 0 && x.one(5):
			return "(" + x.selects(depth-1, true) + ")" + as
		case len(x.ctes) > 0 && x.one(2):
			return x.pick(x.ctes...) + as
		}
		hint := x.often(x.pick(" use index (primary)", " ignore index for join (a)", " force key (a)"), 12)
		return x.name() + as + hint
	}
	text = source()
	for range x.random.IntN(3) {
		switch x.random.IntN(8) {
		case 0:
			text += ", " + source()
		case 1:
			text += " natural join " + source()
		case 2:
			text += x.pick(" join ", " left join ", " right outer join ") + source() + " using (id)"
		case 3:
			text += " straight_join " + source()
		case 4:
			text += " cross join " + source()
		case 5:
			text = "(" + text + " join " + source() + " on true)"
		default:
			on := text + x.pick(" join ", " inner join ", " left join ") + source()
			text = on + " on " + x.expression(aliases, 1)
		}
	}
	return text, aliases
}

// scalar gives a query of one column.
func (x *island) scalar(depth int) string {
	from, aliases := x.from(depth - 1)
	return "select " + x.pick(aliases...) + ".a from " + from
}

// selects gives a query, with four columns of the usual names if it is to be used as a table.
func (x *island) selects(depth int, asTable bool) string {
	before := len(x.ctes)
	defer func() { x.ctes = x.ctes[:before] }()
	with := ""
	if depth > 0 && x.one(5) {
		name := x.pick("q", "ports", "Q", "sailings") // which hides the table of the name, from here on
		if x.one(3) {
			with = "with recursive " + name + " (id, a, b, c) as (select 1, 2, cast('x' as char(40)), now() union all select id + 1, a, b, c from " + name + " where id < 3) "
		} else {
			with = "with " + name + " as (" + x.selects(depth-1, true) + ") "
		}
		x.ctes = append(x.ctes, name)
	}
	from, aliases := x.from(depth)
	list := x.expression(aliases, depth)
	if asTable {
		of := x.pick(aliases...)
		list = fmt.Sprintf("%[1]s.id, %[1]s.a, %[2]s b, %[1]s.c", of, x.pick(of+".b", "concat("+x.expression(aliases, 1)+", '')"))
	} else if x.one(4) {
		list = "count(*), max(" + x.expression(aliases, 1) + "), group_concat(" + x.expression(aliases, 0) + x.pick(" order by 1", " separator '-'", "") + ")"
	}
	q := "select " + x.often(x.pick("distinct ", "straight_join ", "sql_no_cache ", "high_priority ", "sql_small_result "), 8) + list + " from " + from
	q += x.often(" where "+x.expression(aliases, depth), 2)
	q += x.often(" limit "+x.pick("5", "2, 5", "5 offset 1"), 4)
	if x.one(8) && !strings.Contains(q, " limit ") {
		other, others := x.from(depth - 1)
		of := x.pick(others...)
		back := of + ".id"
		if asTable {
			back = fmt.Sprintf("%[1]s.id, %[1]s.a, %[1]s.b, %[1]s.c", of)
		}
		if asTable || !strings.Contains(list, "count(*)") {
			q += x.pick(" union ", " union all ", " except ", " intersect ") + "select " + back + " from " + other
		}
	}
	return with + q
}

// statement gives any statement that a transaction can hold.
func (x *island) statement() string {
	t := func() string { return x.name() }
	e := func(a ...string) string { return x.expression(a, 2) }
	id := x.random.IntN(100_000) + 10
	switch x.random.IntN(22) {
	case 0:
		return fmt.Sprintf("insert %sinto %s (id, a) values (%d, %s), (%d, default)", x.pick("", "ignore ", "high_priority "), t(), id, x.expression(nil, 2), id+1)
	case 1:
		return fmt.Sprintf("insert ignore into %s (id, a, b, c) %s", t(), x.selects(2, true))
	case 2:
		return fmt.Sprintf("insert into %s set id = %d, a = %s on duplicate key update a = values(a), b = (%s limit 1)", t(), id, x.literal(), x.scalar(1))
	case 3:
		return fmt.Sprintf("replace into %s (id, b) values (1, %s)", t(), x.expression(nil, 1))
	case 4:
		return fmt.Sprintf("insert into %s (id) values (%d) returning id, %s", t(), id, x.expression(nil, 1))
	case 5, 6:
		n := t()
		return fmt.Sprintf("update %s%s set %s.a = %s where %s%s", x.often("ignore ", 4), n+" u", "u", e("u"), e("u"), x.often(" order by id limit 3", 3))
	case 7:
		n, m := t(), t()
		return fmt.Sprintf("update %s u join %s w on u.id = w.id, (%s) d set %s.b = %s where %s", n, m, x.selects(1, true), x.pick("u", "w"), e("w"), e("u", "w", "d"))
	case 8, 9:
		return fmt.Sprintf("delete %sfrom %s where %s%s", x.pick("", "quick ", "ignore "), t(), x.expression(nil, 2), x.often(" limit 2", 3))
	case 10:
		return fmt.Sprintf("delete %s from %s u join %s w on u.id = w.a where %s", x.pick("u", "w", "u, w", "u.*"), t(), t(), e("u", "w"))
	case 11:
		return fmt.Sprintf("delete from %s using %s u left join %s w using (id)", x.pick("u", "w"), t(), t())
	case 12:
		return fmt.Sprintf("delete from %s where id = %d returning id, a", x.pick(islandTables...), id)
	case 13:
		return "call does(" + x.literal() + ")"
	case 14:
		return "do " + x.pick("writes(1)", x.expression(nil, 2))
	case 15:
		return "set @v = (" + x.scalar(2) + " limit 1)"
	case 16:
		return "set statement max_statement_time = 5 for " + x.selects(2, false)
	case 17:
		return x.selects(2, false) + x.pick(" for update", " lock in share mode")
	case 18:
		return x.scalar(1) + " limit 1 into @v"
	case 19:
		return "select writes(" + x.pick("1", "a") + ") from " + t()
	default:
		return x.selects(3, false)
	}
}

// dressed writes a statement in another way that means the same.
func (x *island) dressed(q string) string {
	if x.one(4) {
		q = strings.ReplaceAll(q, " from ", x.pick("\nFROM\t", " /* from x */ from ", " -- from x\n from ", " From ", " /*!50001 from */ ", " /*M! from */ ", " /*!99999 , nowhere.x */ from ", " # '\n from "))
	}
	if x.one(6) {
		q = strings.Replace(q, "select ", x.pick("SELECT ", "select/**/", "Select\n", "select /*+ x */ "), 1)
	}
	return q + x.pick("", "", " ", ";", " -- end", " /*route='x'*/")
}

// needed gives the tables for which the server holds locks, and which of them it may write.
func (x *island) needed() (all, written []string) {
	rows, err := x.looks.Query("select concat(object_schema, '.', object_name), lock_type from performance_schema.metadata_locks l join performance_schema.threads t on l.owner_thread_id = t.thread_id where t.processlist_id = ? and object_type = 'TABLE' and lock_status = 'GRANTED'", x.thread)
	require.NoError(x.t, err)
	defer rows.Close()
	for rows.Next() {
		var name, how string
		require.NoError(x.t, rows.Scan(&name, &how))
		if x.views[strings.TrimPrefix(name, "skerrow2.")] || strings.HasPrefix(name, "performance_schema.") || strings.HasPrefix(name, "mysql.") {
			continue
		}
		all = append(all, name)
		if !strings.HasPrefix(how, "SHARED_READ") && how != "SHARED" && how != "SHARED_HIGH_PRIO" {
			written = append(written, name)
		}
	}
	return all, written
}

// tally is what became of statements.
type tally struct {
	run, refused, unread, everything int
	overlooked                       []string
}

// compares runs statements, and holds what is found in them against what the server needs for them.
func (x *island) compares(s catalog.Schema, statements int) (out tally) {
	maria := syntax.Server{MariaDB: true, Version: 101119}
	for range statements {
		q := x.dressed(x.statement())
		x.must("begin")
		rows, err := x.does.QueryContext(context.Background(), q)
		if err != nil && x.looks.Ping() != nil {
			x.t.Logf("the server itself ended at %q", q)
			return out
		}
		if err == nil {
			for more := true; more; more = rows.NextResultSet() {
				for rows.Next() {
				}
			}
			err = rows.Err()
			rows.Close()
		}
		all, written := x.needed()
		x.must("rollback")
		if err != nil {
			out.refused++
			continue
		}
		out.run++
		text, ok := maria.Resolve([]byte(q), 0)
		require.True(x.t, ok, q)
		f := facts.Facts(syntax.Syntax, string(text))
		r := s.Resolve(f, catalog.Hints{Path: []string{"skerrow2"}})
		if f.Kind == analysis.KindUnknown {
			out.unread++
		}
		if r.Everything {
			out.everything++
		}
		locks := slices.Contains(f.Reasons, reason.Of(reason.Locks))
		for _, t := range all {
			switch {
			case slices.Contains(written, t) && !locks:
				if !r.Everything && !slices.Contains(r.Writes, t) {
					out.overlooked = append(out.overlooked, "written: "+t+" by "+q)
				}
			case len(r.Reasons) == 0 && !slices.Contains(r.Reads, t):
				out.overlooked = append(out.overlooked, "read: "+t+" by "+q)
			}
		}
	}
	return out
}

// describe gives the schema of the server.
func describeServer(t testing.TB) *described.Described {
	cfg := driver.NewConfig()
	cfg.User, cfg.Net, cfg.Addr = "root", "tcp", server.Address()
	d, err := wire.Describe(context.Background(), cfg)
	require.NoError(t, err)
	for i := range d.References { // it locks the tables that refer to one, whichever columns are set
		d.References[i].Columns = "id,a,b,c"
	}
	return d
}

// Each function that the server has is judged by its name: none is taken for one of a database's own.
func TestEveryFunctionOfTheServerIsJudged(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	rows, err := connect(t, server.Address(), "root", "", "").Query("select lower(function) from information_schema.sql_functions")
	require.NoError(t, err)
	defer rows.Close()
	judged := 0
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		f := facts.Facts(syntax.Syntax, "select "+name+"(a) from t")
		if f.Kind != analysis.KindUnknown && len(f.Reasons) == 0 || len(f.Functions) > 0 {
			judged++
		}
		assert.Empty(t, f.Functions, name)
	}
	require.NoError(t, rows.Err())
	assert.Greater(t, judged, 100)
}

// asked gives a number that whoever runs the test may set: make check-tables does.
func asked(variable string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(variable)); err == nil {
		return n
	}
	return usual
}

// No table is overlooked that the server needs for a statement, whatever the statement is, and most are understood.
func TestNoTableIsOverlooked(t *testing.T) {
	seed, statements := asked("SEED", 1), asked("STATEMENTS", 3000)
	x := newIsland(t, uint64(seed))
	got := x.compares(describeServer(t).Schema(), statements)
	for _, o := range got.overlooked[:min(len(got.overlooked), 8)] {
		assert.Fail(t, "overlooked", o)
	}
	t.Logf("%d statements run, %d refused, %d not read, %d that may write any table", got.run, got.refused, got.unread, got.everything)
	assert.Greater(t, got.run, got.refused/2, "many statements are good ones")
	assert.Less(t, got.unread, got.run/40)
}

// The comparison finds a larder that knows less than there is.
func TestTablesThatAreOverlookedAreFound(t *testing.T) {
	x := newIsland(t, 2)
	for name, less := range map[string]func(*described.Described){
		"views": func(d *described.Described) {
			d.Views = nil
			d.Tables = slices.DeleteFunc(d.Tables, func(t described.Table) bool { return t.Type == "VIEW" })
		},
		"triggers":   func(d *described.Described) { d.Triggers = nil },
		"references": func(d *described.Described) { d.References = nil },
	} {
		d := describeServer(t)
		less(d)
		if name == "views" { // which are then taken for tables
			for v := range x.views {
				d.Tables = append(d.Tables, described.Table{Schema: "skerrow2", Name: v, Type: "BASE TABLE", Engine: "InnoDB"})
			}
		}
		assert.NotEmpty(t, x.compares(d.Schema(), 250).overlooked, name)
	}
}
