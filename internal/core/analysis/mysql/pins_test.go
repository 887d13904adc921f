package mysql

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/analysis"
	lexical "jollylarder/internal/core/statement/mysql"
)

// pins gives those of a statement in one line: of which rows, the column, and what stands where its values do.
func pins(f *analysis.Facts, sql string) string {
	var out []string
	for _, p := range f.Pins {
		column := p.Column
		if p.Ref != nil {
			column = strings.Join(p.Ref.Path, ".")
		}
		var values []string
		for _, v := range p.Values {
			text, _, _ := strings.Cut(sql[v.At:], " ")
			if text = strings.TrimRight(text, ",)"); v.Negative {
				text = "-" + text
			}
			values = append(values, text)
		}
		line := fmt.Sprintf("%s %s=%s", map[analysis.PinOf]string{analysis.PinOfRead: "read", analysis.PinOfOld: "old", analysis.PinOfNew: "new", analysis.PinOfConflict: "conflict"}[p.Of], column, strings.Join(values, "|"))
		for _, v := range p.Via {
			line += " via " + strings.Join(v.Path, ".")
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

// Which columns a statement fixes to values, and which it does not.
func TestPins(t *testing.T) {
	for sql, want := range map[string]string{
		"select a from t where id = 5":                                             "read id=5",
		"select a from t where T.Id = 'x' and (5) = (b) and c > 3":                 "read T.id='x'; read b=5",
		"select a from t where id in (1, '2', ?) and b = -7":                       "read id=1|'2'|?; read b=-7",
		"select a from t where id not in (1, 2)":                                   "",
		"select a from t where id = 5 or b = 6":                                    "",
		"select a from t where not id = 5":                                         "",
		"select a from t where id <=> 5 and b like 'x' and c between 1 and 1":      "",
		"select a from t where id = 5 and (b = 1 or b = 2)":                        "read id=5",
		"select a from t where id = 2 + 3 and b = upper('x') and c = null":         "",
		"select a from t where id = _utf8'x' and b = n'x' and c = x'45' and d = 1": "read d=1",
		"select a from t where id = 'x' collate utf8mb4_bin":                       "",
		"select a from t where binary id = 'x'":                                    "",
		"select a from t where (id, b) = (1, 2)":                                   "",
		"select t.a from t join u on u.id = t.id where t.id = 5":                   "read t.id=5; read u.id=5 via t.id",
		"select t.a from t join u on u.b = 3 where t.id = 5":                       "read t.id=5; read u.b=3",
		"select t.a from t left join u on u.b = 3 where t.id = 5":                  "read t.id=5",
		"select t.a from t right join u on u.id = t.id where u.id = 5":             "read u.id=5",
		"select a from t where id = 5 union select a from t where id = 6":          "",
		"with t as (select 1 id) select id from t where id = 1":                    "",
		"select a from (select * from t where id = 5) x where x.a = 4":             "read x.a=4",
		"select (select a from t where id = 5)":                                    "",
		"select a from t where id = 5; select 1":                                   "",
		"update t set a = 1, b = b + 1 where id = 5 and c = d":                     "old id=5; new a=1",
		"update t as x set x.a = '1' where x.id = ? limit 1":                       "old x.id=?; new a='1'",
		"update t, u set t.a = 1 where t.id = u.id and t.id = 5":                   "",
		"delete from t where id in (5, 6)":                                         "old id=5|6",
		"delete t from t join u where t.id = 5":                                    "",
		"delete from t where id = 5 returning a":                                   "old id=5",
		"insert into t (id, a) values (1, 'x'), (?, upper('y'))":                   "new id=1|?",
		"insert into t values (1, 'x')":                                            "",
		"insert into t set id = 1, a = default":                                    "new id=1",
		"insert into t (id, a) values (1, 2) on duplicate key update a = 3":        "conflict id=1; conflict a=2",
		"replace into t (id) values (-1)":                                          "conflict id=-1",
		"insert into t (id) values (1) returning id":                               "new id=1",
		"insert into t (id) select 5":                                              "",
		"truncate t":                                                               "",
	} {
		assert.Equal(t, want, pins(Facts(lexical.Syntax, sql), sql), sql)
	}
	assert.Equal(t, []analysis.Name{{Name: "t"}}, Facts(lexical.Syntax, "select a from t where id = (select max(id) from t)").Again)
	assert.True(t, Facts(lexical.Syntax, "select a from t where id = 5").RowsAreFound)
	assert.False(t, Facts(lexical.Syntax, "select count(*) from t where id = 5").RowsAreFound)
}
