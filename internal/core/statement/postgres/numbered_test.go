package postgres

import (
	"regexp"
	"strconv"
	"strings"
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

// Numbers are all that a pattern gets, in their order, and marks of repetition all that it loses.
func TestNumberedAddsNumbersAlone(t *testing.T) {
	pieces := []string{"select", "a$", `"b$c"`, ",", "$", "in ($..)", "(", ")", "values ($, $)..", "::int", "=", "t.n"}
	numbers := regexp.MustCompile(`(^|[ (=,])\$[0-9]+`)
	rapid.Check(t, func(t *rapid.T) {
		pattern := strings.Join(rapid.SliceOf(rapid.SampledFrom(pieces)).Draw(t, "pieces"), " ")
		text, n := Syntax.Numbered(pattern)
		assert.Equal(t, strings.ReplaceAll(pattern, "..", ""), numbers.ReplaceAllString(text, "${1}$$"))
		for i := 1; i <= n; i++ {
			at := strings.Index(text, "$"+strconv.Itoa(i))
			assert.GreaterOrEqual(t, at, 0)
			assert.Equal(t, -1, strings.Index(text[:at], "$"+strconv.Itoa(i+1)))
		}
		assert.NotContains(t, text, "$"+strconv.Itoa(n+1))
	})
}
