// Package privatemaria starts MariaDB servers for tests: each with its own data directory, on a free port of the loopback,
// as an unprivileged user when the tests run as root.
package privatemaria

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"jollylarder/internal/privatepg"
)

// ErrMissing says that no MariaDB server is installed.
var ErrMissing = errors.New("no MariaDB server is installed; scripts/install-test-tools gets one")

// Server is a running server.
type Server struct {
	// Port is where it listens on 127.0.0.1.
	Port int
	dir  string
	cmd  *exec.Cmd
}

// Options say how a server differs from the usual one.
type Options struct {
	// Settings are as in "max_connections=50".
	Settings []string
	// Files are put into its directory by their names; "$dir" in a setting stands for that.
	Files map[string][]byte
}

// Start makes and starts a server. Its superuser root has no password.
func (o Options) Start() (s *Server, err error) {
	install, err := exec.LookPath("mariadb-install-db")
	if err != nil {
		return nil, ErrMissing
	}
	server, err := exec.LookPath("mariadbd")
	if err != nil {
		if server, err = exec.LookPath("/usr/sbin/mariadbd"); err != nil {
			return nil, ErrMissing
		}
	}
	dir, err := os.MkdirTemp("", "jollylarder-maria-")
	if err != nil {
		return nil, err
	}
	s = &Server{dir: dir}
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	attr, err := privatepg.Unprivileged(dir)
	if err != nil {
		return nil, err
	}
	tmp := filepath.Join(dir, "tmp") // of its own: a server that starts removes others' internal tables from a shared one
	if err := os.Mkdir(tmp, 0o700); err != nil {
		return nil, err
	}
	if _, err := privatepg.Unprivileged(tmp); err != nil {
		return nil, err
	}
	prepare := exec.Command(install, "--no-defaults", "--datadir="+s.data(), "--auth-root-authentication-method=normal", "--skip-test-db", "--tmpdir="+tmp, "--innodb-flush-log-at-trx-commit=0")
	prepare.SysProcAttr, prepare.Dir = attr, dir
	if out, err := prepare.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("mariadb-install-db: %w: %s", err, out)
	}
	for name, text := range o.Files {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.Port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	args := []string{"--no-defaults", "--datadir=" + s.data(), "--tmpdir=" + tmp, "--socket=" + s.Socket(), "--port=" + strconv.Itoa(s.Port), "--bind-address=127.0.0.1",
		"--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=64M", "--max-connections=200",
		"--pid-file=" + filepath.Join(dir, "pid")}
	for _, x := range o.Settings {
		args = append(args, "--"+os.Expand(x, func(string) string { return dir }))
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s.cmd = exec.Command(server, args...)
	s.cmd.SysProcAttr, s.cmd.Dir, s.cmd.Stdout, s.cmd.Stderr = attr, dir, log, log
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting mariadbd: %w", err)
	}
	for range 600 {
		if c, err := net.Dial("tcp", s.Address()); err == nil {
			c.Close()
			return s, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	text, _ := os.ReadFile(filepath.Join(dir, "log"))
	return nil, fmt.Errorf("mariadbd did not start: %s", text)
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// Address is where it listens.
func (s *Server) Address() string { return "127.0.0.1:" + strconv.Itoa(s.Port) }

// Socket is the path of its Unix socket.
func (s *Server) Socket() string { return filepath.Join(s.dir, "socket") }

// Stop ends the server and removes its data.
func (s *Server) Stop() {
	if s.cmd != nil && s.cmd.Process != nil {
		_ = s.cmd.Process.Signal(syscall.SIGKILL)
		_ = s.cmd.Wait()
	}
	_ = os.RemoveAll(s.dir)
}
