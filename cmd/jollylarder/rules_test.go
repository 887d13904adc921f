package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	dialect "jollylarder/internal/core/dialect/postgres"
)

// shell runs commands against one larder, as scripts do.
type shell struct {
	*testing.T
	socket string
}

// run gives what a command printed and the code it ended with.
func (s *shell) run(args ...string) (out string, code int) {
	cmd := exec.Command(path, args...)
	cmd.Env = append(os.Environ(), "JOLLYLARDER_CONTROL="+s.socket)
	text, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		require.NoError(s, err)
	}
	return string(text), cmd.ProcessState.ExitCode()
}

// does runs a command that must end with a code.
func (s *shell) does(code int, args ...string) string {
	s.Helper()
	out, got := s.run(args...)
	assert.Equal(s, code, got, "%s: %s", strings.Join(args, " "), out)
	return out
}

// Rules by scripts, from checking to undoing, through a larder that is killed in between.
func TestRulesOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	s := &shell{t, filepath.Join(dir, "larder.sock")}
	listen, rules := free(t), filepath.Join(dir, "rules.toml")
	serve := []string{"serve", "--listen", listen, "--origin", origin(t, "Hallan"), "--rules", rules, "--control", s.socket, "--state", filepath.Join(dir, "state")}
	larder := run(t, serve...)
	larder.logs("the larder is running", 1)
	c := connect(t, "postgres://ines@"+listen+"/skerrow?sslmode=disable")
	name(t, c)

	id := dialect.Dialect.Syntax.Of(read)
	file := filepath.Join(dir, "mine.toml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	write(fmt.Sprintf("[[rule]]\npattern = %q\naction = \"perhaps\"\n", id))
	assert.Contains(t, s.does(exitWrongFile, "rules", "check", file), file+":3:1: action \"perhaps\"")
	assert.Contains(t, s.does(exitWrongFile, "rules", "apply", file, "--why", "x"), "action")
	write(fmt.Sprintf("# mine\n[[rule]]\nname = \"ports\"\npattern = %q\naction = \"cache\"\nttl = \"1m\"\n", id))
	assert.Contains(t, s.does(exitDone, "rules", "check", file), "The file has no errors; rules: 1")
	assert.Contains(t, s.does(exitDiffers, "rules", "diff", file), "added ports: pattern \""+string(id)+"\", action \"cache\", ttl \"1m\"")
	var forecast control.Forecast
	require.NoError(t, json.Unmarshal([]byte(s.does(exitDone, "rules", "forecast", file, "--json")), &forecast))
	assert.Contains(t, s.does(exitUsage, "rules", "apply", "--why", "x"), "expected a rules file")
	assert.Contains(t, s.does(exitConflict, "rules", "apply", file, "--why", "x", "--base", "another"), "the rules were changed in the meantime")
	assert.Contains(t, s.does(exitDone, "rules", "apply", file, "--why", "read all day"), "applied by")
	s.does(exitDone, "rules", "diff", file)
	doubtful := filepath.Join(dir, "doubtful.toml")
	require.NoError(t, os.WriteFile(doubtful, fmt.Appendf(nil, "[[rule]]\nname = \"all\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1m\"\n[[rule]]\nname = \"below\"\npattern = %q\naction = \"bypass\"\n"+
		"[[rule]]\nname = \"percent\"\ntables = [\"citties\"]\ntext = \"select %%\"\naction = \"cache\"\nttl = \"1m\"\n", id), 0o600))
	for _, command := range []string{"check", "diff", "forecast"} {
		said := s.does(map[bool]int{true: exitDiffers}[command == "diff"], "rules", command, doubtful)
		assert.Contains(t, said, "warning: rule below: it never decides: the rule all above it matches the same statements", command)
		assert.Contains(t, said, "warning: rule percent: its text", command)
		assert.Equal(t, 1, strings.Count(said, "warning: rule below"), said)
	}
	require.NoError(t, os.WriteFile(doubtful, []byte("[[rule]]\nname = \"cities\"\ntables = [\"citties\"]\naction = \"cache\"\nttl = \"1m\"\n"), 0o600))
	require.Eventually(t, func() bool { // when the catalog has been read
		name(t, c)
		return strings.Contains(s.does(exitDiffers, "rules", "diff", doubtful), "warning: rule cities: it matches no pattern so far, and no database has a table citties")
	}, eventually, poll)
	text, err := os.ReadFile(rules)
	require.NoError(t, err)
	assert.Contains(t, string(text), "# mine")
	name(t, c)
	name(t, c)
	assert.Contains(t, s.does(exitDone, "status"), "caching; rules: 1, paused: 0; clients: 1")
	assert.Contains(t, s.does(exitDone, "drop", "--rule", "ports"), "1 results dropped")
	s.does(exitFailed, "drop", "--rule", "nothing")
	assert.Contains(t, s.does(exitDone, "rules", "pause", "ports", "--why", "a doubt"), "paused none → true")
	assert.Contains(t, s.does(exitDone, "rules", "list"), "1 of 1  cache 1m, paused")
	s.does(exitDone, "caching", "off")
	var st control.Status
	require.NoError(t, json.Unmarshal([]byte(s.does(exitDone, "status", "--json")), &st))
	assert.Equal(t, "off", st.State)
	s.does(exitDone, "caching", "on")
	for _, wrong := range [][]string{{"hold", "perhaps"}, {"rules", "check"}, {"drop"}, {"rules", "apply", file}, {"nothing"}, {"status", "--nothing"}, {"drop", "--all", "--rule", "x"}} {
		s.does(exitUsage, wrong...)
	}
	assert.Contains(t, s.does(exitDone, "__complete", "rules", "pause", ""), "ports\tcache 1m")
	assert.Contains(t, s.does(exitDone, "__complete", "drop", "--pattern", ""), string(id))

	require.NoError(t, larder.cmd.Process.Kill()) // what was said to be done is remembered
	_ = larder.cmd.Wait()
	assert.Contains(t, s.does(exitFailed, "status"), "no larder answers")
	run(t, serve...).logs("the larder is running", 1)
	history := s.does(exitDone, "rules", "history")
	assert.Contains(t, history, "read all day")
	assert.Contains(t, history, "a doubt")
	assert.Contains(t, s.does(exitDone, "rules", "undo"), "undone by")
	assert.NotContains(t, s.does(exitDone, "rules", "list"), "paused")
	assert.Contains(t, s.does(exitDone, "rules", "redo"), "redone by")
	assert.Contains(t, s.does(exitConflict, "rules", "redo"), "nothing to redo")
	assert.Contains(t, s.does(exitDone, "rules", "undo"), "undone by")
	assert.Contains(t, s.does(exitDone, "rules", "undo"), "undone by", "and the change before")
	assert.Contains(t, s.does(exitConflict, "rules", "undo"), "nothing to undo")
	assert.Contains(t, s.does(exitDone, "rules", "redo"), "redone by")
	require.NoError(t, os.WriteFile(rules, []byte("# emptied by hand\n"), 0o600))
	require.Eventually(t, func() bool { return strings.Contains(s.does(exitDone, "status"), "the rules file was edited") }, eventually, poll)
	s.does(exitDone, "rules", "apply", "--edited", "--why", "Tomas did")
	assert.Contains(t, s.does(exitDone, "rules", "list"), "No rule is in force.")
}
