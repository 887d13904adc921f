package statement_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/statement/postgres"
)

func TestDepth(t *testing.T) {
	many := func(s string) string { return strings.Repeat(s, 1000) }
	for sql, want := range map[string][2]int{ // at least, at most
		"": {0, 0}, "select 1": {1, 3}, "select a.b, c.d from t where x = 1 and y = 2": {4, 12},
		"select 1" + many(",1"):                                                                        {1, 5},
		"select 1 from t where a in (1" + many(",1") + ")":                                             {1, 12},
		"insert into t values (1, 2)" + many(",(1,2)"):                                                 {1, 10},
		"select 1 where a = 1" + many(" or a = 1"):                                                     {1, 10},
		"select 1 where (a = 1 and b = 2)" + many(" or (a = 1 and b = 2)"):                             {1, 12},
		"select '" + many("+(") + "', $$" + many("+(") + "$$, \"" + many("+(") + "\" -- " + many("+("): {1, 6},
		"select 1" + many("+1"):                                                                        {1000, 2100},
		"select 1" + many("::int"):                                                                     {1000, 2100},
		"select 1" + many(" is null"):                                                                  {1000, 2100},
		"select 1" + many(" union select 1, 2"):                                                        {1000, 2100},
		"select 1 from a, b" + many(" join c on a.x = b.x and a.y = b.y"):                              {1000, 1100},
		"select " + many("f(1, ") + "1" + many(")"):                                                    {1000, 2100},
		"select " + many("case when a and b then ") + "1" + many(" end"):                               {1000, 5100},
		"select " + many("(") + "1" + many(")"):                                                        {1000, 2100},
		"select " + many("["):                                                                          {1000, 2100}, many(")"): {0, 1001}, many("end "): {0, 1001},
	} {
		d := postgres.Syntax.Depth([]byte(sql))
		assert.GreaterOrEqual(t, d, want[0], "%.60s", sql)
		assert.LessOrEqual(t, d, want[1], "%.60s", sql)
	}
}

func FuzzDepth(f *testing.F) {
	f.Add("select case when (a, [1], 'x') then 1 end union select $1 join b")
	f.Fuzz(func(t *testing.T, sql string) {
		d := postgres.Syntax.Depth([]byte(sql))
		assert.True(t, d >= 0 && d <= 2*len(sql)+1)
		assert.GreaterOrEqual(t, postgres.Syntax.Depth([]byte("("+sql)), 0)
	})
}
