package statement

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func labels(sql string) []Label {
	var s Scan
	s.Read([]byte(sql))
	return Labels(s.Comment)
}

func TestLabels(t *testing.T) {
	assert.Equal(t, []Label{{"application", "quay-boards"}, {"route", "/ports/{id}, 'all'"}},
		labels("select 1 /*route='%2Fports%2F%7Bid%7D%2C%20\\'all\\'',application='quay-boards'*/"))
	assert.Equal(t, []Label{{"action", "x"}}, labels("/* the board */ select 1 /*action='x'*/ ;"), "the last comment counts")
	for _, none := range []string{"select 1", "select 1 /* it's = 'fine' */", "select 1 /*a='b*/", "select 1 /*a='%zz'*/", "select 1 /*a='b' c='d'*/", "select 1 /*a='b'", "select '/*a=''b''*/'"} {
		assert.Empty(t, labels(none), none)
	}
}

func FuzzLabels(f *testing.F) {
	f.Add([]byte(`a='b',c='d\'e'`))
	f.Fuzz(func(t *testing.T, comment []byte) {
		assert.LessOrEqual(t, len(Labels(comment)), mostLabels)
	})
}
