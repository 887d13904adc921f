// Package privatepg starts PostgreSQL servers for tests: each with its own data directory, on a free port of the
// loopback, as an unprivileged user when the tests run as root.
package privatepg

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"
)

// ErrMissing says that no PostgreSQL server is installed.
var ErrMissing = errors.New("no PostgreSQL server is installed; scripts/install-test-tools gets one")

// Server is a running server.
type Server struct {
	// Port is where it listens on 127.0.0.1.
	Port int
	dir  string
	cmd  *exec.Cmd
	bin  string

	settings []string
}

// Binaries gives the directory of the newest server's programs.
func Binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		if p, err := exec.LookPath("initdb"); err == nil {
			found = []string{p}
		}
	}
	if len(found) == 0 {
		return "", ErrMissing
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// Options say how a server differs from one that lets everybody in.
type Options struct {
	// HBA stands first in the rules for who may connect how.
	HBA string
	// Settings are as in "max_connections=50".
	Settings []string
	// Files are put into its data directory, for itself alone, by their names.
	Files map[string][]byte
}

// Start makes and starts a server with the given settings. The superuser is postgres and needs no password, unless
// hba says so.
func Start(hba string, settings ...string) (*Server, error) {
	return Options{HBA: hba, Settings: settings}.Start()
}

// Start makes and starts a server.
func (o Options) Start() (s *Server, err error) {
	bin, err := Binaries()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(fastest(), "jollylarder-pg-")
	if err != nil {
		return nil, err
	}
	s = &Server{dir: dir, bin: bin}
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	attr, err := Unprivileged(dir)
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	initdb := exec.Command(filepath.Join(bin, "initdb"), "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C", "--no-sync")
	initdb.SysProcAttr, initdb.Dir = attr, dir
	if out, err := initdb.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w: %s", err, out)
	}
	if err := os.WriteFile(filepath.Join(data, "pg_hba.conf"), []byte(o.HBA+"\nlocal all all trust\nhost all all 127.0.0.1/32 trust\nhost replication all 127.0.0.1/32 trust\n"), 0o644); err != nil {
		return nil, err
	}
	for name, text := range o.Files {
		path := filepath.Join(data, name)
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return nil, err
		}
		if attr.Credential != nil {
			if err := os.Chown(path, int(attr.Credential.Uid), int(attr.Credential.Gid)); err != nil {
				return nil, err
			}
		}
	}
	s.settings = o.Settings
	return s, s.run()
}

// run starts the server on a free port, or on the one that it had, and waits until it answers.
func (s *Server) run() error {
	attr, err := Unprivileged(s.dir)
	if err != nil {
		return err
	}
	if s.Port == 0 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		s.Port = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	args := []string{"-D", s.data(), "-p", strconv.Itoa(s.Port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=" + s.dir, "-c", "fsync=off", "-c", "max_connections=100"}
	for _, x := range s.settings {
		args = append(args, "-c", x)
	}
	log, err := os.Create(filepath.Join(s.dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command(filepath.Join(s.bin, "postgres"), args...)
	s.cmd.SysProcAttr, s.cmd.Dir, s.cmd.Stdout, s.cmd.Stderr = attr, s.dir, log, log
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("starting postgres: %w", err)
	}
	for range 300 {
		ready := exec.Command(filepath.Join(s.bin, "pg_isready"), "-q", "-h", "127.0.0.1", "-p", strconv.Itoa(s.Port))
		if ready.Run() == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	text, _ := os.ReadFile(filepath.Join(s.dir, "log"))
	return fmt.Errorf("postgres did not start: %s", text)
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// Process is the number of the server's first process.
func (s *Server) Process() int { return s.cmd.Process.Pid }

// Restart starts the server again, on its port and with its data, after Kill or when it has crashed.
func (s *Server) Restart() error {
	_ = s.cmd.Wait()
	return s.run()
}

// Kill ends the server as a crash would.
func (s *Server) Kill() {
	_ = s.cmd.Process.Signal(syscall.SIGQUIT) // its children end at once as well, without a checkpoint
	_ = s.cmd.Wait()
}

// Copy makes a server with the data that this one has now, and starts it: one that follows this, or stands for itself.
func (s *Server) Copy(follows bool) (c *Server, err error) {
	dir, err := os.MkdirTemp(fastest(), "jollylarder-pg-")
	if err != nil {
		return nil, err
	}
	c = &Server{dir: dir, bin: s.bin, settings: s.settings}
	defer func() {
		if err != nil {
			c.Stop()
		}
	}()
	attr, err := Unprivileged(dir)
	if err != nil {
		return nil, err
	}
	args := []string{"-D", c.data(), "-h", "127.0.0.1", "-p", strconv.Itoa(s.Port), "-U", "postgres", "-c", "fast", "--no-sync"}
	if follows {
		args = append(args, "-R")
	}
	backup := exec.Command(filepath.Join(s.bin, "pg_basebackup"), args...)
	backup.SysProcAttr, backup.Dir = attr, dir
	if out, err := backup.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("pg_basebackup: %w: %s", err, out)
	}
	return c, c.run()
}

// Promote has a server that follows another stand for itself.
func (s *Server) Promote() error {
	attr, err := Unprivileged(s.dir)
	if err != nil {
		return err
	}
	c := exec.Command(filepath.Join(s.bin, "pg_ctl"), "promote", "-w", "-D", s.data())
	c.SysProcAttr, c.Dir = attr, s.dir
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("pg_ctl promote: %w: %s", err, out)
	}
	return nil
}

// fastest gives a directory in memory, if there is one with room: making databases is mostly waiting for disks.
func fastest() string {
	const memory, room = "/dev/shm", 3 << 30
	var st syscall.Statfs_t
	if err := syscall.Statfs(memory, &st); err == nil && st.Bavail*uint64(st.Bsize) >= room {
		return memory
	}
	return ""
}

// Unprivileged lets a child run as a user that the server accepts, and gives it the directory.
func Unprivileged(dir string) (*syscall.SysProcAttr, error) {
	attr := &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if os.Getuid() != 0 {
		return attr, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		attr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		return attr, os.Chown(dir, uid, gid)
	}
	return nil, errors.New("the server does not run as root, and there is neither a user postgres nor nobody")
}

// URL gives the address of a database for a user, without TLS.
func (s *Server) URL(user, database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", user, s.Port, database)
}

// Socket is the path of its Unix socket.
func (s *Server) Socket() string { return filepath.Join(s.dir, fmt.Sprintf(".s.PGSQL.%d", s.Port)) }

// Address is where it listens.
func (s *Server) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// Program gives the path of one of the server's client programs, such as psql.
func (s *Server) Program(name string) string {
	path := filepath.Join(s.bin, name)
	if _, err := os.Stat(path); err != nil {
		return name
	}
	return path
}

// Stop ends the server and removes its data.
func (s *Server) Stop() {
	if s.cmd != nil && s.cmd.Process != nil {
		_ = s.cmd.Process.Signal(syscall.SIGINT) // fast shutdown
		done := make(chan struct{})
		go func() { _ = s.cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			_ = s.cmd.Process.Kill()
			<-done
		}
	}
	os.RemoveAll(s.dir)
}
