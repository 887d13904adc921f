package daemon

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
)

// cancels are the requests to cancel that a silent origin has got.
var cancels atomic.Int32

// silent gives the address of what takes connections, reads them, and says nothing for ever.
func silent(t *testing.T) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				var head [8]byte
				if _, err := io.ReadFull(c, head[:]); err == nil && binary.BigEndian.Uint32(head[4:]) == 80877102 {
					cancels.Add(1)
				}
				_, _ = io.Copy(io.Discard, c)
			}()
		}
	}()
	return ln.Addr().String()
}

// gone gives an address at which nothing listens.
func gone(t *testing.T) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	return ln.Addr().String()
}

// says connects to a larder and begins as some clients do.
func says(t *testing.T, address string, list ...pgproto3.FrontendMessage) net.Conn {
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	for _, m := range list {
		b, err := m.Encode(nil)
		require.NoError(t, err)
		_, err = c.Write(b)
		require.NoError(t, err)
	}
	return c
}

// nothingLeft waits until no goroutine runs but those that were there, and tells of those that do.
func nothingLeft(t *testing.T, options ...goleak.Option) {
	options = append(options, goleak.IgnoreAnyFunction("net/http.(*persistConn).readLoop"), goleak.IgnoreAnyFunction("net/http.(*persistConn).writeLoop"))
	var left error
	for end := time.Now().Add(longestEnd); time.Now().Before(end); {
		if left = goleak.Find(options...); left == nil {
			return
		}
	}
	require.NoError(t, left)
}

// longestEnd is within what time a larder ends, on whatever machine: the bounds of its configuration are minutes.
const longestEnd = 20 * time.Second

// Whatever the origin does, and whatever is under way, a larder ends within seconds, and leaves nothing running.
func TestNothingRunsBehindALarder(t *testing.T) {
	for name, origin := range map[string]func(*testing.T) string{"an origin that answers": standIn, "one that says nothing": silent, "one that is not there": gone} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			cfg := before(origin(t), "127.0.0.1:0", filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
			cfg.State, cfg.Metrics = filepath.Join(dir, "state"), "127.0.0.1:0"
			o := &cfg.Origins[0]
			o.CatalogUser, o.FetchUser = "ines", "ines"
			o.Feed = config.Feed{User: "ines", Databases: []string{"skerrow"}, Mode: "stream", Publication: "jollylarder", PollEvery: time.Second}
			there := goleak.IgnoreCurrent()
			began := time.Now()
			l, err := Start(cfg, Options{})
			require.NoError(t, err)
			assert.Less(t, time.Since(began), longestEnd, "it does not wait for its origin")

			startup := &pgproto3.StartupMessage{ProtocolVersion: pgproto3.ProtocolVersionNumber, Parameters: map[string]string{"user": "ines", "database": "skerrow"}}
			says(t, l.Address())
			says(t, l.Address(), startup)
			says(t, l.Address(), startup, &pgproto3.Query{String: "select 1"})
			says(t, l.Address(), &pgproto3.CancelRequest{ProcessID: 1, SecretKey: []byte{0, 0, 0, 1}})
			sctx, stop := context.WithCancel(ctx)
			defer stop()
			streamed := make(chan error, 1)
			seen := make(chan struct{}, 1000)
			go func() {
				streamed <- client.NewClient(cfg.Control).Stream(sctx, "", false, func(control.Event) { seen <- struct{}{} })
			}()
			switch name {
			case "one that says nothing":
				require.Eventually(t, func() bool { return cancels.Load() > 0 }, longestEnd, 10*time.Millisecond)
			case "an origin that answers":
				c := connected(t, l.Address())
				require.Eventually(t, func() bool { // until somebody watches
					_, err := c.Exec(ctx, "select name from ports")
					require.NoError(t, err)
					return len(seen) > 0
				}, longestEnd, 10*time.Millisecond)
			}

			began = time.Now()
			l.Close()
			assert.Less(t, time.Since(began), longestEnd)
			<-streamed
			stop()
			nothingLeft(t, there, goleak.IgnoreAnyFunction("jollylarder/internal/standin.(*session).run"), goleak.IgnoreAnyFunction("database/sql.(*DB).connectionOpener"))
		})
	}
}

// A larder that cannot start leaves nothing running either.
func TestNothingRunsBehindAStartThatFailed(t *testing.T) {
	dir := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for name, change := range map[string]func(*config.Config){
		"an address that is taken":     func(c *config.Config) { c.Origins[0].Listen = append(c.Origins[0].Listen, taken.Addr().String()) },
		"an address for metrics":       func(c *config.Config) { c.Metrics = taken.Addr().String() },
		"a socket that cannot be made": func(c *config.Config) { c.Control = filepath.Join(dir, "nowhere", "c.sock") },
		"a password that cannot be read": func(c *config.Config) {
			c.Origins[0].CatalogUser, c.Origins[0].CatalogPassword = "ines", filepath.Join(dir, "nowhere")
		},
		"a state that belongs to another": func(c *config.Config) { c.State = filepath.Join(dir, "state") },
		"a rules file that belongs to it": func(c *config.Config) { c.Rules = filepath.Join(dir, "taken.toml") },
		"certificates that are not to read": func(c *config.Config) {
			c.Origins[0].Clients = config.ClientTLS{TLS: "required", Certificate: filepath.Join(dir, "nowhere"), Key: filepath.Join(dir, "nowhere")}
		},
	} {
		t.Run(name, func(t *testing.T) {
			there := goleak.IgnoreCurrent()
			other := before(gone(t), "127.0.0.1:0", filepath.Join(dir, "taken.toml"), "")
			other.State = filepath.Join(dir, "state")
			holds, err := Start(other, Options{})
			require.NoError(t, err)
			cfg := before(gone(t), "127.0.0.1:0", filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
			change(&cfg)
			_, err = Start(cfg, Options{})
			assert.Error(t, err)
			holds.Close()
			nothingLeft(t, there)
		})
	}
}
