package rules

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
)

const written = `# the harbour's rules

# boards ask all day
[[rule]]
pattern = "bado-kife-ruma"
verdict = "keep"   # fine with Ines of the harbour office
ttl = "30s"

[[rule]]
verdict = "never"
pattern = "sopi-luna-gito"
# end of file
`

func TestParse(t *testing.T) {
	s, err := Parse([]byte(written))
	require.NoError(t, err)
	assert.Equal(t, 30*time.Second, s.For("bado-kife-ruma").TTL)
	assert.Equal(t, Never, s.For("sopi-luna-gito").Verdict)
	assert.Nil(t, s.For("bado-bado-bado"))
	assert.True(t, s.Keeps())
}

func TestEveryErrorHasItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"[[rule]]\npattern = \"x\"\nverdict = \"keep\"\nttl = \"1s\"\n":                                                      "line 2, column 1: pattern \"x\" is not written like an id",
		"[[rule]]\npattern = \"bado-kife-ruma\"\n  verdict = \"maybe\"\n":                                                    "line 3, column 3: verdict \"maybe\"",
		"\n[[rule]]\npattern = \"bado-kife-ruma\"\nverdict = \"keep\"\nttl = \"soon\"\n":                                     "line 5, column 1: ttl \"soon\"",
		"[[rule]]\npattern = \"bado-kife-ruma\"\nverdict = \"keep\"\n":                                                       "line 3, column 1: a rule that keeps needs a ttl",
		"[[rule]]\nverdict = \"never\"\n":                                                                                    "line 1, column 1: the rule has no pattern",
		"[[rule]]\npatern = \"bado-kife-ruma\"\n":                                                                            "line 2, column 1: unknown key rule.patern",
		"[[rule]]\npattern = \"bado-kife-ruma\nverdict = 1":                                                                  "line 2, column",
		"[[rule]]\npattern=\"bado-kife-ruma\"\nverdict=\"never\"\n[[rule]]\npattern=\"bado-kife-ruma\"\nverdict=\"never\"\n": "line 5, column 1: pattern bado-kife-ruma already has a rule in line 2",
	} {
		_, err := Parse([]byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
}

func TestEditsKeepTheRest(t *testing.T) {
	out, err := Put([]byte(written), Rule{Pattern: "bado-kife-ruma", Verdict: Keep, TTL: 5 * time.Minute})
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(strings.Replace(written, "   # fine with Ines of the harbour office", "", 1), "30s", "5m", 1), string(out))

	out, err = Remove([]byte(written), "bado-kife-ruma")
	require.NoError(t, err)
	assert.Equal(t, "# the harbour's rules\n\n"+written[strings.LastIndex(written, "[[rule]]"):], string(out))
}

// A file written by the tool reads back the same, in any order of edits, with the comments of others in it.
func TestWrittenRulesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := []byte(rapid.SampledFrom([]string{"", written, "# only a comment", "\n\n"}).Draw(t, "start"))
		start, err := Parse(text)
		require.NoError(t, err)
		want := map[statement.ID]Rule{}
		for _, r := range start.List() {
			want[r.Pattern] = r
		}
		for range rapid.IntRange(1, 8).Draw(t, "edits") {
			id := statement.ID(rapid.SampledFrom([]string{"bado-kife-ruma", "sopi-luna-gito", "riva-toma-dilo"}).Draw(t, "id"))
			if rapid.Bool().Draw(t, "remove") {
				delete(want, id)
				text, err = Remove(text, id)
			} else {
				r := Rule{Pattern: id, Verdict: Keep, Note: rapid.String().Draw(t, "note"), Statement: "select 'x' \"y\"",
					TTL: time.Duration(rapid.IntRange(0, 1e5).Draw(t, "ttl")) * time.Second}
				want[id] = r
				text, err = Put(text, r)
			}
			require.NoError(t, err)
		}
		back, err := Parse(text)
		require.NoError(t, err)
		got := map[statement.ID]Rule{}
		for _, r := range back.List() {
			got[r.Pattern] = r
		}
		assert.Equal(t, want, got)
	})
}
