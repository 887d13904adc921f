package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// fault is something that goes wrong, and is put right again.
type fault struct {
	name string
	do   func(*yard) error
}

var faults = []fault{
	{"nothing", func(*yard) error { return nil }},
	{"the larder is killed", func(y *yard) error {
		_ = y.larder.Process.Kill()
		_ = y.larder.Wait()
		return y.startLarder()
	}},
	{"the larder is stopped for 2 s", func(y *yard) error {
		defer func() { _ = y.larder.Process.Signal(syscall.SIGCONT) }()
		_ = y.larder.Process.Signal(syscall.SIGSTOP)
		time.Sleep(2 * time.Second)
		return nil
	}},
	{"the larder is ended and started", func(y *yard) error {
		_ = y.larder.Process.Signal(syscall.SIGTERM)
		time.Sleep(200 * time.Millisecond)
		_ = y.larder.Process.Signal(syscall.SIGTERM)
		_ = y.larder.Wait()
		return y.startLarder()
	}},
	{"connections to the server are cut", func(y *yard) error { y.cut(); return nil }},
	{"a server process is killed", func(y *yard) error { return y.kill("client backend") }},
	{"the server's writer is killed", func(y *yard) error { return y.kill("background writer") }},
	{"the server crashes and comes back", func(y *yard) error {
		y.server.Load().Kill()
		time.Sleep(300 * time.Millisecond)
		return y.server.Load().Restart()
	}},
	{"the server is stopped for 2 s", func(y *yard) error {
		var all []int
		if err := y.ask("select array_agg(pid) from pg_stat_activity where pid <> pg_backend_pid()", &all); err != nil {
			return err
		}
		all = append(all, y.server.Load().Process())
		for _, pid := range all {
			_ = syscall.Kill(pid, syscall.SIGSTOP)
		}
		time.Sleep(2 * time.Second)
		for _, pid := range all {
			_ = syscall.Kill(pid, syscall.SIGCONT)
		}
		return nil
	}},
	{"clients vanish and hang", vanish},
	{"the disk for the state is full", func(y *yard) error {
		if !y.mounted {
			return errors.New("no disk could be made for it: it needs root")
		}
		path := filepath.Join(y.state, "full")
		f, err := os.Create(path)
		if err != nil {
			return err
		}
		block := make([]byte, 4096)
		for err == nil {
			_, err = f.Write(block)
		}
		f.Close()
		if !errors.Is(err, syscall.ENOSPC) {
			return err
		}
		time.Sleep(61 * time.Second) // past the minute at whose end numbers are written
		return os.Remove(path)
	}},
	{"descriptors are exhausted", exhaust},
	{"an old copy answers", func(y *yard) error { return y.failOver(false) }},
	{"a promoted standby answers", func(y *yard) error { return y.failOver(true) }},
}

func (y *yard) ask(sql string, into any) error {
	ctx := context.Background()
	c, err := connect(ctx, y.load.direct())
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	return c.QueryRow(ctx, sql).Scan(into)
}

// kill ends one of the server's processes, after which it starts all of them anew.
func (y *yard) kill(kind string) error {
	var pid int
	if err := y.ask(fmt.Sprintf("select pid from pg_stat_activity where backend_type = '%s' and pid <> pg_backend_pid() limit 1", kind), &pid); err != nil {
		return err
	}
	return syscall.Kill(pid, syscall.SIGKILL)
}

// vanish has clients that begin something and go, or stay without another word.
func vanish(y *yard) error {
	start := []byte("\x00\x00\x00\x29\x00\x03\x00\x00user\x00postgres\x00database\x00postgres\x00\x00")
	start[3] = byte(len(start))
	query := func(sql string) []byte {
		return append(append([]byte{'Q', 0, 0, 0, byte(len(sql) + 5)}, sql...), 0)
	}
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	for i := range 120 {
		c, err := net.Dial("tcp", y.address)
		if err != nil {
			return err
		}
		switch i % 6 {
		case 0: // nothing
		case 1:
			_, _ = c.Write(start[:7])
		case 2:
			_, _ = c.Write(start)
		case 3: // a write whose answer nobody reads
			_, _ = c.Write(append(start, query("update numbers set n = n where id = 1")...))
		case 4: // half a message
			_, _ = c.Write(append(start, query("select n from numbers where id = 2")[:9]...))
		case 5:
			_, _ = c.Write(append(start, query("begin; update numbers set n = n where id = 3; select pg_sleep(0.2); commit")...))
			_ = c.(*net.TCPConn).SetLinger(0)
			time.Sleep(5 * time.Millisecond)
			c.Close() // with a reset
			continue
		}
		open = append(open, c)
	}
	time.Sleep(time.Second)
	return nil
}

// exhaust has the larder run with few descriptors, and takes them.
func exhaust(y *yard) error {
	_ = y.larder.Process.Kill()
	_ = y.larder.Wait()
	if err := y.startLarder("prlimit", "--nofile=120:120"); err != nil {
		return err
	}
	if err := y.settle(0); err != nil {
		return err
	}
	var open []net.Conn
	for range 200 {
		if c, err := net.DialTimeout("tcp", y.address, time.Second); err == nil {
			open = append(open, c)
		}
	}
	time.Sleep(time.Second)
	for _, c := range open {
		c.Close()
	}
	if err := y.settle(time.Second); err != nil {
		return err
	}
	_ = y.larder.Process.Kill()
	_ = y.larder.Wait()
	return y.startLarder()
}

// failOver has another server answer at the address, that lacks what was written last.
func (y *yard) failOver(promoted bool) error {
	second, err := y.server.Load().Copy(promoted)
	if err != nil {
		return err
	}
	if !promoted {
		time.Sleep(time.Second) // in which more is written
	}
	first := y.server.Load()
	y.load.epoch.Add(1)
	first.Kill()
	y.use(second)
	if promoted {
		if err := second.Promote(); err != nil {
			return err
		}
	}
	y.cut()
	return y.load.lower(context.Background())
}
