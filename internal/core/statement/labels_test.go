package statement_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/statement/postgres"
)

func labels(sql string) []statement.Label {
	s := statement.Scan{Syntax: postgres.Syntax}
	s.Read([]byte(sql))
	return statement.Labels(s.Comment)
}

func TestLabels(t *testing.T) {
	assert.Equal(t, []statement.Label{{"application", "quay-boards"}, {"route", "/ports/{id}, 'all'"}},
		labels("select 1 /*route='%2Fports%2F%7Bid%7D%2C%20\\'all\\'',application='quay-boards'*/"))
	assert.Equal(t, []statement.Label{{"action", "x"}}, labels("/* the board */ select 1 /*action='x'*/ ;"), "the last comment counts")
	for _, none := range []string{"select 1", "select 1 /* it's = 'fine' */", "select 1 /*a='b*/", "select 1 /*a='%zz'*/", "select 1 /*a='b' c='d'*/", "select 1 /*a='b'", "select '/*a=''b''*/'"} {
		assert.Empty(t, labels(none), none)
	}
}

func FuzzLabels(f *testing.F) {
	f.Add([]byte(`a='b',c='d\'e'`))
	f.Fuzz(func(t *testing.T, comment []byte) {
		assert.LessOrEqual(t, len(statement.Labels(comment)), 16)
	})
}
