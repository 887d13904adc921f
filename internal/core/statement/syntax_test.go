package statement_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/statement/postgres"
)

// island is the syntax of a made-up database that differs from PostgreSQL's wherever one can.
var island = statement.NewSyntax(statement.Lexical{
	Name: "island",
	Quotes: []statement.Quote{
		{Mark: '\'', Backslash: true}, {Mark: '"', Backslash: true}, {Mark: '`', Name: true},
	},
	Prefixes:     []statement.Prefix{{Letters: "x", Quote: statement.Quote{Mark: '\''}}},
	QuestionMark: true, Joins: statement.JoinsAlways, HashComments: true, DashNeedsBlank: true,
	NameChars: "$", NameStarts: "@",
	Keyword: func(word []byte) bool {
		switch string(word) {
		case "select", "from", "where", "in", "values", "and", "or", "not", "limit":
			return true
		}
		return false
	},
	Operators: "+-*/<>=!%&|^~", Radixes: "xb", NowWords: []string{"now"},
	Reserved: func(word []byte) bool { return string(word) == "select" || string(word) == "where" },
})

func TestEachSyntaxReadsInItsOwnWay(t *testing.T) {
	for sql, want := range map[string][2]string{ // what it is here, and there
		`select "a" from t`:                 {`select "a" from t`, `select $ from t`},
		"select `a` from t":                 {"select ` a ` from t", "select `a` from t"},
		`select 'it\'s' from t where a = 1`: {`select $ s $`, `select $ from t where a = $`},
		"SELECT A FROM T":                   {"select a from t", "select A from T"},
		"select a # b\n from t":             {"select a # b from t", "select a from t"},
		"select a --1 from t":               {"select a", "select a - $ from t"},
		"select a -- 1\nfrom t":             {"select a from t", "select a from t"},
		"select a where b = ?":              {"select a where b = ?", "select a where b = $"},
		"select 'a' 'b'":                    {"select $ $", "select $"},
		"select /* a /* b */ c from t":      {"select", "select c from t"},
		"select $$a$$":                      {"select $", "select $ $ a$$"},
		"select e'a\\'b'":                   {"select $", "select e $"},
		"select @x, a$b":                    {"select @ x, a$b", "select @x, a$b"},
		"select 1_000":                      {"select $", "select $ _000"},
		"select 0o17, 0x1F":                 {"select $, $", "select $ o17, $"},
		"select a where b=? and c>=-?":      {"select a where b =? and c >=-?", "select a where b = $ and c >= - $"},
		"select a@-1":                       {"select a @- $", "select a@ - $"},
	} {
		assert.Equal(t, want[0], string(postgres.Syntax.Normalise([]byte(sql))), sql)
		assert.Equal(t, want[1], string(island.Normalise([]byte(sql))), sql)
	}
	assert.True(t, postgres.Syntax.MayMeanNow([]byte("'tomorrow'")))
	assert.False(t, island.MayMeanNow([]byte("'tomorrow'")))
	assert.True(t, island.MayMeanNow([]byte("'NOW'")))
}

// Patterns of two syntaxes never have one ID, whatever their text; those of a syntax without a name keep theirs.
func TestIDsTellSyntaxesApart(t *testing.T) {
	assert.NotEqual(t, postgres.Syntax.Of("select 1"), island.Of("select 1"))
	assert.Equal(t, statement.Name([]byte("select $")), postgres.Syntax.Of("select 1"))
}

func TestParametersAreNumbered(t *testing.T) {
	numbers := func(syntax *statement.Syntax, sql string) (out []int32) {
		s := statement.Scan{Syntax: syntax}
		s.Read([]byte(sql))
		for _, l := range s.Literals {
			out = append(out, l.Number)
		}
		return out
	}
	assert.Equal(t, []int32{2, 0, 1, 2}, numbers(postgres.Syntax, "select $2, 5, $1, $2"))
	assert.Equal(t, []int32{0, 0}, numbers(postgres.Syntax, "select $, $99999999999"), "none, and one that no message can have")
	assert.Equal(t, []int32{1, 0, 2}, numbers(island, "select ?, 5, ?"))
}

// Whatever the syntax, a statement and its exact text are one statement, and statements of one shape are of one pattern.
func TestAnySyntaxIsConsistent(t *testing.T) {
	words := append([]string{"?", "`Q`", "#c\n", "@v", `'a\'b'`, `"t"`, "A"}, tokens...)
	rapid.Check(t, func(t *rapid.T) {
		syntax := rapid.SampledFrom([]*statement.Syntax{postgres.Syntax, island}).Draw(t, "syntax")
		sql := strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 0, 20).Draw(t, "words"), " ")
		s := statement.Scan{Syntax: syntax}
		s.Read([]byte(sql))
		once := string(s.Exact)
		for _, l := range s.Literals {
			assert.True(t, l.Start < l.End && l.End <= len(sql))
		}
		if unclosed(sql) || strings.Contains(sql, "`") && syntax == postgres.Syntax {
			return
		}
		s.Read([]byte(once))
		assert.Equal(t, once, string(s.Exact), sql)
	})
}

func FuzzAnySyntax(f *testing.F) {
	f.Add([]byte("select ?, 'a\\'b' \"c\" # d\n -- e\n from `t` where a in (1, ?) /* now */ limit 0x1F"))
	f.Fuzz(func(t *testing.T, sql []byte) {
		s := statement.Scan{Syntax: island}
		s.Read(sql)
		for _, l := range s.Literals {
			assert.True(t, l.Start < l.End && l.End <= len(sql))
		}
		assert.LessOrEqual(t, len(s.Exact), 2*len(sql)+2)
		island.Normalise(sql)
		island.Depth(sql)
		island.Parameterised(sql)
	})
}
