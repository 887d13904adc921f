package tui_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The terminal knows a larder by its API alone: no engine, no wire, no database's grammar and no file of state is linked into it.
func TestTheTerminalKnowsNoEngine(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f", "{{.ImportPath}} {{.Standard}} {{len .CgoFiles}}", "jollylarder/internal/tui").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		f := strings.Fields(line)
		name, standard, cgo := f[0], f[1] == "true", f[2] != "0"
		assert.False(t, cgo && !standard, "%s is C", name)
		for _, room := range []string{"internal/core/engine", "internal/core/larder", "internal/core/store", "internal/wire", "internal/state", "internal/daemon", "internal/control/server", "internal/findings", "internal/feed"} {
			assert.False(t, strings.HasPrefix(name, "jollylarder/"+room), "the terminal is linked with %s", name)
		}
		assert.False(t, slices.ContainsFunc([]string{"sqlite", "pg_query", "pgx"}, func(s string) bool { return strings.Contains(name, s) }), "the terminal is linked with %s", name)
	}
}
