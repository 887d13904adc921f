package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// activated runs the program as a service manager does that has opened sockets for it.
func activated(t *testing.T, sockets []*os.File, args ...string) *program {
	p := &program{t: t, cmd: exec.Command("sh", "-c", fmt.Sprintf(`LISTEN_PID=$$ LISTEN_FDS=%d exec "$0" "$@"`, len(sockets)))}
	p.cmd.Args = append(append(p.cmd.Args, path), args...)
	p.cmd.ExtraFiles = sockets
	p.cmd.Stdout, p.cmd.Stderr = p, p
	require.NoError(t, p.cmd.Start())
	t.Cleanup(func() { _ = p.cmd.Process.Kill(); _ = p.cmd.Wait() })
	return p
}

// socket opens one, of which the program is given a copy.
func socket(t *testing.T, network, address string) (net.Listener, *os.File) {
	ln, err := net.Listen(network, address)
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	f, err := ln.(interface{ File() (*os.File, error) }).File()
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return ln, f
}

// Sockets that the service manager holds outlive the larder: whoever connects while it is restarted waits for the next, and
// nobody is refused.
func TestNobodyIsRefusedDuringARestart(t *testing.T) {
	origin := origin(t, "Cairn Point")
	ln, f := socket(t, "tcp", "127.0.0.1:0")
	path := filepath.Join(t.TempDir(), "clients.sock")
	_, g := socket(t, "unix", path)
	args := []string{"serve", "--listen", ln.Addr().String() + "," + path, "--origin", origin}
	p := activated(t, []*os.File{f, g}, args...)
	p.logs("the larder is running", 1)

	var done, ended atomic.Int64
	stop := make(chan struct{})
	refused := make(chan error, 1000)
	var wg sync.WaitGroup
	for i := range 4 {
		host := fmt.Sprintf("postgres://ines@%s/skerrow?sslmode=disable", ln.Addr())
		if i == 0 {
			host = fmt.Sprintf("postgres://ines@/skerrow?sslmode=disable&host=%s", filepath.Dir(path))
		}
		cfg, err := pgx.ParseConfig(host)
		require.NoError(t, err)
		if i == 0 { // which has another name than those of servers
			cfg.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) {
				var d net.Dialer
				return d.DialContext(ctx, "unix", path)
			}
		}
		cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
		wg.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				switch err := asksOnce(cfg); {
				case err == nil:
					done.Add(1)
				case terminated(err):
					ended.Add(1) // it was at rest
				default:
					refused <- err
				}
			}
		})
	}
	some := func() {
		before := done.Load()
		require.Eventually(t, func() bool { return done.Load() > before+20 }, time.Minute, time.Millisecond)
	}
	some()
	for range 3 {
		require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
		require.NoError(t, p.cmd.Wait())
		time.Sleep(50 * time.Millisecond) // so that somebody comes meanwhile
		p = activated(t, []*os.File{f, g}, args...)
		p.logs("the larder is running", 1)
		some()
	}
	close(stop)
	wg.Wait()
	close(refused)
	for err := range refused {
		t.Errorf("a client was refused: %v", err)
	}
	t.Logf("%d clients were answered, %d were ended at rest", done.Load(), ended.Load())
}

// asksOnce connects, asks and goes.
func asksOnce(cfg *pgx.ConnConfig) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	var name string
	return c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name)
}

// terminated says whether a session was ended as servers end those at rest when they stop.
func terminated(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "57P01"
}

// A socket that is meant for nothing is an error: its clients would wait for ever.
func TestASocketThatNobodyListensOn(t *testing.T) {
	ln, f := socket(t, "tcp", "127.0.0.1:0")
	p := activated(t, []*os.File{f}, "serve", "--listen", "127.0.0.1:0", "--origin", "127.0.0.1:1")
	assert.Error(t, p.cmd.Wait())
	p.mu.Lock()
	defer p.mu.Unlock()
	assert.Contains(t, p.log.String(), "the service manager has opened "+ln.Addr().String()+", where no origin listens: use the same addresses")
	assert.Equal(t, 1, strings.Count(p.log.String(), "jollylarder:"))
}
