package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatemaria"
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
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip("no PostgreSQL here: ", err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { pg.Stop() })
	listen := free(t)
	follow(t, "getting-started.md", 12, filepath.Dir(pg.Program("psql")), strings.NewReplacer("127.0.0.1:5432", pg.Address(), "127.0.0.1:7432", listen,
		`\! sleep 2`, `\! until jollylarder status --json | grep -q "catalog_known\": *true"; do sleep 0.1; done`))
	_, err = net.Dial("tcp", listen)
	assert.Error(t, err, "the last step has stopped it")
}

// waitsForFeed waits until a feed has told of all that was done before.
const waitsForFeed = `from=$(date +%s%N); until at=$(jollylarder status --json | sed -n '/"feeds"/,/]/s/.*"at": "\(.*\)".*/\1/p') && [ "$(date -d "$at" +%s%N)" -gt $((from + 500000000)) ]; do sleep 0.05; done`

// The page about MariaDB is true, command by command.
func TestInFrontOfMariaDB(t *testing.T) {
	server, err := privatemaria.Options{Settings: []string{"log-bin=binary"}}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip("no MariaDB here")
	}
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	db, err := sql.Open("mysql", "root@tcp("+server.Address()+")/")
	require.NoError(t, err)
	defer db.Close()
	for _, q := range []string{
		"create user ines identified by 'Quay#7'", "grant select, update on *.* to ines", "create database skerrow",
		"create table skerrow.ports (id int primary key, name varchar(40))",
		"create table skerrow.sailings (id int primary key, port int, foreign key (port) references skerrow.ports (id) on delete cascade)",
		"create view skerrow.open_sailings as select p.name from skerrow.sailings s join skerrow.ports p on p.id = s.port", "insert into skerrow.ports values (1, 'Cairn Point'), (2, 'Grey Skerry')",
	} {
		_, err = db.Exec(q)
		require.NoError(t, err)
	}
	listen := free(t)
	_, port, err := net.SplitHostPort(listen)
	require.NoError(t, err)
	_, own, err := net.SplitHostPort(server.Address())
	require.NoError(t, err)
	follow(t, "mariadb.md", 29, "/usr/bin", strings.NewReplacer("; sleep 1", `; until jollylarder status --json | grep -q 'catalog_known": *true'; do sleep 0.1; done`, "; sleep 0.3", "; "+waitsForFeed, "127.0.0.1:3306", server.Address(), "127.0.0.1:7306", listen, "-P 7306", "-P "+port, "-P 3306", "-P "+own))
	_, err = net.Dial("tcp", listen)
	assert.Error(t, err, "the last step has stopped it")
}

// longestPage is how long the commands of a page may take on whatever machine. What they have printed by then is shown.
const longestPage = 5 * time.Minute

// follow runs the commands of a page, of which there are so many at least, and holds what they print against it.
func follow(t *testing.T, page string, least int, programs string, here *strings.Replacer) {
	text, err := os.ReadFile("../../docs/" + page)
	require.NoError(t, err)
	list := steps(string(text))
	require.GreaterOrEqual(t, len(list), least)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(path, filepath.Join(dir, "jollylarder")))
	const mark = "--- end of a step ---"
	script := "set -m\n" // so that jobs can be named
	for _, s := range list {
		command := here.Replace(s.command)
		starts := strings.HasSuffix(command, "&")
		if starts { // what an earlier one has logged may still be there when this one is waited for
			script += "rm -f larder.log\n"
		}
		script += command + "\n"
		if starts { // the page's reader is no quicker than that
			script += "until grep -qs 'the larder is running' larder.log; do sleep 0.05; done\n"
		}
		script += "echo '" + mark + "'\n"
	}
	ctx, stop := context.WithTimeout(context.Background(), longestPage)
	defer stop()
	bash := exec.CommandContext(ctx, "bash", "-c", script)
	bash.Dir = dir
	bash.Env = append(os.Environ(), "PATH="+dir+":"+programs+":"+os.Getenv("PATH"))
	bash.Cancel = func() error { // with what it has started
		children, err := os.ReadFile(fmt.Sprintf("/proc/%[1]d/task/%[1]d/children", bash.Process.Pid))
		for _, child := range strings.Fields(string(children)) {
			if pid, err := strconv.Atoi(child); err == nil {
				_ = syscall.Kill(pid, syscall.SIGTERM)
			}
		}
		return errors.Join(err, bash.Process.Kill())
	}
	bash.WaitDelay = 5 * time.Second // what it has started may hold its output open
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
}
