package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPatternsHaveNoValuesOfSettings(t *testing.T) {
	for sql, want := range map[string]string{
		"set app.token = S3CRET":                              "set app.token = $",
		"SET LOCAL app.token TO S3CRET":                       "set local app.token to $",
		"set session app.token = S3CRET, more":                "set session app.token = $",
		"set search_path to a, b;":                            "set search_path to $",
		"set app.token = S3CRET; select a from t where b = 1": "set app.token = $; select a from t where b = $",
		"set a.b = x; set c.d to S3CRET":                      "set a.b = $; set c.d to $",
		"alter role ines set app.token = S3CRET":              "alter role ines set app.token = $",
		"alter database skerrow set app.token to S3CRET":      "alter database skerrow set app.token to $",
		"set role ines":                                       "set role ines",
		"set transaction isolation level serializable":        "set transaction isolation level serializable",
		"alter table t rename to u":                           "alter table t rename to u",
		"update t set a = b":                                  "update t set a = b",
		"select a from t where a = b":                         "select a from t where a = b",
	} {
		assert.Equal(t, want, string(Syntax.Normalise([]byte(sql))), sql)
	}
}
