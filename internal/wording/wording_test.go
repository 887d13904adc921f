// Package wording holds no code: its test reads every text that users of the program can meet, and finds the words that
// are not used.
package wording

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unused are the words that texts do without, each with what is said in its place.
var unused = []struct {
	words   *regexp.Regexp
	instead string
}{
	{word(`spared?|spares|sparing|spareable`), "saved"},
	{word(`kept|keeps?|keeping|keepable`), "cached, caching"},
	{word(`pass|passes|passed|passing`), "bypass"},
	{word(`pushed out|push out|push_out|pushed_out`), "evicted"},
	{word(`foretold|foretells?|came true|outlook`), "forecast, actual"},
	{word(`rests? on|rested on|resting on|readings`), "depends on, dependencies"},
	{word(`pins|pinned`), "by key"},
	{word(`told apart|tells? apart`), "identified"},
	{word(`around the larder|around it|writes around`), "direct writes"},
	{word(`on hold|held|aside`), "caching off"},
	{word(`asked of the (origin|database) all the same`), "control sample"},
	{word(`old answers?|(was|be|found|is) old|stale catch(es)?`), "stale answer"},
	{word(`lays? (it |the \w+ )?out|laid out`), "details"},
	{word(`a lead|the lead|lead through|--lead|way through`), "tour"},
	{word(`half within|[0-9]+ of 10|99 (of|in) 100`), "p50, p90, p99"},
	{word(`what was waited|less waiting|of waiting`), "waited"},
	{word(`verdicts?`), "action"},
	{word(`she|he|her|his|him|whoever|whomever`), "you, or the thing's name"},
	{word(`largest_\w+|(drain|start|connect|idle|lost)_time|keep_values|hold_begin|poll_every|fetch_again|fetch_at_start|accept_time|keep_empty|when_stale|ttl_only|skip_empty`), "the key's own name"},
}

// plain are uses of such words in another sense: the text that stands there, in a file or anywhere (*).
var plain = []struct{ file, text string }{
	{"internal/core/analysis/postgres/functions.go", "lead least"}, // names of the server's functions
	{"internal/state/migrations.go", "passes"},                     // columns of the state file, which later ones rename
	{"internal/state/migrations.go", "pass_waited"},
	{"internal/state/migrations.go", "spared"},
	{"internal/state/migrations.go", "keepable"},
	{"internal/wire/postgres/catalogquery.go", "held"}, // a column of the larder's own query
}

func word(expression string) *regexp.Regexp {
	return regexp.MustCompile(`(?i)(^|[^A-Za-z0-9_/.-])(` + expression + `)($|[^A-Za-z0-9_/-])`)
}

// skipped are tools of the project itself, whose texts its users do not meet.
var skipped = regexp.MustCompile(`^(cmd/(faultcheck|floodcheck|freshcheck|clientcheck)|internal/(protocoltest|freshcheck|fault|private\w+|replay|wording))/`)

// text is one that users can meet.
type text struct {
	file string
	line int
	says string
}

func TestTextsUseTheProjectsWords(t *testing.T) {
	list := texts(t)
	require.Greater(t, len(list), 3000, "all of them are read")
	for _, f := range findings(list) {
		assert.Fail(t, f)
	}
}

// The test finds what it looks for, in a string, a tag, a document and across lines.
func TestWordsAreFound(t *testing.T) {
	for says, want := range map[string]string{
		"Its results are kept.":                     "cached, caching",
		`json:"pins,omitempty"`:                     "by key",
		"every statement passes":                    "bypass",
		"the draft\nfor whoever reads it":           "you, or the thing's name",
		"half within 3 ms":                          "p50, p90, p99",
		"jollylarder hold: all caching on hold":     "caching off",
		"it rests on sailings":                      "depends on, dependencies",
		"largest_result = \"1MiB\"":                 "the key's own name",
		"a write around the larder":                 "direct writes",
		"A password, a bypass, a shell, the header": "",
		"set aside":                                 "caching off",
	} {
		found := findings([]text{{"x.go", 1, says}})
		if want == "" {
			assert.Empty(t, found, says)
		} else if assert.Len(t, found, 1, says) {
			assert.Contains(t, found[0], want)
		}
	}
}

func findings(list []text) (out []string) {
	for _, x := range list {
		says := x.says
		for _, p := range plain {
			if p.file == "*" || strings.HasPrefix(x.file, p.file) {
				says = strings.ReplaceAll(says, p.text, "")
			}
		}
		for _, w := range unused {
			for _, at := range w.words.FindAllStringSubmatchIndex(says, -1) {
				line := x.line + strings.Count(says[:at[4]], "\n")
				out = append(out, fmt.Sprintf("%s:%d: %q: say %s: %s", x.file, line, says[at[4]:at[5]], w.instead, around(says, at[4])))
			}
		}
	}
	return out
}

// around gives some of a text on both sides of a place.
func around(says string, at int) string {
	return strings.ReplaceAll(says[max(0, at-40):min(len(says), at+40)], "\n", " ")
}

// texts gives every text: strings and tags of the program, documents, and the files that come with it.
func texts(t *testing.T) (out []text) {
	const root = "../.."
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		file, _ := filepath.Rel(root, path)
		switch {
		case d.IsDir() && (d.Name() == "testdata" || d.Name() == "bin" || len(d.Name()) > 2 && d.Name()[0] == '.'):
			return filepath.SkipDir
		case d.IsDir() || skipped.MatchString(file) || strings.HasSuffix(file, "_test.go"):
		case strings.HasSuffix(file, ".go"):
			out = append(out, literals(t, path, file)...)
		case strings.HasSuffix(file, ".md"), strings.HasSuffix(file, ".yml"), strings.HasSuffix(file, ".toml"), strings.HasSuffix(file, ".service"), file == "docs/images/overview.svg":
			says, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			out = append(out, text{file, 1, string(says)})
		}
		return nil
	}))
	return out
}

// literals gives the strings and tags of a file of Go.
func literals(t *testing.T, path, file string) (out []text) {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, path, nil, 0)
	require.NoError(t, err)
	imports := map[*ast.BasicLit]bool{}
	for _, i := range f.Imports {
		imports[i.Path] = true
	}
	ast.Inspect(f, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && !imports[l] {
			says, err := strconv.Unquote(l.Value)
			require.NoError(t, err)
			out = append(out, text{file, set.Position(l.Pos()).Line, says})
		}
		return true
	})
	return out
}
