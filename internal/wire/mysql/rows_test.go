package mysql_test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	catalog "jollylarder/internal/core/catalog/mysql"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/protocoltest"
)

// kinds are columns in which values are stored and compared in ways of their own.
var kinds = []string{
	"int", "tinyint", "tinyint unsigned", "bigint", "bigint unsigned", "smallint(3) zerofill", "mediumint unsigned not null", "int not null default 7", "decimal(6,2)", "double", "year", "bit(4)",
	"varchar(6)", "char(4)", "varchar(6) collate utf8mb4_bin", "char(5) collate utf8mb4_nopad_bin", "varchar(5) collate utf8mb4_unicode_ci", "varchar(6) collate utf8mb4_uca1400_ai_ci not null",
	"varchar(8) character set latin1", "varchar(8) collate utf8mb4_danish_ci", "varchar(8) character set ucs2", "tinytext", "varbinary(6)", "enum('e', 'quay', '5')", "set('e', '5')", "date", "timestamp null",
	"int as (length(name) + 1) virtual", "int as (length(name) * 2) stored", "varchar(9) as (lower(name)) stored",
}

// alike are values that are written in many ways, and values that these may become or be taken for: as literals, and as
// parameters.
var alike = []struct {
	literals  []string
	arguments []any
}{
	{[]string{"5", "'5'", "'05'", "' 5'", "'5 '", "'5abc'", "'5.0'", "5.0", "5.4", "5e0", "0x05", "b'101'", "+5", "- 5", "(5)", "2 + 3", "-(-5)", "6", "4"}, []any{int64(5), "5", "05", "5abc", " 5", 5.0, []byte("5"), int64(6)}},
	{[]string{"300", "127", "255", "'300'", "128", "-129", "-128", "256", "999", "-1", "0"}, []any{int64(300), int64(127), "255", "300", int64(-128)}},
	{[]string{"9007199254740992", "9007199254740993", "'9007199254740993'", "18446744073709551615", "4294967296", "2147483647", "2147483648", "9223372036854775807"}, []any{uint64(18446744073709551615), int64(9007199254740993), "9007199254740992"}},
	{[]string{"'e'", "'E'", "'e '", "' e'", "'é'", "'È'", "x'45'", "_latin1'e'", "_binary'E'", "concat('e', '')", "'f'"}, []any{"e", "E ", "é", []byte("e"), "f"}},
	{[]string{"'quay'", "'QUAY'", "\"quay\"", "n'quay'", "_utf8mb4'quay'", "'quay' collate utf8mb4_bin", "'quays and more'", "'quays '", "'quays an'", "'qu' 'ay'", "'quays'"}, []any{"quay", "quays and more", "Quays "}},
	{[]string{"0", "'0'", "null", "''", "' '", "default", "true", "1", "-0", "'%'"}, []any{int64(0), nil, "", true, " "}},
	{[]string{"'aa'", "'å'", "'ch'", "'ß'", "'ss'", "'\n'", "'\\n'", "'\t'", "'qu''ay'", "'qu\\'ay'"}, []any{"aa", "å", "ss", "qu'ay", "\n"}},
	{[]string{"'2026-12-01'", "date'2026-12-01'", "2026", "'2026'", "20261201", "7"}, []any{"2026-12-01", int64(2026)}},
}

// rows is a table of some of these columns, as seen directly and through a larder.
type rows struct {
	*rapid.T
	columns []string
	script  []string
	through [2]*sql.Conn // who writes, and who reads
	direct  *sql.Conn
	around  bool

	literals  []string // of this case
	arguments []any
	focus     string // the column that is most often used
}

// Whatever is written, in whatever way, whoever reads some rows is given those that there are.
func TestRowsAreIdentified(t *testing.T) {
	require.NoError(t, rowsAreIdentified(newAnswering(t), func() {}))
}

// The same of direct writes, which the feed tells of.
func TestRowsThatTheFeedTellsOf(t *testing.T) {
	a := newAnswering(t)
	a.around = true
	f := a.follows()
	require.NoError(t, rowsAreIdentified(a, func() { a.catchesUp(f) }))
}

func rowsAreIdentified(a *answering, await func()) error {
	connect := func(address string) *sql.Conn {
		c, err := connect(a.t, address, "ines", "Quay#7", "").Conn(context.Background())
		require.NoError(a.t, err)
		return c
	}
	x := &rows{direct: connect(server.Address()), around: a.around}
	for i := range x.through {
		address := a.address
		if i == 0 && a.around {
			address = server.Address()
		}
		x.through[i] = connect(address)
		do(x.through[i], "set session binlog_format = 'ROW'")
	}
	written, hits := 0, a.hits()
	err := protocoltest.Search(a.t, func(t *rapid.T) error {
		x.T, x.script = t, nil
		for _, q := range x.table() {
			if _, err := x.direct.ExecContext(context.Background(), q); err != nil {
				if strings.Contains(err.Error(), "Error 1033 ") { // some columns together are too much for a server
					return nil
				}
				return fmt.Errorf("%s: %w", q, err)
			}
			x.script = append(x.script, q)
		}
		do(x.through[1], "alter table rows_of comment = 'known from here on'") // by which the larder learns of it
		mode := rapid.SampledFrom([]string{"''", "default"}).Draw(t, "mode")
		do(x.through[0], "set sql_mode = "+mode)
		x.script = append(x.script, "set sql_mode = "+mode)
		for before, end := a.hits(), time.Now().Add(time.Minute); a.hits() == before && time.Now().Before(end); { // until that is known
			_, _ = x.ask(x.through[1], asking{sql: "select count(*) from rows_of"})
		}
		var reads []asking
		for range rapid.IntRange(2, 6).Draw(t, "reads") {
			reads = append(reads, x.read())
		}
		for range rapid.IntRange(2, 10).Draw(t, "writes") {
			await()
			for _, r := range reads {
				want, _ := x.ask(x.direct, r)
				for range 2 {
					if got, _ := x.ask(x.through[1], r); got != want {
						return fmt.Errorf("%v\ndirectly: %s\nthrough:  %s\nafter\n%s", r, want, got, strings.Join(x.script, "\n"))
					}
				}
			}
			w := x.write()
			_, _ = x.ask(x.through[0], w)
			x.script = append(x.script, fmt.Sprint(w))
			written++
		}
		return nil
	})
	a.t.Logf("%d writes, %d hits", written, a.hits()-hits)
	return err
}

// asking is a statement, and its parameters if it is prepared.
type asking struct {
	sql  string
	args []any
}

func (x *rows) ask(c *sql.Conn, q asking) (string, error) {
	r, err := c.QueryContext(context.Background(), q.sql, q.args...)
	if err != nil {
		return "fails", err
	}
	defer r.Close()
	var out []string // in whatever order: rows may be equal in what they are ordered by
	for r.Next() {
		values := make([]sql.RawBytes, len(x.columns)+2)
		into := make([]any, len(values))
		for i := range values {
			into[i] = &values[i]
		}
		if err := r.Scan(into...); err != nil {
			return "", err
		}
		out = append(out, fmt.Sprintf("%q", values))
	}
	if err := r.Err(); err != nil {
		return "fails", err
	}
	slices.Sort(out)
	return strings.Join(out, " "), nil
}

func (x *rows) pick(from []string, what string) string {
	return rapid.SampledFrom(from).Draw(x.T, what)
}

func (x *rows) chance(n int, what string) bool { return rapid.IntRange(1, n).Draw(x.T, what) == 1 }

// table makes it anew, with a few rows.
func (x *rows) table() []string {
	x.columns = nil
	var defs []string
	id := x.pick([]string{"id int auto_increment primary key", "id int primary key", "id int, unique (id)", "id bigint unsigned auto_increment primary key", "id int, key (id)"}, "id")
	defs = append(defs, id, "name varchar(8)")
	for i := range rapid.IntRange(1, 3).Draw(x.T, "columns") {
		name := string(rune('a' + i))
		x.columns = append(x.columns, name)
		defs = append(defs, name+" "+x.pick(kinds, "kind"))
	}
	x.focus = x.pick(append([]string{"id", "name"}, x.columns...), "focus")
	x.literals, x.arguments = []string{"1", "2", "'e'"}, []any{int64(2)}
	for range 2 {
		g := rapid.SampledFrom(alike).Draw(x.T, "values")
		x.literals, x.arguments = append(x.literals, g.literals...), append(x.arguments, g.arguments...)
	}
	if x.chance(3, "unique") {
		defs = append(defs, "unique (a)")
	}
	if x.chance(4, "another") {
		defs = append(defs, "unique (name, a)")
	}
	engine := x.pick([]string{"InnoDB", "MyISAM"}, "engine")
	out := []string{"drop table if exists rows_of", "create table rows_of (" + strings.Join(defs, ", ") + ") engine = " + engine + " default character set utf8mb4"}
	if x.chance(4, "trigger") {
		out = append(out, "create trigger changes before "+x.pick([]string{"insert", "update"}, "on")+" on rows_of for each row set new.name = 'changed'")
	}
	return append(out, "insert ignore into rows_of (id, name) values (1, 'e'), (2, 'quay'), (5, 'E')")
}

func (x *rows) column() string {
	if x.chance(2, "focus") {
		return x.focus
	}
	return x.pick(append([]string{"id", "name"}, x.columns...), "column")
}

// value gives one, and the parameter if it is one.
func (x *rows) value(args *[]any) string {
	if args != nil && x.chance(3, "parameter") {
		*args = append(*args, rapid.SampledFrom(x.arguments).Draw(x.T, "argument"))
		return "?"
	}
	return x.pick(x.literals, "literal")
}

func (x *rows) condition(prefix string, args *[]any) string {
	column := prefix + x.column()
	switch rapid.IntRange(0, 7).Draw(x.T, "condition") {
	case 0:
		return column + " in (" + x.value(args) + ", " + x.value(args) + ")"
	case 1:
		return x.value(args) + " = " + column
	case 2:
		return "(" + column + " = " + x.value(args) + " and " + prefix + x.column() + " = " + x.value(args) + ")"
	case 3:
		return column + " = " + x.value(args) + " and " + column + " = " + prefix + x.column()
	case 4:
		return x.pick([]string{"not ", "1 = 1 or ", ""}, "not") + column + " = " + x.value(args)
	}
	return column + " = " + x.value(args)
}

func (x *rows) read() (q asking) {
	all := "r.id, r.name"
	for _, c := range x.columns {
		all += ", r." + c
	}
	args := &q.args
	if x.chance(2, "text") {
		args = nil
	}
	switch rapid.IntRange(0, 5).Draw(x.T, "read") {
	case 0:
		q.sql = "select " + all + " from rows_of r join berths b on b.id = r.id where r." + x.column() + " = " + x.value(args) + ""
	case 1:
		q.sql = "select " + all + " from rows_of R, rows_of r where " + x.condition("R.", args) + ""
	case 2:
		q.sql = "select " + all + " from berths b left join rows_of r on b.id = r.id and " + x.condition("r.", args) + " where b.id < 6"
	case 3:
		q.sql = "select max(r.id), count(*)" + strings.Repeat(", 0", len(x.columns)) + " from rows_of r where " + x.condition("r.", args)
	default:
		q.sql = "select " + all + " from rows_of r where " + x.condition(x.pick([]string{"", "r."}, "prefix"), args) + ""
	}
	return q
}

func (x *rows) expression() string {
	return x.pick([]string{"id", "name", "id + 1", "upper(name)", x.focus + " + 1", "concat(" + x.focus + ", '')"}, "expression")
}

func (x *rows) assignments(args *[]any) string {
	list := x.column() + " = " + x.value(args)
	if x.chance(3, "more") {
		list += ", " + x.column() + " = " + x.expression()
	} else if x.chance(3, "only") {
		list = x.column() + " = " + x.expression()
	}
	return list
}

func (x *rows) write() (q asking) {
	args := &q.args
	if x.chance(2, "text") {
		args = nil
	}
	ignore := x.pick([]string{"", "", "ignore "}, "ignore")
	switch rapid.IntRange(0, 5).Draw(x.T, "write") {
	case 0, 1:
		verb := x.pick([]string{"insert " + ignore + "into", "replace into"}, "verb")
		columns := []string{"id"}
		if x.chance(4, "without id") {
			columns = []string{"name"}
		} else if x.chance(2, "more") {
			columns = append(columns, x.pick(append([]string{"name"}, x.columns...), "column"))
		}
		var tuples []string
		for range rapid.IntRange(1, 2).Draw(x.T, "rows") {
			var values []string
			for range columns {
				values = append(values, x.value(args))
			}
			tuples = append(tuples, "("+strings.Join(values, ", ")+")")
		}
		q.sql = verb + " rows_of (" + strings.Join(columns, ", ") + ") values " + strings.Join(tuples, ", ")
		if verb[0] == 'i' && x.chance(3, "duplicate") {
			q.sql += " on duplicate key update " + x.assignments(args)
		}
		if x.chance(5, "returning") {
			q.sql += " returning id"
		}
	case 2:
		q.sql = "delete from rows_of where " + x.condition("", args)
	case 3:
		q.sql = "update " + ignore + "rows_of as w set " + x.assignments(args) + " where " + x.condition("w.", args)
	case 4:
		q.sql = "insert ignore into rows_of (id, name) select id + 3, ship from berths where id < 4"
	default:
		q.sql = "update " + ignore + "rows_of set " + x.assignments(args) + " where " + x.condition("", args) + x.pick([]string{"", " limit 1"}, "limit")
	}
	return q
}

// A write of some rows leaves results of others cached.
func TestResultsOfOtherRowsStay(t *testing.T) {
	defer func(n int) { freshness.FewestCounters = n }(freshness.FewestCounters)
	freshness.FewestCounters = 1 << 16 // hardly any two values share one by chance
	a := newAnswering(t)
	x := a.enters()
	for _, q := range []string{
		"set session binlog_format = 'ROW', sql_mode = ''", "create table if not exists stays (id int auto_increment primary key, name varchar(20) character set latin1, ship int, unique (name))", "replace into stays values (1, 'Tern', 1), (2, 'Skua', 1), (3, 'Gannet', 2)",
	} {
		a.ask(x, q)
	}
	defer a.ask(x, "drop table stays")
	f := a.follows()
	root := connect(t, server.Address(), "ines", "Quay#7", "")
	_, err := root.Exec("set session binlog_format = 'ROW', sql_mode = ''")
	require.NoError(t, err)
	_, err = root.Exec("set global binlog_row_metadata = 'FULL'")
	require.NoError(t, err)
	defer root.Exec("set global binlog_row_metadata = default")
	fresh := 100
	for _, c := range []struct {
		read, write     string
		through, direct bool // whether the result stays cached
	}{
		{"select name from stays where id = 1", "update stays set ship = FRESH where id = 2", true, true},
		{"select name from stays where id = 1", "update stays set ship = FRESH where id = '2'", true, true},
		{"select name from stays where id = '1'", "update stays set ship = FRESH where id = 1", false, false},
		{"select name from stays where id = 1", "update stays set ship = FRESH where id = '1x'", false, false},
		{"select id from stays where name = 'tern'", "update stays set ship = FRESH where name = 'skua'", true, true},
		{"select id from stays where name = 'TERN '", "update stays set ship = FRESH where name = 'tern'", false, false},
		{"select id from stays where name = 'tern'", "update stays set ship = FRESH where id = 2", false, true},
		{"select count(*) from stays where ship = 2", "update stays set ship = FRESH where ship = 12", true, true},
		{"select name from stays where id in (1, 2)", "delete from stays where id = 3", true, true},
		{"select name from stays where id = 1", "insert into stays (name) values ('FRESH')", true, true},
		{"select name from stays where id = 7777", "insert into stays (name) values ('FRESH')", false, true},
		{"select name from stays where id = 1", "replace into stays (id, name) values (2, 'FRESH')", false, true},
		{"select s.name from stays s join berths b on b.id = s.ship where s.id = 1", "update stays set ship = FRESH where id = 2", true, true},
	} {
		for _, directly := range []bool{false, true} {
			fresh++
			write := strings.ReplaceAll(c.write, "FRESH", fmt.Sprint(fresh))
			require.Eventually(t, func() bool { return a.outcome(x, c.read) == "hit" }, time.Minute, time.Millisecond, c.read)
			stays := c.through
			if directly {
				_, err := root.Exec(write)
				require.NoError(t, err, write)
				stays = c.direct
			} else {
				a.ask(x, write)
			}
			a.catchesUp(f)
			want := map[bool]string{true: "hit", false: "miss"}[stays]
			assert.Equal(t, want, a.outcome(x, c.read), "%s, directly %t: %s", c.read, directly, write)
		}
	}
}

// Texts of printable ASCII that a server takes for equal, in the collations in which they are told apart, are so without
// regard to case and to blanks at the end.
func TestCollationsFold(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	c, err := connect(t, server.Address(), "ines", "Quay#7", "").Conn(context.Background())
	require.NoError(t, err)
	defer c.Close()
	var words []string
	for b := byte(' '); b <= '~'; b++ {
		words = append(words, string(b), "a"+string(b), string(b)+"e")
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		var w []byte
		for range 2 + random.IntN(3) {
			w = append(w, byte(' '+random.IntN('~'-' '+1)))
		}
		words = append(words, string(w))
	}
	words = append(words, "ch", "ll", "aa", "ij", "ss", "ae", "oe", "dz", "lj", "nj", "th", "cs", "c", "h")
	rows, err := c.QueryContext(context.Background(), "select distinct full_collation_name, character_set_name from information_schema.collation_character_set_applicability order by 1")
	require.NoError(t, err)
	var folding [][2]string
	for rows.Next() {
		var name, set string
		require.NoError(t, rows.Scan(&name, &set))
		if catalog.Folds(name) {
			folding = append(folding, [2]string{name, set})
		}
	}
	require.NoError(t, rows.Err())
	assert.Greater(t, len(folding), 30)
	for _, x := range folding {
		do(c, "drop temporary table if exists words, others")
		do(c, fmt.Sprintf("create temporary table words (n int, w varchar(8) character set %s collate %s, key (w))", x[1], x[0]))
		var values []string
		for i, w := range words {
			values = append(values, fmt.Sprintf("(%d, 0x%x)", i, w))
		}
		_, err := c.ExecContext(context.Background(), "insert into words values "+strings.Join(values, ", "))
		require.NoError(t, err, x)
		do(c, "create temporary table others as select * from words")
		rows, err := c.QueryContext(context.Background(), "select a.n, b.n from words a join others b on a.w = b.w where a.n < b.n")
		require.NoError(t, err, x)
		equal := 0
		for rows.Next() {
			var a, b int
			require.NoError(t, rows.Scan(&a, &b))
			fold := func(s string) string { return strings.TrimRight(strings.ToLower(s), " ") }
			require.Equal(t, fold(words[a]), fold(words[b]), "%q and %q in %s", words[a], words[b], x[0])
			equal++
		}
		require.NoError(t, rows.Err())
		assert.NotZero(t, equal, x)
	}
}

// A server stores some values as others: what it makes of them is what a read is answered with.
func TestValuesThatAreStoredAsOthers(t *testing.T) {
	require.NoError(t, storedAsOthers(newAnswering(t)))
}

// storedAsOthers writes such values, and says where a read of what they become is answered with what was there before.
func storedAsOthers(a *answering) error {
	x := a.enters()
	a.ask(x, "set sql_mode = ''")
	for _, c := range []struct{ column, holds, given, becomes string }{
		{"c tinyint", "5", "300", "127"}, {"c tinyint", "5", "-300", "-128"}, {"c tinyint unsigned", "5", "-5", "0"}, {"c smallint unsigned", "5", "70000", "65535"},
		{"c mediumint", "5", "10000000", "8388607"}, {"c int", "5", "3000000000", "2147483647"}, {"c int unsigned", "5", "99999999999", "4294967295"},
		{"c varchar(5)", "'a'", "'quayside'", "'quays'"}, {"c char(3) character set latin1", "'a'", "'QUAY'", "'qua'"}, {"c varchar(6)", "'a'", "'quays and more'", "'quays'"},
		{"c int not null", "5", "null", "0"}, {"c varchar(4) not null", "'a'", "null", "''"}, {"c int auto_increment, key (c)", "5", "0", "6"}, {"c int auto_increment, key (c)", "5", "null", "6"},
		{"c int", "5", "'7 ships'", "7"}, {"c int", "5", "6.6", "7"}, {"c varchar(4)", "'a'", "0x45", "'e'"},
	} {
		for _, write := range []string{"insert into holds (id, c) values (2, GIVEN)", "insert into holds (id, c) values (3, HOLDS), (4, GIVEN)", "update holds set c = GIVEN where c = HOLDS", "replace into holds (id, c) values (1, GIVEN)"} {
			a.ask(x, "drop table if exists holds")
			a.ask(x, "create table holds (id int, "+c.column+")")
			a.ask(x, "insert into holds values (1, "+c.holds+")")
			reads := "select count(*) from holds where c = " + c.becomes
			from := time.Now()
			for a.outcome(x, reads) != "hit" {
				if time.Since(from) > time.Minute {
					return fmt.Errorf("not cached: %s, %s: %s", c.column, reads, a.ask(x, "show jollylarder.last"))
				}
			}
			write = strings.NewReplacer("GIVEN", c.given, "HOLDS", c.holds).Replace(write)
			a.ask(x, write)
			want := a.ask(x, reads+" /*jollylarder='off'*/")
			if got := a.ask(x, reads); got != want {
				return fmt.Errorf("%s: %s\ndirectly: %s\nthrough: %s", c.column, write, want, got)
			}
		}
	}
	a.ask(x, "drop table holds")
	return nil
}
