package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"jollylarder/internal/privatepg"
)

// yard is everything that faults happen to: a server, a larder before it, and an address between them that can be made
// to lead to another server.
type yard struct {
	binary  string
	dir     string
	state   string
	mounted bool
	server  atomic.Pointer[privatepg.Server]
	all     []*privatepg.Server
	between net.Listener
	address string // the larder's
	larder  *exec.Cmd
	load    load
	stop    func()

	mu    sync.Mutex
	conns map[net.Conn]bool // through between
}

func newYard(binary string, around bool) (y *yard, err error) {
	y = &yard{binary: binary, conns: map[net.Conn]bool{}}
	y.load.around = around
	y.load.through = func() string {
		return "postgres://postgres@" + y.address + "/postgres?sslmode=disable&connect_timeout=5"
	}
	y.load.direct = func() string { return y.server.Load().URL("postgres", "postgres") }
	if y.dir, err = os.MkdirTemp("", "faultcheck-"); err != nil {
		return nil, err
	}
	s, err := privatepg.Start("", "max_connections=300")
	if err != nil {
		return nil, err
	}
	y.use(s)
	if y.between, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	go y.accept()
	y.state = filepath.Join(y.dir, "state")
	if err := os.Mkdir(y.state, 0o700); err != nil {
		return nil, err
	}
	// A small disk of its own, where that can be had, so that it can be full.
	y.mounted = exec.Command("mount", "-t", "tmpfs", "-o", "size=2m,mode=700", "tmpfs", y.state).Run() == nil
	rules := "[[rule]]\ntext = \"*\"\naction = \"cache\"\nttl = \"none\"\ncontrol_sample = 0\n" // which would find old answers, too, and drop them
	return y, os.WriteFile(filepath.Join(y.dir, "rules.toml"), []byte(rules), 0o600)
}

// use has the address between lead to a server.
func (y *yard) use(s *privatepg.Server) {
	y.server.Store(s)
	y.all = append(y.all, s)
}

func (y *yard) accept() {
	for {
		c, err := y.between.Accept()
		if err != nil {
			return
		}
		go y.pass(c)
	}
}

func (y *yard) pass(c net.Conn) {
	defer c.Close()
	o, err := net.DialTimeout("tcp", y.server.Load().Address(), 2*time.Second)
	if err != nil {
		return
	}
	defer o.Close()
	y.mu.Lock()
	y.conns[c], y.conns[o] = true, true
	y.mu.Unlock()
	defer func() {
		y.mu.Lock()
		delete(y.conns, c)
		delete(y.conns, o)
		y.mu.Unlock()
	}()
	done := make(chan struct{}, 2)
	for _, d := range [][2]net.Conn{{c, o}, {o, c}} {
		go func() {
			_, _ = io.Copy(d[0], d[1])
			_ = d[0].(*net.TCPConn).CloseWrite()
			done <- struct{}{}
		}()
	}
	<-done
	<-done
}

// cut ends all connections between the larder and its server.
func (y *yard) cut() {
	y.mu.Lock()
	defer y.mu.Unlock()
	for c := range y.conns {
		c.Close()
	}
}

func (y *yard) begin() error {
	ctx := context.Background()
	c, err := connect(ctx, y.load.direct())
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for _, sql := range []string{"create table numbers (id int primary key, n bigint not null)", fmt.Sprintf("insert into numbers select i, 0 from generate_series(0, %d) i", rows-1)} {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if err := y.startLarder(); err != nil {
		return err
	}
	run, stop := context.WithCancel(ctx)
	y.stop = stop
	y.load.run(run)
	return y.settle(2 * time.Second)
}

// startLarder starts it on the address that it had.
func (y *yard) startLarder(limits ...string) error {
	if y.address == "" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		y.address = l.Addr().String()
		l.Close()
	}
	args := append(limits, y.binary, "serve", "--listen", y.address, "--origin", y.between.Addr().String(), "--rules", filepath.Join(y.dir, "rules.toml"),
		"--state", y.state, "--control", filepath.Join(y.dir, "c.sock"))
	log, err := os.OpenFile(filepath.Join(y.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	y.larder = exec.Command(args[0], args[1:]...)
	y.larder.Stdout, y.larder.Stderr, y.larder.SysProcAttr = log, log, &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	return y.larder.Start()
}

// settle waits until clients are answered from memory again, and for a while beyond.
func (y *yard) settle(while time.Duration) error {
	before := y.load.hits.Load()
	for end := time.Now().Add(90 * time.Second); ; {
		if y.load.hits.Load() > before+20 {
			break
		}
		if time.Now().After(end) {
			text, _ := os.ReadFile(filepath.Join(y.dir, "log"))
			lines := strings.Split(string(text), "\n")
			return fmt.Errorf("nobody is answered from memory any more; the larder's log ends with\n%s", strings.Join(lines[max(0, len(lines)-12):], "\n"))
		}
		time.Sleep(10 * time.Millisecond)
	}
	time.Sleep(while)
	return nil
}

func (y *yard) close() {
	if y.stop != nil {
		y.stop()
		y.load.wg.Wait()
	}
	if y.larder != nil {
		_ = y.larder.Process.Signal(syscall.SIGCONT)
		_ = y.larder.Process.Kill()
		_ = y.larder.Wait()
	}
	if y.between != nil {
		y.between.Close()
	}
	y.cut()
	for _, s := range y.all {
		s.Stop()
	}
	if y.mounted {
		_ = exec.Command("umount", y.state).Run()
	}
	os.RemoveAll(y.dir)
}
