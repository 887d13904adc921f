package advice

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every reason that the program gives for a call that passes is one of which it is known what would help, or that nothing would.
func TestEveryReasonHasARemedy(t *testing.T) {
	n := 0
	for _, pattern := range []string{"../engine/*.go", "../../wire/postgres/*.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
			require.NoError(t, err)
			ast.Inspect(tree, func(node ast.Node) bool {
				c, ok := node.(*ast.ValueSpec)
				if !ok || len(c.Values) != 1 || !strings.HasPrefix(c.Names[0].Name, "why") {
					return true
				}
				if text, ok := c.Values[0].(*ast.BasicLit); ok && text.Kind == token.STRING {
					reason, err := strconv.Unquote(text.Value)
					require.NoError(t, err)
					n++
					found := false
					for _, r := range remedies {
						found = found || strings.Contains(reason, r.words)
					}
					assert.True(t, found, "%s: %q", c.Names[0].Name, reason)
				}
				return true
			})
		}
	}
	assert.Greater(t, n, 25)
	assert.Equal(t, "a rule that keeps this pattern", Remedy("no rule keeps this pattern"))
	assert.Empty(t, Remedy("something nobody has thought of"))
}
