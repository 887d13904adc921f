package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// A pattern becomes a statement whose parameters are numbered from 1 on; what only looks like a placeholder stays.
func TestPatternsAsStatements(t *testing.T) {
	for pattern, want := range map[string]struct {
		text string
		n    int
	}{
		"select 1":                                 {"select 1", 0},
		"select n from berths where id = $":        {"select n from berths where id = $1", 1},
		"select n from berths where id in ($..)":   {"select n from berths where id in ($1)", 1},
		"insert into berths values ($, $)..":       {"insert into berths values ($1, $2)", 2},
		`select "a$b", "$", a$ from t where x = $`: {`select "a$b", "$", a$ from t where x = $1`, 1},
		"select $::int + $":                        {"select $1::int + $2", 2},
	} {
		text, n := Syntax.Numbered(pattern)
		assert.Equal(t, want.text, text)
		assert.Equal(t, want.n, n)
	}
}

// A numbered pattern is of the same pattern.
func TestNumberedIsTheSamePattern(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sql := rapid.StringOfN(rapid.RuneFrom([]rune(`ab "'$,.()1in values=;`)), 0, 40, -1).Draw(t, "sql")
		pattern := string(Syntax.Normalise([]byte(sql)))
		text, _ := Syntax.Numbered(pattern)
		again, _ := Syntax.Numbered(string(Syntax.Normalise([]byte(text))))
		assert.Equal(t, text, again)
	})
}
