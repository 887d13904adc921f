package statement_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/statement/postgres"
)

func pattern(sql string) string { return string(postgres.Syntax.Normalise([]byte(sql))) }

func shape(sql string) string {
	s := statement.Scan{Syntax: postgres.Syntax}
	s.Read([]byte(sql))
	return string(s.Shape)
}

func exact(sql string) string {
	s := statement.Scan{Syntax: postgres.Syntax}
	s.Read([]byte(sql))
	return string(s.Exact)
}

func TestStatementsOfOnePattern(t *testing.T) {
	for want, spellings := range map[string][]string{
		"select * from ports where id = $": {
			"SELECT * FROM ports WHERE id = 5", "select  *\nfrom Ports -- the ports\nwhere id=-5", "select * from ports where id = $1;",
			"select/* a /* nested */ comment */ * from ports where id='x''y'", "select * from ports where id = $$a'b$$",
			`select * from ports where id = E'a\'b'`, "select * from ports where id=1.5e-3 ;; ",
		},
		"select $ from t where a in ($..) and b = $": {
			"select 1 from t where a in (1) and b=2", "select 1 from t where a in (1,2, 3) and b=2",
			"select $1 from t where a IN ($2, -7) and b=$3",
		},
		"select $ from t where a in ($::uuid..)": {
			"select 1 from t where a in ('a'::uuid)", "select 1 from t where a in ('a'::uuid, $2::uuid)",
		},
		"select $ from t where (a, b) in (($, $)..)":   {"select 1 from t where (a,b) in ((1,2),(3,4))", "select 1 from t where (a,b) in ((1,2))"},
		"insert into t(a, b) values ($, $)..":          {"insert into t (a,b) values (1,2)", "INSERT INTO t(a,b) VALUES (1,2), (3,4) , ($1,$2)"},
		"values ($, default).., ($, $)..":              {"values (1, default), (2,default), (3,4)"},
		"select a - $, - a, a -> $, a <-> - b from t":  {"select a -1, -a, a->'k', a <-> -b from t"},
		"select $ where a = $ and b >= $ or c = d - $": {"select -1 where a=-1 and b >= - 2 or c = d-1"},
		`select "Odd ""Name""", count(*) from "T"`:     {`select "Odd ""Name""",COUNT( * ) from "T"`},
		"select a.b, t.* from s.t as t limit $":        {"select a . b, t.* FROM s.t AS t LIMIT 10"},
		"select $":                                     {"select 'a'\n 'b'", "select 'ab'", "select U&'ab'", "select B'01'"},
		"select $ in (select a from t where b = $)":    {"select 1 in (select a from t where b=2)"},
	} {
		for _, sql := range spellings {
			assert.Equal(t, want, pattern(sql), sql)
		}
	}
}

func TestExactTellsStatementsApart(t *testing.T) {
	for _, pair := range [][2]string{
		{"select 1", "select 2"},
		{"select 1 from t where a in (1,2) and b in (3)", "select 1 from t where a in (1) and b in (2,3)"},
		{"select * from t where a=$1 and b=$2", "select * from t where a=$2 and b=$1"},
		{`select "A" from t`, "select a from t"},
		{"select 'a'\n'b'", "select 'a' 'b'"},
		{"select 'a'", "select E'a'"},
		{"select a @- 1", "select a @ -1"},
		{"select 1 -- x\n from t", "select 1 -- x from t"},
		{"select '/* a */'", "select ''"},
		{"values (1,2),(3,4)", "values (1,2)"},
	} {
		assert.NotEqual(t, exact(pair[0]), exact(pair[1]))
	}
	assert.Equal(t, exact("select A from T where x=1"), exact("SELECT a\n\tFROM t /* c */ WHERE x = 1;"))
}

// Statements of one shape must be of one pattern: the pattern is looked up by the shape.
func TestShapesTellPatternsApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.SampledFrom(tokens), 0, 12).Draw(t, "words")
		other := make([]string, len(words))
		for i, w := range words { // another statement that differs in literals, and perhaps in the lengths of lists
			switch w {
			case "1", "'x'", "$1", "e'\\''", "1.":
				w = rapid.SampledFrom([]string{"1", "'x'", "$1", "2,3", "'a' 'b'", "-1"}).Draw(t, "literal")
			}
			other[i] = w
		}
		a, b := strings.Join(words, " "), strings.Join(other, " ")
		if shape(a) == shape(b) {
			assert.Equal(t, pattern(a), pattern(b), "%s | %s", a, b)
		}
	})
	assert.Equal(t, shape("select a from t where b in (1, $2,'x') limit 5"), shape("SELECT a FROM t WHERE b in ('y') limit 6"))
	for _, pair := range [][2]string{{"a in (1, 2 + b)", "a in (2 + b)"}, {"f(1, 2)", "f(1)"}, {"a in (1, 2)", "a in (1, b)"}, {"a in (1)", "a in (b)"}, {"(1, 2)", "(1)"}, {"a in (1,)", "a in (1)"}, {"login (1, 2)", "login (1)"}} {
		assert.NotEqual(t, shape(pair[0]), shape(pair[1]))
	}
}

func TestWordsThatMeanNow(t *testing.T) {
	for sql, want := range map[string]bool{
		"select 'now'": true, "select ' NoW ()'": true, "select '{today}'": true, "select 'tomorrow 10:00'": true,
		"select $$yesterday$$": true, `select E'\x6eow'`: true, "select U&'x'": true, "select 'no'\n'w'": true,
		"select 'known'": false, "select 'nowhere'": false, "select 'Tod'": false, `select E'it\'s\n'`: false,
		"select now": false, "select 'todays'": false,
	} {
		s := statement.Scan{Syntax: postgres.Syntax}
		s.Read([]byte(sql))
		assert.Equal(t, want, s.MayMeanNow, sql)
	}
}

func TestIDsAreStableAndSpeakable(t *testing.T) {
	assert.Equal(t, statement.ID("duho-fovu-laje"), statement.Name([]byte("select $")), "an ID must never change: rules are written with it")
	assert.True(t, statement.ValidID("bado-kife-ruma"))
	for _, bad := range []string{"", "bado", "bado-kife-rumA", "abdo-kife-ruma", "bado_kife-ruma", "bado-kife-ruma-"} {
		assert.False(t, statement.ValidID(bad), bad)
	}
}

var tokens = []string{"select", "a", "B", "from", "t", "in", "(", ")", ",", "values", "1", "-", "+", "'x'", "$1", "::", ".", "..", "<", "@",
	`"Q"`, "e'\\''", "$$d$$", ";", "/*c*/", "--l\n", "[", "]", "=", "*", "$", "where", "not", "'", "\"", "1.", "\x00", "é", "/", "$a$"}

func TestPatternReadsBackAsItself(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sql := strings.Join(rapid.SliceOfN(rapid.SampledFrom(tokens), 0, 30).Draw(t, "words"), rapid.SampledFrom([]string{" ", ""}).Draw(t, "blank"))
		p := pattern(sql)
		if unclosed(sql) {
			return
		}
		assert.Equal(t, p, pattern(p), sql)
		assert.Equal(t, exact(sql), exact(exact(sql)), sql)
	})
}

// unclosed finds statements that the server will refuse and in which one more blank or bracket matters.
func unclosed(sql string) bool {
	return strings.Count(sql, "'")%2 == 1 || strings.Count(sql, `"`)%2 == 1 || strings.Contains(sql, "$") || strings.Contains(strings.ReplaceAll(sql, " ", ""), "..")
}

func FuzzScan(f *testing.F) {
	f.Add([]byte("select * from t where a in (1, -2) and b = 'it''s' -- c"))
	f.Add([]byte("insert into t values ($1, E'\\''), (1,2)"))
	f.Fuzz(func(t *testing.T, sql []byte) {
		s := statement.Scan{Syntax: postgres.Syntax}
		s.Read(sql)
		for _, l := range s.Literals {
			assert.True(t, l.Start < l.End && l.End <= len(sql))
		}
		assert.LessOrEqual(t, len(s.Exact), 2*len(sql)+2)
		assert.LessOrEqual(t, len(s.Shape), 2*len(s.Exact)+1)
		assert.LessOrEqual(t, len(postgres.Syntax.Normalise(sql)), 4*len(sql)+2)
	})
}

func BenchmarkScan(b *testing.B) {
	sql := "SELECT s.id, s.departs_at, v.name FROM sailings s JOIN vessels v ON v.id = s.vessel_id " +
		"WHERE s.route_id = 17 AND s.departs_at >= '2027-03-01 08:00' AND s.state IN ('open','late') ORDER BY s.departs_at LIMIT 8 "
	for _, times := range []int{1, 10, 100} { // linear in length
		text := []byte(strings.Repeat(sql, times))
		b.Run(fmt.Sprintf("%d bytes", len(text)), func(b *testing.B) {
			s := statement.Scan{Syntax: postgres.Syntax}
			s.Read(text)
			b.ReportAllocs()
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				s.Read(text)
			}
		})
	}
}
