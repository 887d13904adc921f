// Package core holds the computation; this test keeps it so.
package core

import (
	"os/exec"
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
