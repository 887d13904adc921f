package trial_test

import (
	"context"
	"math"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/daemon"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
	"jollylarder/internal/trial/live"
	"jollylarder/internal/trial/load"
)

// yard is a real server with a larder before it that keeps one pattern.
type yard struct {
	pg      *privatepg.Server
	larder  *daemon.Larder
	client  *client.Client
	through string
	direct  string
}

func newYard(t *testing.T) *yard {
	pg, err := privatepg.Start("")
	require.NoError(t, err)
	t.Cleanup(func() { pg.Stop() })
	dir := t.TempDir()
	cfg := config.Before(pg.Address(), "127.0.0.1:0")
	cfg.Control, cfg.Rules = filepath.Join(dir, "c.sock"), filepath.Join(dir, "rules.toml")
	require.NoError(t, os.WriteFile(cfg.Rules, []byte("[[rule]]\ntext = \"select sum*\"\naction = \"cache\"\nttl = \"none\"\ncontrol_sample = 0.1\n"), 0o600))
	l, err := daemon.Start(cfg, daemon.Options{})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	y := &yard{pg: pg, larder: l, client: client.NewClient(cfg.Control), direct: "postgres://postgres@" + pg.Address() + "/postgres?sslmode=disable", through: "postgres://postgres@" + l.Address() + "/postgres?sslmode=disable"}
	c := connect(t, y.direct)
	for _, sql := range []string{"create table berths (id int primary key, n int)", "insert into berths select g, g from generate_series(1, 20000) g", "create table logged (id serial, n int)", "analyze"} {
		_, err := c.Exec(t.Context(), sql).ReadAll()
		require.NoError(t, err)
	}
	return y
}

func connect(t *testing.T, url string) *pgconn.PgConn {
	c, err := pgconn.Connect(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close(context.Background()) })
	return c
}

// A load trial compares the three ways, and what it says was spared is what the larder itself counted, within the interval.
func TestALoadTrial(t *testing.T) {
	y := newYard(t)
	list, err := load.ReadFile("f", "select sum(n) from berths where n % 7 = 1; select sum(n) from berths where n % 5 = 2; select sum(n) from berths where n % 3 = $1; select count(*) from berths where n = 3;", protocol.PostgreSQL)
	require.NoError(t, err)
	list[2].Parameters, list[2].Types = []trial.Parameter{{Value: []byte("1")}}, []string{"int4"}
	list, _, err = load.Sort(list, protocol.PostgreSQL, false)
	require.NoError(t, err)
	load := load.Load{Protocol: protocol.PostgreSQL, Direct: y.direct, Through: y.through, Statements: list, Clients: 1, Length: 8 * time.Second, Rounds: 8, OptOut: engine.OptOutComment, Count: y.client.CountOf}
	var r trial.Result
	for range 6 { // on a busy machine there may be too few control samples, and in twice the time there are twice as many
		r, err = load.Run(t.Context())
		require.NoError(t, err)
		if r.Sampled != nil {
			break
		}
		load.Length *= 2
	}
	require.Equal(t, 8, r.Rounds)
	require.Empty(t, r.Ended)
	direct, off, on := r.Ways[0], r.Ways[1], r.Ways[2]
	assert.Equal(t, direct.Calls, on.Calls, "each way is asked the same")
	assert.Zero(t, direct.Errors+off.Errors+on.Errors)
	assert.Greater(t, off.Mean, on.Mean)
	assert.Less(t, float64(*on.Origin), 0.4*float64(on.Calls), "a quarter has no rule, and some are control samples")
	assert.Equal(t, trial.Answers{Equal: 4}, *r.Answers)
	require.NotNil(t, r.Saved.Error)
	require.NotNil(t, r.Counted)
	require.NotNil(t, r.Sampled, "1 in 10 of some hundred hits")
	// Three times the interval: this is no place to fail once in twenty.
	t.Logf("trial %.0f ± %.0f, samples %.0f ± %.0f, last fetches %.0f ms", r.Saved.Value, *r.Saved.Error, r.Sampled.Value, *r.Sampled.Error, *r.Counted)
	assert.InDelta(t, r.Saved.Value, r.Sampled.Value, 3*math.Hypot(*r.Saved.Error, *r.Sampled.Error)+0.1*r.Saved.Value)
}

// Writes in a trial leave nothing behind.
func TestWritesAreRolledBack(t *testing.T) {
	y := newYard(t)
	list, _, err := load.Sort([]trial.Statement{{SQL: "insert into logged (n) values (1)"}, {SQL: "select sum(n) from berths"}}, protocol.PostgreSQL, true)
	require.NoError(t, err)
	r, err := (&load.Load{Protocol: protocol.PostgreSQL, Direct: y.direct, Through: y.through, Statements: list, Clients: 1, Length: time.Second, Rounds: 1, OptOut: engine.OptOutComment, Count: y.client.CountOf}).Run(t.Context())
	require.NoError(t, err)
	on := r.Ways[2]
	require.NotNil(t, on.Origin)
	assert.LessOrEqual(t, *on.Origin, uint64(on.Calls), "what bounds a write is no statement of the trial's")
	assert.GreaterOrEqual(t, *on.Origin, uint64(on.Calls/2), "the database had to answer each write")
	results, err := connect(t, y.direct).Exec(t.Context(), "select count(*) from logged").ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "0", string(results[0].Rows[0][0]))
}

// A database that fails in mid-trial ends it, with what the completed rounds came to; and so does whoever stops it.
func TestATrialThatEndsEarly(t *testing.T) {
	y := newYard(t)
	list, _, err := load.Sort([]trial.Statement{{SQL: "select sum(n) from berths"}}, protocol.PostgreSQL, false)
	require.NoError(t, err)
	for name, stop := range map[string]func(context.CancelFunc, *relay){
		"stopped":            func(cancel context.CancelFunc, _ *relay) { cancel() },
		"the database fails": func(_ context.CancelFunc, r *relay) { r.end() },
	} {
		t.Run(name, func(t *testing.T) {
			r := newRelay(t, y.pg.Address())
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			load := load.Load{Protocol: protocol.PostgreSQL, Direct: "postgres://postgres@" + r.ln.Addr().String() + "/postgres?sslmode=disable", Through: y.through, Statements: list, Clients: 2, Length: 3 * time.Second, Rounds: 12, OptOut: engine.OptOutComment}
			load.Progress = func(_ float64, what string) {
				if strings.HasPrefix(what, "round 5") {
					stop(cancel, r)
				}
			}
			out, err := load.Run(ctx)
			require.NoError(t, err)
			assert.Equal(t, 4, out.Rounds)
			assert.NotEmpty(t, out.Ended)
			assert.Equal(t, out.Ways[0].Calls, out.Ways[2].Calls, "rounds count whole")
		})
	}
}

// A live trial switches keeping off and on for the traffic that comes, and leaves it on.
func TestALiveTrial(t *testing.T) {
	y := newYard(t)
	ctx, stop := context.WithCancel(t.Context())
	c := connect(t, y.through)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for ctx.Err() == nil {
			_, _ = c.Exec(ctx, "select sum(n) from berths where n % 7 = 1").ReadAll()
		}
	}()
	r, err := y.client.Trial(t.Context(), control.Trial{Slice: 1000, Rounds: 3}, nil)
	require.NoError(t, err)
	require.Equal(t, 3, r.Rounds)
	off, on := r.Ways[0], r.Ways[1]
	assert.Equal(t, uint64(off.Calls), *off.Origin, "the origin is asked for everything")
	assert.Less(t, float64(*on.Origin), 0.3*float64(on.Calls))
	assert.Greater(t, off.Mean, on.Mean)
	assert.False(t, y.larder.Engine().CachingOff())
	y.larder.Engine().SetRules(rules.NewSet(nil))
	_, err = y.client.Trial(t.Context(), control.Trial{Slice: 1000, Rounds: 3}, nil)
	assert.ErrorContains(t, err, "no rule is caching")
	y.larder.Engine().SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, Paused: true}}))
	_, err = y.client.Trial(t.Context(), control.Trial{Slice: 1000, Rounds: 3}, nil)
	assert.ErrorContains(t, err, "resume a paused one")
	y.larder.Engine().SetRules(rules.NewSet([]rules.Rule{{Text: "select nothing that anybody asks", Action: rules.Cache}}))
	r, err = y.client.Trial(t.Context(), control.Trial{Slice: 1000, Rounds: 1}, nil)
	require.NoError(t, err)
	assert.NotEmpty(t, r.Inconclusive)
	assert.Nil(t, r.Saved)
	assert.Empty(t, r.Ended, "it came to its end")
	stop()
	<-ended
}

// Whoever changes the rules, or holds all keeping, in the middle of a live trial ends it: what comes then is something else.
func TestALiveTrialEndsWithWhatItCompares(t *testing.T) {
	for name, change := range map[string]func(*engine.Engine){
		"the rules were changed": func(e *engine.Engine) { e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache}})) },
		"caching was turned off": func(e *engine.Engine) { e.SetCaching(false) },
	} {
		e, err := engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
		require.NoError(t, err)
		defer e.Close()
		live := live.Live{Engine: e, Slice: trial.ShortestSlice, Rounds: 3}
		live.Progress = func(_ float64, what string) {
			if strings.HasPrefix(what, "round 2") {
				change(e)
			}
		}
		r, err := live.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 1, r.Rounds)
		assert.Contains(t, r.Ended, name)
	}
}

// A recording that is asked as it came takes its time in every turn: there are as many rounds as there is time for.
func TestATimedTrialKeepsToItsTime(t *testing.T) {
	y := newYard(t)
	list := []trial.Statement{{SQL: "select 1"}, {SQL: "select 1", At: 400}}
	began := time.Now()
	r, err := (&load.Load{Protocol: protocol.PostgreSQL, Through: y.through, Statements: list, Clients: 1, Length: 2 * time.Second, Rounds: 50, Timed: true, OptOut: engine.OptOutComment}).Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, r.Rounds)
	assert.Equal(t, 4, r.Ways[0].Calls)
	assert.GreaterOrEqual(t, time.Since(began), 5*400*time.Millisecond, "and one turn to begin with")
}

// relay passes bytes on until it is ended.
type relay struct {
	ln    net.Listener
	conns chan net.Conn
}

func newRelay(t *testing.T, to string) *relay {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &relay{ln, make(chan net.Conn, 100)}
	go func() {
		for {
			a, err := ln.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", to)
			if err != nil {
				a.Close()
				continue
			}
			r.conns <- a
			r.conns <- b
			for _, p := range [][2]net.Conn{{a, b}, {b, a}} {
				go func() {
					buf := make([]byte, 32<<10)
					for {
						n, err := p[0].Read(buf)
						if _, err2 := p[1].Write(buf[:n]); err != nil || err2 != nil {
							p[1].Close()
							return
						}
					}
				}()
			}
		}
	}()
	t.Cleanup(r.end)
	return r
}

func (r *relay) end() {
	r.ln.Close()
	for {
		select {
		case c := <-r.conns:
			c.Close()
		default:
			return
		}
	}
}
