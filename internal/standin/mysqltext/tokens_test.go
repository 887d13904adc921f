package mysqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each piece of a statement is a token; comments are none, and quotes are those of the standard.
func TestTokens(t *testing.T) {
	for text, want := range map[string][]string{
		"select a.b,'it\\'s' from `x y` where c>=1.5 -- end": {"select", "a", ".", "b", ",", "'it''s'", "from", `"x y"`, "where", "c", ">=", "1.5"},
		"/* c */ set @@session.x := \"q\" # end":             {"set", "@@session", ".", "x", ":=", "'q'"},
		"":                                                   nil, "'open": {"'open'"}, "a||b&&c": {"a", "||", "b", "&&", "c"},
	} {
		assert.Equal(t, want, Tokens(text), text)
	}
}

// Texts and names come out of any bytes as SQLite has them, and nothing else is between quotes.
func FuzzTokens(f *testing.F) {
	for _, s := range []string{"select 'it\\'s' -- x\n", "`a``b`\"c\"\"d\"", "/* x", "'\\", "@@global.x := 1.5e3 <= 0x41", "#\n#"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, token := range Tokens(text) {
			require.NotEmpty(t, token)
			if q := token[0]; q == '\'' || q == '"' {
				inside := strings.ReplaceAll(token[1:len(token)-1], string([]byte{q, q}), "")
				assert.False(t, len(token) < 2 || token[len(token)-1] != q || strings.IndexByte(inside, q) >= 0, "%q of %q", token, text)
			}
		}
	})
}
