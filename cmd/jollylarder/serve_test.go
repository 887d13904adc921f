package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/standin"
)

var ctx = context.Background()

// program is the real one, running.
type program struct {
	t   *testing.T
	cmd *exec.Cmd
	mu  sync.Mutex
	log bytes.Buffer
}

func (p *program) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.log.Write(b)
}

// path is where the program is built, once for all tests.
var path string

func TestMain(m *testing.M) {
	if os.Getenv(collectInstead) != "" {
		collects()
	}
	dir, err := os.MkdirTemp("", "jollylarder-test-")
	if err == nil {
		path = filepath.Join(dir, "jollylarder")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", path, ".").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func run(t *testing.T, args ...string) *program {
	p := &program{t: t, cmd: exec.Command(path, args...)}
	p.cmd.Stdout, p.cmd.Stderr = p, p
	require.NoError(t, p.cmd.Start())
	t.Cleanup(func() { _ = p.cmd.Process.Kill(); _ = p.cmd.Wait() })
	return p
}

// text gives what the log holds, and times how often it holds a text.
func (p *program) text() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.log.String()
}

func (p *program) times(text string) int { return strings.Count(p.text(), text) }

// logs waits until the log holds a text so many times.
func (p *program) logs(text string, times int) {
	p.t.Helper()
	has := func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return strings.Count(p.log.String(), text) >= times
	}
	for start := time.Now(); !has(); time.Sleep(5 * time.Millisecond) {
		if time.Since(start) > eventually {
			p.mu.Lock()
			defer p.mu.Unlock()
			require.FailNow(p.t, "not in the log: "+text, p.log.String())
		}
	}
}

// origin starts a stand-in with one row, and gives its address.
func origin(t *testing.T, name string) string {
	o, err := standin.New(standin.Options{})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = o.Serve(l) }()
	t.Cleanup(func() { l.Close(); o.Close() })
	c := connect(t, "postgres://ines@"+l.Addr().String()+"/skerrow?sslmode=disable")
	_, err = c.Exec(ctx, "create table ports (id integer primary key, name text); insert into ports values (1, '"+name+"')")
	require.NoError(t, err)
	return l.Addr().String()
}

func connect(t *testing.T, url string) *pgx.Conn {
	cfg, err := pgx.ParseConfig(url)
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	c, err := pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(ctx) })
	return c
}

func free(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

const (
	eventually = time.Minute
	poll       = 20 * time.Millisecond
)

const read = "select name from ports where id = 1"

func name(t *testing.T, c *pgx.Conn) (name string) {
	require.NoError(t, c.QueryRow(ctx, read).Scan(&name))
	return name
}

// certificate writes a certificate and its key.
func certificate(t *testing.T, dir, file string) {
	a, err := privatepg.NewAuthority("Skerrow Ferries")
	require.NoError(t, err)
	cert, key, err := a.Issue("127.0.0.1")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, file+".pem"), cert, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, file+"-key.pem"), key, 0o600))
}

// A larder before two databases: its configuration is checked, serves, is read again, and ends in good order.
func TestServe(t *testing.T) {
	dir := t.TempDir()
	north, south := origin(t, "north"), origin(t, "south")
	a, b, socket := free(t), free(t), filepath.Join(dir, ".s.PGSQL.7432")
	certificate(t, dir, "larder")
	file := filepath.Join(dir, "larder.toml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	good := fmt.Sprintf(`
rules = "rules.toml"
control = "control.sock"
drain_timeout = "10s"
[log]
format = "json"
[[origin]]
name = "north"
address = %q
listen = [%q, %q]
[origin.clients]
tls = "offered"
certificate = "larder.pem"
key = "larder-key.pem"
[[origin]]
name = "south"
address = %q
listen = [%q]
`, north, a, socket, south, b)
	check := func() string {
		out, _ := exec.Command(path, "serve", "--config", file, "--check").CombinedOutput()
		return string(out)
	}
	write(strings.Replace(good, "drain_timeout", "drane_time", 1))
	assert.Contains(t, check(), "larder.toml, line 4, column 1: there is no key drane_time")
	write(strings.Replace(good, "larder-key", "lost-key", 1))
	assert.Contains(t, check(), `larder.toml, line 14, column 1: key = "lost-key.pem" cannot be read: no such file or directory`)
	write(strings.Replace(regexp.MustCompile(`drain_timeout = .*`).ReplaceAllString(good, "drain_timeout = 5"), "larder-key", "lost-key", 1))
	assert.Contains(t, check(), "drain_timeout: expected a text in quotes")
	assert.Contains(t, check(), "lost-key.pem", "one wrong value hides no other")
	write("")
	assert.Contains(t, check(), "names no origin")
	write(strings.Replace(good, fmt.Sprintf("address = %q", south), fmt.Sprintf("address = %q", a), 1))
	assert.Contains(t, check(), "where this larder itself listens")
	require.NoError(t, os.Chmod(filepath.Join(dir, "larder-key.pem"), 0o644))
	write(good)
	assert.Contains(t, check(), "chmod 600")
	require.NoError(t, os.Chmod(filepath.Join(dir, "larder-key.pem"), 0o600))
	write(good)
	assert.Contains(t, check(), "The configuration has no errors: north at "+north)

	rule := fmt.Sprintf("[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1m\"\n", dialect.Dialect.Syntax.Of(read))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.toml"), []byte(rule), 0o600))
	p := run(t, "serve", "--config", file)
	p.logs("the larder is running", 1)

	overTCP := connect(t, "postgres://ines@"+a+"/skerrow?sslmode=disable")
	other := connect(t, "postgres://ines@"+b+"/skerrow?sslmode=disable")
	api := client.NewClient(filepath.Join(dir, "control.sock"))
	hits := func() uint64 {
		time.Sleep(200 * time.Millisecond) // a status may be as old as that
		st, err := api.Status(ctx)
		require.NoError(t, err)
		return st.Total.Hits
	}
	require.Eventually(t, func() bool {
		assert.Equal(t, "north", name(t, overTCP))
		assert.Equal(t, "south", name(t, other), "results are never mixed")
		return hits() > 4
	}, time.Minute, 10*time.Millisecond)
	overUnix := connect(t, "host="+dir+" port=7432 user=ines dbname=skerrow sslmode=disable")
	assert.Equal(t, "north", name(t, overUnix))
	st, err := api.Status(ctx)
	require.NoError(t, err)
	require.Len(t, st.Origins, 2)
	assert.Equal(t, control.Origin{Name: "south", Protocol: "postgresql", Address: south, Listen: []string{b}, Clients: 1}, st.Origins[1])
	_, err = other.Exec(ctx, "update ports set name = 'far south'")
	require.NoError(t, err)
	before := hits()
	assert.Equal(t, "north", name(t, overTCP))
	assert.Equal(t, "far south", name(t, other))
	assert.Equal(t, before+1, hits(), "a write to one origin drops nothing of the other's")

	// Read again: another certificate and no rule; then something wrong, and nothing changes.
	shown := func() []byte {
		c, err := tls.Dial("tcp", a, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"postgresql"}})
		require.NoError(t, err)
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].Raw
	}
	first := shown()
	certificate(t, dir, "larder")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.toml"), nil, 0o600))
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	p.logs("the configuration was reloaded", 1)
	assert.NotEqual(t, first, shown())
	before = hits()
	assert.Equal(t, "north", name(t, overTCP), "the connection is the same")
	assert.Equal(t, before, hits(), "no rule keeps it any more")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.toml"), []byte(rule+"action = 3\n"), 0o600))
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	p.logs("the configuration was not reloaded", 1)
	write(strings.Replace(good, `name = "south"`, `name = "west"`, 1))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.toml"), []byte(rule), 0o600))
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	p.logs("the configuration was not reloaded", 2)
	p.logs("restart it", 1)
	name(t, overTCP)
	name(t, overTCP)
	assert.Equal(t, before, hits(), "also the part that was right was left out")
	write(good)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	p.logs("the configuration was reloaded", 2)

	tx, err := overTCP.Begin(ctx)
	require.NoError(t, err)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	p.logs("when its busy clients have finished", 1)
	require.Eventually(t, func() bool { _, err := net.Dial("tcp", a); return err != nil }, time.Minute, 5*time.Millisecond)
	require.Eventually(t, func() bool { _, err = other.Exec(ctx, read); return err != nil }, time.Minute, time.Millisecond, "it may just have been about to be ended")
	assert.ErrorContains(t, err, "57P01")
	_, err = tx.Exec(ctx, "update ports set name = 'done'")
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	require.NoError(t, p.cmd.Wait(), "it ends well")
	assert.NoFileExists(t, socket)
}

// What a flag says counts before the environment, and that before the file.
func TestWhereSettingsComeFrom(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "larder.toml")
	require.NoError(t, os.WriteFile(file, []byte("memory = \"64MiB\"\n[[origin]]\naddress = \"127.0.0.1:1\"\nlisten = [\"127.0.0.1:2\"]\n"), 0o600))
	check := func(env []string, args ...string) string {
		cmd := exec.Command(path, append([]string{"serve", "--check"}, args...)...)
		cmd.Env = append(os.Environ(), env...)
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	assert.Contains(t, check(nil), "127.0.0.1:5432 behind 127.0.0.1:7432")
	assert.Contains(t, check(nil, "--config", file), "127.0.0.1:1 behind 127.0.0.1:2")
	env := []string{"JOLLYLARDER_CONFIG=" + file, "JOLLYLARDER_ORIGIN=127.0.0.1:3", "JOLLYLARDER_LISTEN=127.0.0.1:4,127.0.0.1:5"}
	assert.Contains(t, check(env), "127.0.0.1:3 behind 127.0.0.1:4 and 127.0.0.1:5")
	assert.Contains(t, check(env, "--origin", "127.0.0.1:6"), "127.0.0.1:6 behind 127.0.0.1:4")
	assert.Contains(t, check([]string{"JOLLYLARDER_MEMORY=12"}), `--memory "12": expected a number with a unit`)
	assert.Contains(t, check(nil, "--log-level", "loud"), "expected debug, info, warn or error")
	assert.Contains(t, check(nil, "--config", filepath.Join(dir, "none.toml")), "cannot read the configuration")
}
