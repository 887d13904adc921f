package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSplit(t *testing.T) {
	for text, want := range map[string][]string{
		"select 1; select 2":                         {"select 1", " select 2"},
		"select ';' ;;\n-- one; more\n;# two;\n":     {"select ';' "},
		"select \"a;b\", `c;d` /* e;f */ from t;":    {"select \"a;b\", `c;d` /* e;f */ from t"},
		"select 1 -- a comment behind\n; -- another": {"select 1 -- a comment behind\n"},
		"":      nil,
		" ; ; ": nil,
	} {
		got, err := Split(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"select /*!50000 1 */; select 2"} {
		_, err := Split(text)
		assert.Error(t, err, text)
	}
}

// Whatever a text is, nothing of its statements is lost but what stands between them.
func FuzzSplit(f *testing.F) {
	f.Add("select ';' ; /* ; */ select 2;-- x;\n")
	f.Add("select 'it''s \\' ; ")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := Split(text)
		if err != nil {
			return
		}
		rest := text
		for _, s := range list {
			_, behind, found := strings.Cut(rest, s)
			assert.True(t, found, "%q of %q", s, text)
			rest = behind
		}
	})
}
