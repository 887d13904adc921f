package postgres

import (
	"strings"
	"testing"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/statement"
)

// serverLiterals gives where the server's own scanner finds literals and parameters.
func serverLiterals(t *testing.T, sql string) (spans [][2]int) {
	scan, err := pg.Scan(sql)
	if err != nil {
		return nil
	}
	for _, tok := range scan.Tokens {
		switch tok.Token {
		case pg.Token_ICONST, pg.Token_FCONST, pg.Token_SCONST, pg.Token_USCONST, pg.Token_BCONST, pg.Token_XCONST, pg.Token_PARAM:
			spans = append(spans, [2]int{int(tok.Start), int(tok.End)})
		}
	}
	return spans
}

// splitsLikeTheServer checks one statement that the server's grammar accepts.
func splitsLikeTheServer(t *testing.T, sql string) {
	s := statement.Scan{Syntax: Syntax}
	s.Read([]byte(sql))
	var ours [][2]int
	want := serverLiterals(t, sql)
	for _, l := range s.Literals {
		if n := len(ours); n > 0 && n <= len(want) && l.End <= want[n-1][1] { // strings that the server joins
			ours[n-1][1] = l.End
			continue
		}
		start := l.Start
		if c := sql[start]; c == 'n' || c == 'N' { // the server says keyword and string; here it is one, so that n 'x' is another
			start++
		}
		ours = append(ours, [2]int{start, l.End})
	}
	assert.Equal(t, want, ours, "%q", sql)
	p := Syntax.Normalise([]byte(sql))
	assert.Equal(t, string(p), string(Syntax.Normalise(p)), "the pattern of a pattern's text is itself: %q", sql)
	exact := string(s.Exact)
	s.Read([]byte(exact))
	assert.Equal(t, exact, string(s.Exact), "%q", sql)
	assert.Equal(t, string(p), string(Syntax.Normalise([]byte(exact))), "%q", sql)
}

var serverSamples = []string{
	"select * from t where a in (1, -2) and b = 'it''s' -- c",
	"select E'\\'' || U&'d\\0061t' uescape '!' , B'01', x'1f', N'n', $$a$$, $q$ b $$ c $q$, $1",
	"select 'a'\n'b' 'c'", "select 'a'\n-- x\n  'b', 1.5e-3, .5, 1., 0x1F, 1_000, 1e5, 12.e3",
	"select a.b.c, t.*, a[1:2], a[:], b::int, -1, - 1, a-1, a - -1, a@-1, a<->-1, a*-1, @-1, 2*-1 from t",
	"select 1 in (2), 1 in (select 2), (1,2) in ((1,2),(3,4)), x in ('a'::text, 'b'::text)",
	"insert into t values (1, default), (2, default), (3, a + 1)", "select /* a /* b */ c */ 1", "values (1),(2) ; ",
	"select \"a\"\"b\", u&\"x\", \"in\" (1, 2), 1 as values, f(variadic array[1])", "select 1--2\n+3, 1/*x*/-2, a->>'b', a?'b', a@>'{}', !!1",
	"select case when a then -1 else +2 end, array[-1], row(-1), a between -1 and -2 limit -1", "do $x$begin end$x$", "select é, 名 from \"T\" where Ü = 'ß'",
	"select a$1, $1a, $1$2 from t$t", "select 1where 2", "select interval '1' day, date '2027-03-01', 'x'::date, time with time zone '1'",
}

func TestSplitsLikeTheServer(t *testing.T) {
	accepted := 0
	for _, sql := range serverSamples {
		if _, err := pg.Parse(sql); err == nil {
			accepted++
			splitsLikeTheServer(t, sql)
		}
	}
	assert.Greater(t, accepted, len(serverSamples)/2)
}

func FuzzSplitsLikeTheServer(f *testing.F) {
	for _, sql := range serverSamples {
		f.Add(sql)
	}
	f.Fuzz(func(t *testing.T, sql string) {
		if len(sql) > 10_000 || strings.ContainsRune(sql, 0) { // the protocol cannot carry a NUL
			return
		}
		if _, err := pg.Parse(sql); err != nil {
			return
		}
		splitsLikeTheServer(t, sql)
	})
}
