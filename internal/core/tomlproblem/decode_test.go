package tomlproblem

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

type berth struct {
	Quay   string            `toml:"quay"`
	Length int               `toml:"length"`
	Free   bool              `toml:"free"`
	Ships  []string          `toml:"ships"`
	Labels map[string]string `toml:"labels"`
}

// All values of a wrong kind are found in one go, wherever they end, and what is right is read nevertheless.
func TestAllThatIsWrongIsSaidAtOnce(t *testing.T) {
	doc, problems, whole := Decode[berth]([]byte(`quay = "north"   # right
length = "ten # metres"
free = [ # of
  "yes",
  'no',
]
ships = """
Tern = 5
"""
depth = 4
labels = { a = 5 }
`))
	assert.True(t, whole)
	assert.Equal(t, "north", doc.Quay)
	assert.Equal(t, []Problem{
		{Line: 2, Column: 10, Text: "length: expected a whole number, not a TOML string"},
		{Line: 3, Column: 8, Text: "free: expected true or false, not a TOML array"},
		{Line: 7, Column: 9, Text: "ships: expected a list of texts in quotes, not a TOML string"},
		{Line: 11, Column: 16, Text: "labels: expected a text in quotes, not a TOML integer"},
		{Line: 10, Column: 1, Unknown: []string{"depth"}},
	}, problems)
}

// What is no TOML is said once, and nothing is read.
func TestWhatIsNoTOML(t *testing.T) {
	for text, says := range map[string]string{
		"quay = \"north": "unterminated", "length = 1\nlength = 2": "length", "= 4": "", "quay = north": "",
	} {
		_, problems, whole := Decode[berth]([]byte(text))
		assert.False(t, whole, text)
		if assert.Len(t, problems, 1, text) {
			assert.Contains(t, problems[0].Text, says)
			assert.Nil(t, problems[0].Unknown)
		}
	}
}

// Whatever a file holds, it is read to an end, each problem has a place in it, and none is said twice.
func FuzzDecode(f *testing.F) {
	f.Add("length = \"x\"\nfree = 3\nships = {a = [1,\n2]}\n[labels]\na = 4\nb = true")
	f.Add("free = \"\"\"\n\"\"\"\"\"\nlength='''a''''")
	f.Add("labels.a = 1\nlabels.b = [\n]\r\nquay = 1979-05-27")
	f.Fuzz(func(t *testing.T, text string) {
		_, problems, _ := Decode[berth]([]byte(text))
		lines := strings.Count(text, "\n") + 1
		seen := map[string]bool{}
		for _, p := range problems {
			assert.GreaterOrEqual(t, p.Line, 1)
			assert.LessOrEqual(t, p.Line, lines)
			key := strings.Join(p.Unknown, ".") + p.Text + string(rune(p.Line)) + string(rune(p.Column))
			assert.False(t, seen[key], "%q: %+v", text, p)
			seen[key] = true
		}
	})
}
