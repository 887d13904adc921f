package wording

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told are the packages whose errors reach users as they are.
var told = regexp.MustCompile(`^(cmd/jollylarder|internal/(config|daemon|control/(server|client)|core/(rules|filter|bytesize|statement/labels)|tui(/\w+)?|trial(/\w+)?|report|explain|feed/postgres|protocol|state|lock|demo))/`)

// makes are the functions that make an error of a format: which of their arguments that is.
var makes = map[string]int{"Errorf": 0, "New": 0, "problem": 2, "wrong": 1, "missing": 1}

// remedy are words of an error that say what to do: what is expected, or which step helps.
var remedy = regexp.MustCompile(`expected |choose |set |start |use |stop |allow|lists|--[a-z]|docs/|try |put |wait|again|remove |rename |give |grant |install |apply |record |needs? |run |GET /|PUT |at least|at most`)

// plainly are errors for which there is nothing to do but to know.
var plainly = map[string]bool{
	// What was found, which is the command's result.
	"%d answers from memory differed from the database": true, "the rules file %s has %d errors": true, "%d differences": true,
	"%s: nothing was read": true, "the rules file equals the rules in force: there is nothing to apply": true,
	// Faults of the other side, or of the program: nobody can do anything but report them.
	"this connection cannot stream": true, "the server sent an empty message": true, "the server has ended the stream": true,
	"the server told of a table, number %d, that it has not described": true, "the slot was let go": true,
}

// errorsOf gives the formats of errors in a file of Go.
func errorsOf(t *testing.T, path, file string) (out []text) {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, path, nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		name := ""
		switch x := call.Fun.(type) {
		case *ast.Ident:
			name = x.Name
		case *ast.SelectorExpr:
			if p, ok := x.X.(*ast.Ident); ok && (p.Name == "errors" || p.Name == "fmt") {
				name = x.Sel.Name
			}
		}
		at, makesOne := makes[name]
		if !makesOne || len(call.Args) <= at {
			return true
		}
		if l, ok := call.Args[at].(*ast.BasicLit); ok && l.Kind == token.STRING {
			says, err := strconv.Unquote(l.Value)
			require.NoError(t, err)
			out = append(out, text{file, set.Position(l.Pos()).Line, says})
		}
		return true
	})
	return out
}

// Every error that users are told says what is wrong and what to do, or hands on the one below it; it begins like a part
// of a sentence, and ends without a full stop.
func TestErrorsSayWhatToDo(t *testing.T) {
	const root = "../.."
	var all []text
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		file, _ := filepath.Rel(root, path)
		if !d.IsDir() && told.MatchString(file) && strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go") {
			all = append(all, errorsOf(t, path, file)...)
		}
		return nil
	}))
	require.Greater(t, len(all), 150, "all of them are read")
	used := map[string]bool{}
	for _, x := range all {
		where := fmt.Sprintf("%s:%d: %q", x.file, x.line, x.says)
		if x.says == "" {
			continue
		}
		first := []rune(x.says)[0]
		assert.False(t, unicode.IsUpper(first) && !strings.HasPrefix(x.says, "TLS") && !strings.HasPrefix(x.says, "SQL"), "%s: an error begins in lower case", where)
		assert.False(t, strings.HasSuffix(x.says, "."), "%s: an error ends without a full stop", where)
		if plainly[x.says] {
			used[x.says] = true
			continue
		}
		if !remedy.MatchString(x.says) && !strings.Contains(x.says, "%w") && !strings.HasSuffix(x.says, "%v") && !strings.HasSuffix(x.says, "%s") {
			assert.Fail(t, where+": say what is expected, or what to do")
		}
	}
	for says := range plainly {
		assert.True(t, used[says], "no error says %q any more", says)
	}
}
