package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What each command ends with where it cannot do what it is asked, as docs/rules.md says, and what it says then.
func TestWhatCommandsEndWith(t *testing.T) {
	dir := t.TempDir()
	s := &shell{t, filepath.Join(dir, "larder.sock")}
	wrong, right := filepath.Join(dir, "wrong.toml"), filepath.Join(dir, "right.toml")
	require.NoError(t, os.WriteFile(wrong, []byte("[[rule]]\naction = \"perhaps\"\nttl = \"soon\"\n"), 0o600))
	require.NoError(t, os.WriteFile(right, []byte("[[rule]]\ntext = \"*\"\naction = \"bypass\"\n"), 0o600))
	const nobody = "no larder answers at "
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{nil, exitDone, "Available Commands"},
		{[]string{"rules"}, exitDone, "Available Commands"},
		{[]string{"--version"}, exitDone, "jollylarder version"},
		{[]string{"completion", "bash"}, exitDone, "bash"},
		{[]string{"rules", "check", right}, exitDone, "The file has no errors"},

		{[]string{"status"}, exitFailed, nobody},
		{[]string{"watch"}, exitFailed, nobody},
		{[]string{"rules", "list"}, exitFailed, nobody},
		{[]string{"rules", "history"}, exitFailed, nobody},
		{[]string{"rules", "undo"}, exitFailed, nobody},
		{[]string{"rules", "redo"}, exitFailed, nobody},
		{[]string{"rules", "diff", right}, exitFailed, nobody},
		{[]string{"rules", "forecast", right}, exitFailed, nobody},
		{[]string{"rules", "apply", right, "--why", "x"}, exitFailed, nobody},
		{[]string{"rules", "pause", "x", "--why", "x"}, exitFailed, nobody},
		{[]string{"caching", "on"}, exitFailed, nobody},
		{[]string{"drop", "--all"}, exitFailed, nobody},
		{[]string{"memory"}, exitFailed, nobody},
		{[]string{"explain", "select 1"}, exitFailed, nobody},
		{[]string{"record", "--out", filepath.Join(dir, "r.jsonl")}, exitFailed, nobody},
		{[]string{"report", "--out", filepath.Join(dir, "r.pdf")}, exitFailed, nobody},
		{[]string{"trial", "--live"}, exitFailed, nobody},
		{[]string{"rules", "check", filepath.Join(dir, "nothing.toml")}, exitFailed, "no such file"},
		{[]string{"serve", "--config", filepath.Join(dir, "nothing.toml")}, exitFailed, "no such file"},
		{[]string{"demo", "--origin", "foo://x"}, exitFailed, "foo:// is of no database"},

		{[]string{"nothing"}, exitUsage, `unknown command "nothing"`},
		{[]string{"rules", "nothing"}, exitUsage, `there is no command "nothing" of jollylarder rules: expected adopt, apply, check`},
		{[]string{"feed", "nothing"}, exitUsage, "expected"},
		{[]string{"status", "more"}, exitUsage, "expected jollylarder status"},
		{[]string{"status", "--nothing"}, exitUsage, "unknown flag"},
		{[]string{"serve", "--listen"}, exitUsage, "needs an argument"},
		{[]string{"rules", "check"}, exitUsage, "expected jollylarder rules check FILE"},
		{[]string{"rules", "diff"}, exitUsage, "expected jollylarder rules diff FILE"},
		{[]string{"rules", "apply", right}, exitUsage, `"why" not set`},
		{[]string{"explain"}, exitUsage, "expected jollylarder explain"},
		{[]string{"record"}, exitUsage, `"out" not set`},
		{[]string{"record", "--out", "x", "--for", "0s"}, exitUsage, "expected 1s to 24h"},
		{[]string{"trial"}, exitUsage, "at least one of the flags"},
		{[]string{"report"}, exitUsage, `"out" not set`},
		{[]string{"drop"}, exitUsage, "at least one of the flags"},
		{[]string{"caching"}, exitUsage, "expected on or off"},
		{[]string{"caching", "perhaps"}, exitUsage, "expected on or off"},
		{[]string{"feed", "setup"}, exitUsage, "--database is missing"},

		{[]string{"rules", "check", wrong}, exitWrongFile, wrong + ":2:1: action"},
		{[]string{"rules", "check", wrong}, exitWrongFile, "ttl \"soon\""}, // all that is wrong
		{[]string{"rules", "apply", wrong, "--why", "x"}, exitWrongFile, "action"},
	} {
		assert.Contains(t, s.does(c.code, c.args...), c.says, c.args)
	}
	assert.NoFileExists(t, filepath.Join(dir, "r.jsonl"))
	assert.NoFileExists(t, filepath.Join(dir, "r.pdf"))
}
