//go:build packages

package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"jollylarder/internal/control/client"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// machine is a system in a directory, in which packages are installed.
type machine struct {
	t    *testing.T
	root string
}

// newMachine makes one, from the mirror that this system's own packages come from.
func newMachine(t *testing.T) *machine {
	require.Zero(t, os.Getuid(), "packages are installed in a root directory of their own: run this as root")
	m := &machine{t, t.TempDir()}
	require.NoError(t, os.Chmod(m.root, 0o755))
	t.Cleanup(func() { _ = exec.Command("umount", filepath.Join(m.root, "proc")).Run() })
	targets, err := exec.Command("apt-get", "indextargets", "--format", "$(REPO_URI) $(CODENAME) $(COMPONENT)").Output()
	require.NoError(t, err)
	release, err := exec.Command("sh", "-c", ". /etc/os-release; echo $VERSION_CODENAME").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(string(targets), "\n") {
		if f := strings.Fields(line); len(f) == 3 && f[1] == strings.TrimSpace(string(release)) && f[2] == "main" {
			out, err := exec.Command("debootstrap", "--variant=minbase", f[1], m.root, f[0]).CombinedOutput()
			require.NoError(t, err, "%s", last(string(out), 2000))
			require.NoError(t, exec.Command("mount", "-t", "proc", "proc", filepath.Join(m.root, "proc")).Run())
			return m
		}
	}
	require.Fail(t, "this system names no mirror to make a system from", "%s", targets)
	return nil
}

func last(text string, n int) string { return text[max(len(text)-n, 0):] }

// run runs a command in it, and gives what that printed.
func (m *machine) run(command ...string) (string, error) {
	out, err := exec.Command("chroot", append([]string{m.root}, command...)...).CombinedOutput()
	return string(out), err
}

func (m *machine) must(command ...string) string {
	out, err := m.run(command...)
	require.NoError(m.t, err, "%v: %s", command, out)
	return out
}

func (m *machine) has(path string) bool {
	_, err := os.Lstat(filepath.Join(m.root, path))
	return err == nil
}

// install copies a package into it and has dpkg install that.
func (m *machine) install(file string) {
	text, err := os.ReadFile(file)
	require.NoError(m.t, err)
	require.NoError(m.t, os.WriteFile(filepath.Join(m.root, "tmp", "package.deb"), text, 0o644))
	m.must("env", "DEBIAN_FRONTEND=noninteractive", "dpkg", "--install", "/tmp/package.deb")
}

// serve starts the larder as its unit does: as its user, with its directories and its socket.
func (m *machine) serve(socket *os.File) *program {
	for _, dir := range []string{"run/jollylarder", "var/lib/jollylarder"} {
		require.NoError(m.t, os.MkdirAll(filepath.Join(m.root, dir), 0o700))
		m.must("chown", "jollylarder:jollylarder", "/"+dir)
	}
	unit, err := os.ReadFile(filepath.Join(m.root, "usr/lib/systemd/system/jollylarder.service"))
	require.NoError(m.t, err)
	_, rest, ok := strings.Cut(string(unit), "\nExecStart=")
	require.True(m.t, ok)
	line, _, _ := strings.Cut(rest, "\n")
	p := &program{t: m.t, cmd: exec.Command("sh", "-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$0" "$@"`, "chroot", "--userspec=jollylarder:jollylarder", m.root)}
	p.cmd.Args = append(p.cmd.Args, strings.Fields(line)...)
	p.cmd.ExtraFiles = []*os.File{socket}
	p.cmd.Stdout, p.cmd.Stderr = p, p
	require.NoError(m.t, p.cmd.Start())
	m.t.Cleanup(func() { _ = p.cmd.Process.Kill(); _ = p.cmd.Wait() })
	p.logs("the larder is running", 1)
	return p
}

// build builds packages of a version from a directory with the source, and gives their files and sums.
func build(t *testing.T, source, version string) (deb, rpm, sums string) {
	c := exec.Command("./scripts/package")
	c.Dir, c.Env = source, append(os.Environ(), "VERSION="+version)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", last(string(out), 3000))
	dir := filepath.Join(source, "bin", "package")
	deb = filepath.Join(t.TempDir(), "jollylarder.deb")
	require.NoError(t, exec.Command("sh", "-c", "cp "+dir+"/*.deb "+deb+" && cp "+dir+"/*.rpm "+deb+".rpm").Run())
	text, err := os.ReadFile(filepath.Join(dir, "SHA256SUMS"))
	require.NoError(t, err)
	return deb, deb + ".rpm", string(text)
}

// The package is installed, its larder serves, it is upgraded under a client's transaction, removed and purged.
func TestThePackageFromInstallToPurge(t *testing.T) {
	source, err := filepath.Abs("../..")
	require.NoError(t, err)
	first, rpm, sums := build(t, source, "0.1.0")
	second, _, _ := build(t, source, "0.1.1")

	// Another copy of the source, elsewhere, gives the same bytes.
	clone := filepath.Join(t.TempDir(), "elsewhere")
	require.NoError(t, exec.Command("git", "clone", "-q", source, clone).Run())
	if changed, err := exec.Command("git", "-C", source, "status", "--porcelain").Output(); err == nil && len(changed) == 0 {
		_, _, again := build(t, clone, "0.1.0")
		assert.Equal(t, sums, again)
	} else {
		t.Log("the source has changes that are not committed: that a clone gives the same bytes was not tried")
	}
	listed, err := exec.Command("rpm", "--query", "--package", "--list", rpm).Output()
	require.NoError(t, err)

	m := newMachine(t)
	m.install(first)
	for _, file := range []string{
		"/usr/bin/jollylarder", "/usr/lib/systemd/system/jollylarder.service", "/usr/lib/systemd/system/jollylarder.socket", "/etc/jollylarder/larder.toml",
		"/usr/share/man/man1/jollylarder-rules-choices.1.gz", "/usr/share/bash-completion/completions/jollylarder",
		"/usr/share/doc/jollylarder/NOTICES", "/usr/share/doc/jollylarder/sbom.cdx.json", "/usr/share/doc/jollylarder/docs/operations.md",
		"/usr/share/doc/jollylarder/docs/alerts.yml", "/usr/share/doc/jollylarder/docs/dashboard.json",
	} {
		if !strings.Contains(file, "/doc/") && !strings.Contains(file, "/man/") { // minimal systems leave these out
			assert.True(t, m.has(file), file)
		}
		assert.Contains(t, string(listed), file+"\n", "the .rpm has it as well")
		assert.Contains(t, m.must("dpkg", "--listfiles", "jollylarder"), file+"\n")
	}
	assert.Equal(t, "jollylarder jollylarder 750\n", m.must("stat", "-c", "%U %G %a", "/etc/jollylarder"))
	assert.Equal(t, "root jollylarder 640\n", m.must("stat", "-c", "%U %G %a", "/etc/jollylarder/larder.toml"))
	assert.Contains(t, m.must("getent", "passwd", "jollylarder"), "nologin")
	assert.Contains(t, m.must("/usr/bin/jollylarder", "--version"), "jollylarder")
	m.must("/usr/bin/jollylarder", "serve", "--config", "/etc/jollylarder/larder.toml", "--check")

	ln, f := socket(t, "tcp", "127.0.0.1:0")
	m.configure(ln.Addr(), origin(t, "Cairn Point"))
	p := m.serve(f)
	cfg, err := pgx.ParseConfig("postgres://ines@" + ln.Addr().String() + "/skerrow?sslmode=disable")
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	require.NoError(t, asksOnce(cfg))
	c, err := pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	defer c.Close(ctx)
	tx, err := c.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "update ports set name = 'Cairn' where id = 1")
	require.NoError(t, err)
	config, err := os.ReadFile(filepath.Join(m.root, "etc/jollylarder/larder.toml"))
	require.NoError(t, err)

	m.install(second)
	assert.Contains(t, m.must("dpkg", "--status", "jollylarder"), "Version: 0.1.1")
	after, err := os.ReadFile(filepath.Join(m.root, "etc/jollylarder/larder.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(config), string(after), "an upgrade leaves the configuration as it was edited")
	require.NoError(t, asksOnce(cfg), "the larder that runs goes on")

	// It hands over to the program that is installed now: the transaction goes on, and ends as it would have.
	api := client.NewClient(filepath.Join(m.root, "run/jollylarder/larder.sock"))
	p.endsSuccessor(api)
	assert.Contains(t, m.must("/usr/bin/jollylarder", "hand-over"), "has taken over")
	st, err := api.Status(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, p.cmd.Process.Pid, st.Process)
	require.NoError(t, asksOnce(cfg))
	_, err = tx.Exec(ctx, "select name from ports")
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	p.exits()

	// The service manager restarts it: so does another transaction, and who comes meanwhile waits.
	c, err = pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	defer c.Close(ctx)
	tx, err = c.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "update ports set name = 'Point' where id = 1")
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(st.Process, syscall.SIGTERM))
	came := make(chan error, 1)
	go func() { time.Sleep(100 * time.Millisecond); came <- asksOnce(cfg) }()
	_, err = tx.Exec(ctx, "select name from ports")
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	require.Eventually(t, func() bool { _, err := api.Status(ctx); return err != nil }, time.Minute, 5*time.Millisecond)
	require.Eventually(t, func() bool { return errors.Is(syscall.Kill(st.Process, 0), syscall.ESRCH) }, time.Minute, 5*time.Millisecond)
	p = m.serve(f)
	require.NoError(t, <-came)
	var name string
	c, err = pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	require.NoError(t, c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
	assert.Equal(t, "Point", name)
	require.NoError(t, c.Close(ctx))
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, p.cmd.Wait())

	m.must("dpkg", "--remove", "jollylarder")
	assert.False(t, m.has("/usr/bin/jollylarder"))
	assert.True(t, m.has("/etc/jollylarder/larder.toml"), "configuration, rules and state stay")
	assert.True(t, m.has("/var/lib/jollylarder/larder.db"))
	m.install(second)
	after, err = os.ReadFile(filepath.Join(m.root, "etc/jollylarder/larder.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(config), string(after))
	m.must("dpkg", "--purge", "jollylarder")
	for _, path := range []string{"/etc/jollylarder", "/var/lib/jollylarder", "/usr/share/doc/jollylarder", "/usr/lib/systemd/system/jollylarder.service"} {
		assert.False(t, m.has(path), path)
	}
	_, err = m.run("getent", "passwd", "jollylarder")
	var code *exec.ExitError
	assert.True(t, errors.As(err, &code), "its user is gone")
}

// configure sets in the configuration as it was installed where clients and the database are.
func (m *machine) configure(listen net.Addr, origin string) {
	path := filepath.Join(m.root, "etc/jollylarder/larder.toml")
	text, err := os.ReadFile(path)
	require.NoError(m.t, err)
	for from, to := range map[string]string{`"127.0.0.1:5432"`: fmt.Sprintf("%q", origin), `"127.0.0.1:7432"`: fmt.Sprintf("%q", listen)} {
		require.Contains(m.t, string(text), from)
		text = []byte(strings.ReplaceAll(string(text), from, to))
	}
	require.NoError(m.t, os.WriteFile(path, text, 0o640))
}
