package statement_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/core/statement/postgres"
)

// A long text takes time by its length alone, whatever is in it: with the square of that, this would take hours.
func TestLongTextsAreReadInTime(t *testing.T) {
	for _, piece := range []string{"-", "+", "+-", "-+", "*-", "@-", "/", "*", "(", ")", "((", "in (", "in (1,", "1,", "(1),", "values (1), (", "'", "''", "\\'", "'' ", "\"", "`", "``",
		"$", "$a", "$$", "$a$", "/*", "/**/", "*/", "--", "-- ", "#", "\n", " ", ".", "..", "1.", ".1", "1e", "0x", "0x1", "a.1", "1a", "@", ":", "::", "?", "a", "é", "u&'", "e'", "\x00", ";", "case ", "end ", "union ",
	} {
		sql := bytes.Repeat([]byte(piece), 1<<18/len(piece))
		for _, syntax := range []*statement.Syntax{postgres.Syntax, mysql.Syntax, mysql.Of(mysql.ANSIQuotes), island} {
			s := statement.Scan{Syntax: syntax}
			s.Read(sql)
			assert.LessOrEqual(t, len(s.Exact), 2*len(sql)+2, piece)
			syntax.Normalise(sql)
			syntax.Depth(sql)
			syntax.Tokens(sql)
		}
		for _, m := range []mysql.Mode{0, mysql.ANSIQuotes, mysql.NoBackslashEscapes} {
			mysql.Server{MariaDB: true, Version: 101119}.Resolve(append([]byte("$"), sql...), m)
			mysql.Server{MariaDB: true, Version: 101119}.Resolve(append([]byte("'$' "), sql...), m)
			m.Bare(sql)
		}
	}
}
