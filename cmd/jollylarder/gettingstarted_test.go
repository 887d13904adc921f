package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

// step is a command of a page, with what it prints.
type step struct{ command, prints string }

// steps gives the commands of a page's consoles, in order.
func steps(page string) (list []step) {
	inside := false
	for line := range strings.Lines(page) {
		command, is := strings.CutPrefix(line, "$ ")
		switch {
		case strings.HasPrefix(line, "```"):
			inside = line == "```console\n"
		case inside && is:
			list = append(list, step{command: strings.TrimSpace(command)})
		case inside:
			list[len(list)-1].prints += line
		}
	}
	return list
}

// What the page for beginners says is so: each of its commands does, in front of a real server, what stands below it.
func TestGettingStarted(t *testing.T) {
	pg, err := privatepg.Start("")
	if err != nil && os.Getenv("CI") != "true" {
		t.Skip("no PostgreSQL here: ", err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { pg.Stop() })
	page, err := os.ReadFile("../../docs/getting-started.md")
	require.NoError(t, err)
	list := steps(string(page))
	require.Greater(t, len(list), 12)

	listen := free(t)
	here := strings.NewReplacer("127.0.0.1:5432", pg.Address(), "127.0.0.1:7432", listen,
		`\! sleep 2`, `\! until jollylarder status --json | grep -q "catalog_known\": *true"; do sleep 0.1; done`)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(path, filepath.Join(dir, "jollylarder")))
	const mark = "--- end of a step ---"
	script := "set -m\n" // so that jobs can be named
	for _, s := range list {
		command := here.Replace(s.command)
		script += command + "\n"
		if strings.HasSuffix(command, "&") { // the page's reader is no quicker than that
			script += "until grep -qs 'the larder is running' larder.log; do sleep 0.05; done\n"
		}
		script += "echo '" + mark + "'\n"
	}
	bash := exec.Command("bash", "-c", script)
	bash.Dir = dir
	bash.Env = append(os.Environ(), "PATH="+dir+":"+filepath.Dir(pg.Program("psql"))+":"+os.Getenv("PATH"))
	out, err := bash.CombinedOutput()
	require.NoError(t, err, string(out))
	printed := strings.Split(string(out), mark+"\n")
	require.Len(t, printed, len(list)+1, string(out))
	for i, s := range list {
		var want strings.Builder
		for line := range strings.Lines(here.Replace(s.prints)) {
			if line == "…\n" {
				want.WriteString(`(?s:.*)`)
				continue
			}
			want.WriteString(strings.ReplaceAll(regexp.QuoteMeta(line), "…", ".*"))
		}
		assert.Regexp(t, "^"+want.String()+"$", printed[i], s.command)
	}
	_, err = net.Dial("tcp", listen)
	assert.Error(t, err, "the last step has stopped it")
}
