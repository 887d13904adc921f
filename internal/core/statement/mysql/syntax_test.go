package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
)

// Patterns keep what tells statements apart: names in their case, names that begin with digits, the signs of operators.
func TestPatterns(t *testing.T) {
	for sql, want := range map[string]string{
		"SELECT Name FROM Berths WHERE Id = 5":             "select Name from Berths where Id = $",
		"START TRANSACTION":                                "start transaction",
		"Commit; ROLLBACK To A":                            "commit; rollback to A",
		"Handler Handler open":                             "handler Handler open",
		"select a from `Order By` where b = \"x\" and c=?": "select a from `Order By` where b = $ and c = $",
		"select a from db.Select where Values.b in (1,2)":  "select a from db.Select where values.b in ($..)",
		"select a from 2027_sailings":                      "select a from 2027_sailings",
		"select a from 5e where b = 5e3 and c = 1e":        "select a from 5e where b = $ and c = 1e",
		"select 0x1F, 0X1F, 0b11, 0b12, x'1F', 0x, 0xg":    "select $, 0X1F, $, 0b12, $, 0x, 0xg",
		"select t.1, t.2a, .5, 1.5, t .5 from t":           "select t.1, t.2a, $, $, t $ from t",
		"select 'it\\'s', \"a\"\"b\", 'a' 'b'":             "select $, $, $",
		"select 1 --2 -- c\n+3 # d\n+4 /* e */":            "select $ - $ + $ + $",
		"select 1 -- a\rfrom t\n + 2":                      "select $ + $",
		"select @a := 1, @@sql_mode":                       "select @a := $, @@sql_mode",
		"select a->>'$.b', a<=>b, a<>-1, -1, 5-1":          "select a ->> $, a <=> b, a <> $, $, $ - $",
		"select _utf8'x', N'y', b'1'":                      "select _utf8 $, $, $",
		"insert into t values (1, 'a'), (2, 'b')":          "insert into t values ($, $)..",
		"select count(*), COUNT (*), max(a), Max (a)":      "select count(*), COUNT (*), max(a), Max (a)",
		"select upper (a), upper(a) from t(a)":             "select upper(a), upper(a) from t(a)",
	} {
		assert.Equal(t, want, string(Syntax.Normalise([]byte(sql))), sql)
	}
	assert.Equal(t, `select "a" from t where b = $`, string(Of(ANSIQuotes).Normalise([]byte(`select "a" from t where b = 'x\'y'`))))
	assert.Equal(t, `select $ from t where b = $`, string(Of(NoBackslashEscapes).Normalise([]byte(`select "a\" from t where b = 'x\'`))))
	assert.Equal(t, `select "a\" from t where b = $`, string(Of(ANSIQuotes|NoBackslashEscapes).Normalise([]byte(`select "a\" from t where b = 'x\'`))))
}

// A statement is written anew so that the server reads it as before: some functions are called by a bracket right behind
// the name only.
func TestCallsTouch(t *testing.T) {
	s := statement.Scan{Syntax: Syntax}
	for sql, want := range map[string]string{
		"select count(*) from t where a=1":         "select count( * ) from t where a = 1",
		"select count (*), SUM(a),sum/**/(b)":      "select count ( * ) , SUM( a ) , sum ( b )",
		"select upper(a) from t where b in(1,'x')": "select upper ( a ) from t where b in ( 1 , 'x' )",
	} {
		s.Read([]byte(sql))
		assert.Equal(t, want, string(s.Exact), sql)
	}
}

// Each mode has its patterns for itself, since the same text may be another statement in it.
func TestModes(t *testing.T) {
	seen := map[statement.ID]bool{}
	for m := range Mode(modes) {
		assert.Equal(t, m, ModeOf(Of(m)))
		seen[Of(m).Of("select a from t")] = true
	}
	assert.Len(t, seen, modes)
	s := statement.Scan{Syntax: Syntax}
	s.Read([]byte(`select 'now', "today" 'x', 'a\q'`))
	assert.False(t, s.MayMeanNow, "no text is read as the current time here")
}

var maria = Server{MariaDB: true, Version: 101119}

// Each row was tried: the second text is what the server makes of the first, or nothing where it is not certain.
func TestResolve(t *testing.T) {
	for _, c := range [][2]string{
		{"select 1", "select 1"},
		{"select 1 /*! +1 */", "select 1     +1   "},
		{"select 1 /*!50001 +1 */", "select 1          +1   "},
		{"select 1 /*!50699+1*/", "select 1         +1  "},
		{"select 1 /*!50700 +1 */ +2", "select 1                +2"},
		{"select 1 /*!80000 +1 */ +2", "select 1                +2"},
		{"select 1 /*!100000 +1 */", "select 1           +1   "},
		{"select 1 /*!101120 +1 */", "select 1                "},
		{"select 1 /*M! +1 */", "select 1      +1   "},
		{"select 1 /*M!50700 +1 */", "select 1           +1   "},
		{"select 1 /*!5000 +1 */", "select 1    5000 +1   "},
		{"select 1 /*!500011 +1 */", "select 1                "},
		{"select 1 /*!50001 +1 /* +1 */ +1 */", "select 1          +1 /* +1 */ +1   "},
		{"select 1 /*!50701 +1 /* +1 */ +1 */ +8", "select 1                            +8"},
		{"select 1 /*!50701 '*/ +8", "select 1              +8"},
		{"select 1 /*!50001 -- x */ \n+5 */", "select 1          -- x */ \n+5   "},
		{"select 1 -- /*! +1 */\n+2", "select 1 -- /*! +1 */\n+2"},
		{"select 1 # /*! +1 */\n+2", "select 1 # /*! +1 */\n+2"},
		{"select '/*! a */', \"/*! b */\", `/*! c */`", "select '/*! a */', \"/*! b */\", `/*! c */`"},
		{"select '\\'/*!', 1 /*! +1 */", "select '\\'/*!', 1     +1   "},
		{"select 1 /* /*! */ +1", "select 1 /* /*! */ +1"},
		{"select 2*/*!50001 3*/", "select 2*         3  "},
		{"select 2 /*!*3*/", "select 2    *3  "},
		{"select '$', a$b, `$c` from t", "select '$', a$b, `$c` from t"},
		{"select 1 /*!50001 +1 /*!50001 +1 */ +1 */", ""},
		{"select 1 --/*! +1 */", ""}, {"select 1 -/*! +1 */", "select 1 -    +1   "},
		{"select 1 /*! +1", ""}, {"select 1 /*!99999 +1", ""}, {"select /*! 1", ""},
		{"select $ from t", ""}, {"select * from $1", ""}, {"select 1\x00 /*! +1 */", ""}, {"select 1 -- \x00\n", ""}, {"select /*\x00*/ 1", ""},
	} {
		out, ok := maria.Resolve([]byte(c[0]), 0)
		if c[1] == "" {
			assert.False(t, ok, c[0])
			continue
		}
		assert.True(t, ok, c[0])
		assert.Equal(t, c[1], string(out), c[0])
	}
	for sql, want := range map[string]string{ // as MySQL's manual has it
		"select 1 /*!50700 +1 */":   "select 1          +1   ",
		"select 1 /*!80037 +1 */":   "select 1               ",
		"select 1 /*M! +1 */ /*!*/": "select 1 /*M! +1 */      ",
	} {
		out, ok := Server{Version: 80036}.Resolve([]byte(sql), 0)
		assert.True(t, ok, sql)
		assert.Equal(t, want, string(out), sql)
	}
	_, ok := Server{Version: 80036}.Resolve([]byte("select 1 /*!080036 +1 */"), 0)
	assert.False(t, ok, "versions differ in whether six digits are a version")
	out, ok := maria.Resolve([]byte(`select "/*! a" , 1 /*! +1 */`), ANSIQuotes|NoBackslashEscapes)
	assert.True(t, ok)
	assert.Equal(t, `select "/*! a" , 1     +1   `, string(out))
}

func TestBare(t *testing.T) {
	for sql, want := range map[string]string{
		"select /* a */ 1 -- b\n+ 2 # c":         "select         1     \n+ 2    ",
		"select '/* a */', `-- b` /*+ hint */ 1": "select '/* a */', `-- b`             1",
		"select '/*! a */' /* c */":              "select '/*! a */'        ",
	} {
		out, ok := Mode(0).Bare([]byte(sql))
		assert.True(t, ok, sql)
		assert.Equal(t, want, string(out), sql)
	}
	for _, sql := range []string{"select 1 /*! +1 */", "select 1 /* a", "select 1 --/* a */ 2", "select 1 /*M! +1 */"} {
		_, ok := Mode(0).Bare([]byte(sql))
		assert.False(t, ok, sql)
	}
}

// pieces are what comments and quotes are made of.
var pieces = []string{"/*", "/*!", "/*!50001", "/*!50701 ", "/*M!", "*/", "'", "\"", "`", "\\", "-- ", "--", "#", "\n", " ", "$", "a", "1", "+", "*", "/", "\r"}

// A resolved statement is as long as it was, resolves to itself, and is never another than what the lexer reads: without
// comments that a server runs nothing changes, and a bare one has the same tokens.
func TestResolvingKeepsTheStatement(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := Mode(rapid.IntRange(0, modes-1).Draw(t, "mode"))
		sql := []byte("select " + strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 24).Draw(t, "pieces"), ""))
		was := string(sql)
		out, ok := maria.Resolve(sql, m)
		assert.Equal(t, was, string(sql), "what was given is left as it is")
		if !ok {
			return
		}
		assert.Len(t, out, len(sql))
		again, ok := maria.Resolve(out, m)
		assert.True(t, ok, was)
		assert.Equal(t, string(out), string(again), was)
		bare, ok := m.Bare(out)
		if !ok {
			return
		}
		assert.Equal(t, string(Of(m).Normalise(out)), string(Of(m).Normalise(bare)), was)
		s, b := statement.Scan{Syntax: Of(m)}, statement.Scan{Syntax: Of(m)}
		s.Read(out)
		b.Read(bare)
		assert.Equal(t, string(s.Exact), string(b.Exact), was)
		assert.Equal(t, s.Literals, b.Literals, was)
		assert.Empty(t, b.Comment)
	})
}

func FuzzResolve(f *testing.F) {
	f.Add([]byte("select 1 /*!50001 +1 /* c */ */ -- x\n, '/*!', `a`, \"b\""), byte(0))
	f.Fuzz(func(t *testing.T, sql []byte, mode byte) {
		m := Mode(mode % modes)
		out, ok := maria.Resolve(sql, m)
		assert.Len(t, out, len(sql))
		if again, still := maria.Resolve(out, m); ok {
			assert.True(t, still)
			assert.Equal(t, out, again)
		}
		m.Bare(sql)
		s := statement.Scan{Syntax: Of(m)}
		s.Read(sql)
	})
}
