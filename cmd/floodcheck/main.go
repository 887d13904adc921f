// Command floodcheck floods a larder with what it has to remember, and reports how much memory that took, and how long
// hits of another client took meanwhile.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"jollylarder/internal/privatepg"
)

// The flood, and the limits that it meets, in bytes.
const (
	shapes      = 100_000
	names       = 10_000
	texts       = 1000
	textBytes   = 1 << 20
	connections = 5000
	sessions    = 80 // of which so many log in
	workers     = 4
	memory      = 64 << 20
	overhead    = 192 << 20
)

func main() {
	if len(os.Args) == 3 && os.Args[1] == "steady" {
		if err := steady(os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, "floodcheck:", err)
			os.Exit(1)
		}
		return
	}
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "floodcheck:", err)
		os.Exit(1)
	}
}

// run it is long, as it is one script from its first flood to its last.
func run() error {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return err
	}
	limit.Cur = limit.Max
	_ = syscall.Setrlimit(syscall.RLIMIT_NOFILE, &limit)
	server, err := privatepg.Start("", "max_connections=200")
	if err != nil {
		return err
	}
	defer server.Stop()
	dir, err := os.MkdirTemp("", "floodcheck-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := l.Addr().String()
	l.Close()
	config := fmt.Sprintf("rules = \"rules.toml\"\nstate = \"state\"\nmemory = \"%dMiB\"\noverhead = \"%dMiB\"\n[[origin]]\naddress = %q\nlisten = [%q]\n", memory>>20, overhead>>20, server.Address(), address)
	rules := "[[rule]]\ntext = \"*\"\naction = \"cache\"\nttl = \"none\"\n"
	for name, text := range map[string]string{"larder.toml": config, "rules.toml": rules} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	larder := exec.Command("bin/jollylarder", "serve", "--config", filepath.Join(dir, "larder.toml"))
	larder.Stdout, larder.Stderr, larder.SysProcAttr = log, log, &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := larder.Start(); err != nil {
		return err
	}
	defer func() { _ = larder.Process.Kill(); _ = larder.Wait() }()

	f := &flood{url: "postgres://postgres@" + address + "/postgres?sslmode=disable", address: address, process: larder.Process.Pid}
	for range 100 {
		if _, err = f.connect("", nil); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		return err
	}
	if err := f.exec("create table notes (id int primary key, note text); insert into notes select i, repeat('n', 500) from generate_series(1, 1000) i"); err != nil {
		return err
	}
	quiet, err := f.hits(func() error { time.Sleep(5 * time.Second); return nil })
	if err != nil {
		return err
	}
	fmt.Printf("%-40s p99 of a hit %s, %d hits; the process takes %d MiB\n", "before", quiet.p99, quiet.n, f.resident("VmRSS")>>20)
	for _, part := range []struct {
		what string
		do   func() error
	}{
		{fmt.Sprintf("%d statements of one shape", shapes), f.known}, {fmt.Sprintf("%d shapes", shapes), f.shapes}, {fmt.Sprintf("%d names", names), f.names}, {fmt.Sprintf("%d texts of %d MiB", texts, textBytes>>20), f.texts},
		{fmt.Sprintf("%d connections, %d of them sessions", connections, sessions), f.connections},
	} {
		began := time.Now()
		during, err := f.hits(part.do)
		if err != nil {
			return fmt.Errorf("%s: %w", part.what, err)
		}
		fmt.Printf("%-40s p99 of a hit %s (%.2f of before), median %s, %d hits, %s; the process takes %d MiB, at most %d\n", part.what, during.p99, float64(during.p99)/float64(quiet.p99), during.p50, during.n,
			time.Since(began).Round(time.Second), f.resident("VmRSS")>>20, f.resident("VmHWM")>>20)
	}
	time.Sleep(75 * time.Second) // a minute in which nothing of it is asked again
	peak := f.resident("VmHWM")
	var state int64
	_ = filepath.Walk(filepath.Join(dir, "state"), func(_ string, info os.FileInfo, err error) error {
		if err == nil {
			state += info.Size()
		}
		return nil
	})
	fmt.Printf("%-40s %d MiB, which is %.2f of memory and overhead; afterwards %d MiB; the state takes %d MiB\n", "at most", peak>>20, float64(peak)/(memory+overhead), f.resident("VmRSS")>>20, state>>20)
	return nil
}

type flood struct {
	url, address string
	process      int
}

// resident gives a figure of the larder's memory, in bytes.
func (f *flood) resident(which string) int64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", f.process))
	_, rest, _ := strings.Cut(string(text), which+":")
	n, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	return n << 10
}

func (f *flood) connect(application string, into **pgx.Conn) (*pgx.Conn, error) {
	cfg, err := pgx.ParseConfig(f.url)
	if err != nil {
		return nil, err
	}
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	cfg.RuntimeParams["application_name"] = application
	c, err := pgx.ConnectConfig(context.Background(), cfg)
	if into != nil {
		*into = c
	} else if err == nil {
		defer c.Close(context.Background())
	}
	return c, err
}

func (f *flood) exec(sql string) error {
	var c *pgx.Conn
	if _, err := f.connect("", &c); err != nil {
		return err
	}
	defer c.Close(context.Background())
	_, err := c.Exec(context.Background(), sql)
	return err
}

type timed struct {
	n        int
	p50, p99 time.Duration
}

// hits has one client ask what is kept, at a steady pace, while something else happens. It is a process of its own, so
// that it does not wait for those who make the flood.
func (f *flood) hits(meanwhile func() error) (out timed, err error) {
	c := exec.Command(os.Args[0], "steady", f.url)
	c.SysProcAttr, c.Stderr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}, os.Stderr
	stop, err := c.StdinPipe()
	if err != nil {
		return out, err
	}
	told, err := c.StdoutPipe()
	if err != nil {
		return out, err
	}
	if err := c.Start(); err != nil {
		return out, err
	}
	failed := meanwhile()
	stop.Close()
	if _, err := fmt.Fscan(told, &out.n, &out.p50, &out.p99); err != nil {
		return out, err
	}
	return out, errors.Join(failed, c.Wait())
}

// steady is that client. It ends with its input.
func steady(url string) error {
	f := &flood{url: url}
	var c *pgx.Conn
	if _, err := f.connect("steady", &c); err != nil {
		return err
	}
	defer c.Close(context.Background())
	var done atomic.Bool
	go func() { _, _ = io.Copy(io.Discard, os.Stdin); done.Store(true) }()
	var took []time.Duration
	for i := 0; !done.Load(); i++ {
		began := time.Now()
		if _, err := c.Exec(context.Background(), fmt.Sprintf("select note from notes where id = %d", i%100+1)); err != nil {
			return err
		}
		took = append(took, time.Since(began))
		time.Sleep(200 * time.Microsecond)
	}
	slices.Sort(took)
	fmt.Println(len(took), int64(took[len(took)/2]), int64(took[len(took)*99/100]))
	return nil
}

// each has workers do something so many times.
func each(n int, do func(worker, i int) error) error {
	var next atomic.Int64
	errs := make(chan error, workers)
	for w := range workers {
		go func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= n {
					errs <- nil
					return
				}
				if err := do(w, i); err != nil {
					errs <- err
					return
				}
			}
		}()
	}
	var first error
	for range workers {
		if err := <-errs; err != nil && first == nil {
			first = err
		}
	}
	return first
}

func (f *flood) clients() (list [workers]*pgx.Conn, closing func(), err error) {
	for i := range list {
		if _, err = f.connect("flood", &list[i]); err != nil {
			return list, nil, err
		}
	}
	return list, func() {
		for _, c := range list {
			c.Close(context.Background())
		}
	}, nil
}

// known is as many statements, of one shape: what the machine has to do for these alone is no matter of reading.
func (f *flood) known() error {
	c, closing, err := f.clients()
	if err != nil {
		return err
	}
	defer closing()
	return each(shapes, func(w, i int) error {
		_, err := c[w].Exec(context.Background(), fmt.Sprintf("select id as c, note, %d from notes where id = %d", i, i%1000))
		return err
	})
}

func (f *flood) shapes() error {
	c, closing, err := f.clients()
	if err != nil {
		return err
	}
	defer closing()
	return each(shapes, func(w, i int) error {
		_, err := c[w].Exec(context.Background(), fmt.Sprintf("select id as c%d, note from notes where id = %d", i, i%1000))
		return err
	})
}

func (f *flood) names() error {
	return each(names, func(_, i int) error {
		_, err := f.connect(fmt.Sprintf("an application of its own, number %d", i), nil)
		return err
	})
}

func (f *flood) texts() error {
	c, closing, err := f.clients()
	if err != nil {
		return err
	}
	defer closing()
	return each(texts, func(w, i int) error {
		sql := fmt.Sprintf("select id as c%d%s from notes where id = 1", i, strings.Repeat(", 1", 1600-i%100))
		sql += " -- " + strings.Repeat("x", textBytes-len(sql)-200) // the server takes 1664 columns at most
		_, err := c[w].Exec(context.Background(), sql)
		return err
	})
}

func (f *flood) connections() error {
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	var logged []*pgx.Conn
	defer func() {
		for _, c := range logged {
			c.Close(context.Background())
		}
	}()
	for i := range connections {
		if i%(connections/sessions) == 0 && len(logged) < sessions {
			var c *pgx.Conn
			if _, err := f.connect("many", &c); err != nil {
				return err
			}
			logged = append(logged, c)
			continue
		}
		c, err := net.Dial("tcp", f.address)
		if err != nil {
			return err
		}
		open = append(open, c)
	}
	time.Sleep(3 * time.Second)
	return nil
}
