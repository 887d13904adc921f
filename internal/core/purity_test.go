// Package core holds the computation; this test keeps it so.
package core

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The computation knows nothing of the rooms above it, and its own code opens no network, file or terminal and asks no
// clock.
func TestCoreIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}", "./...").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		name, imports, _ := strings.Cut(line, ": ")
		for _, i := range strings.Fields(imports) {
			if strings.HasPrefix(i, "jollylarder/") {
				assert.True(t, strings.HasPrefix(i, "jollylarder/internal/core/"), "%s imports %s", name, i)
			}
			assert.False(t, slices.Contains([]string{"net", "net/http", "os", "os/exec", "io/fs", "syscall"}, i), "%s imports %s", name, i)
		}
	}
	deps, err := exec.Command("go", "list", "-deps", "./...").Output()
	require.NoError(t, err)
	for _, d := range strings.Fields(string(deps)) {
		assert.False(t, strings.HasPrefix(d, "jollylarder/") && !strings.HasPrefix(d, "jollylarder/internal/core"), "the core depends on %s", d)
	}
	clock, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Sleep|After|NewTimer|NewTicker)\(`, "--include=*.go", "--exclude=*_test.go", ".").CombinedOutput()
	assert.Error(t, err, "time is passed in, but: %s", clock)
}

// What is of one database alone is in the packages named after it: no other package of the core knows that it exists.
func TestCoreKnowsNoDatabase(t *testing.T) {
	own := func(name string) bool {
		return slices.ContainsFunc(strings.Split(name, "/"), func(part string) bool { return slices.Contains(databases, part) })
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Deps \" \"}}", "./...").Output()
	require.NoError(t, err)
	others := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		name, deps, _ := strings.Cut(line, ": ")
		if own(name) {
			continue
		}
		others++
		for _, d := range strings.Fields(deps) {
			assert.False(t, strings.HasPrefix(d, "jollylarder/") && own(d), "%s depends on %s", name, d)
			assert.NotRegexp(t, `pg_query|jackc|pingcap|go-mysql`, d, name)
		}
	}
	assert.Greater(t, others, 10)
	require.NoError(t, filepath.WalkDir(".", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") || own(filepath.ToSlash(filepath.Dir(file))) {
			return err
		}
		text, err := os.ReadFile(file)
		for i, line := range strings.Split(string(text), "\n") {
			assert.NotRegexp(t, ofOneDatabase, line, "%s, line %d", file, i+1)
		}
		return err
	}))
}

// databases are the names of the packages that know one, and ofOneDatabase finds what only such should speak of.
var (
	databases     = []string{"postgres", "mysql"}
	ofOneDatabase = regexp.MustCompile(`(?i)postgres|mysql|maria|\bpg_|\boids?\b|plpgsql|search_path|standard_conforming|sql_mode|pgproto`)
)
