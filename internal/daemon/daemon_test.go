package daemon

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/standin"
)

var ctx = context.Background()

// standIn starts a stand-in with one table and gives its address.
func standIn(t *testing.T) string {
	o, err := standin.New(standin.Options{})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = o.Serve(l) }()
	t.Cleanup(func() { l.Close(); o.Close() })
	c := connected(t, l.Addr().String())
	_, err = c.Exec(ctx, "create table ports (id integer primary key, name text); insert into ports values (1, 'Skerrow')")
	require.NoError(t, err)
	return l.Addr().String()
}

func connected(t *testing.T, address string) *pgx.Conn {
	cfg, err := pgx.ParseConfig("postgres://ines@" + address + "/skerrow?sslmode=disable&application_name=quay-boards")
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	c, err := pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(ctx) })
	return c
}

// before gives a configuration of a larder before an origin.
func before(origin, listen string, rules, socket string) config.Config {
	c := config.Before(origin, listen)
	c.Rules, c.Control = rules, socket
	return c
}

func start(t *testing.T, cfg config.Config) *Larder {
	l, err := Start(cfg, Options{})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

// The whole of the API, on a larder before the stand-in: watch, make a rule, see hits, a drop, and the file.
func TestAPI(t *testing.T) {
	dir := t.TempDir()
	socket, file := filepath.Join(dir, "c.sock"), filepath.Join(dir, "rules.toml")
	l := start(t, before(standIn(t), "127.0.0.1:0", file, socket))
	info, err := os.Stat(socket)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else may open it")

	api := client.NewClient(socket)
	events := make(chan control.Event, 1000)
	sctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() { _ = api.Stream(sctx, "", false, func(e control.Event) { events <- e }) }()
	var drops []control.Event // a drop may be told before the end of the write that made it
	next := func(kind string) control.Event {
		if kind == "drop" && len(drops) > 0 {
			e := drops[0]
			drops = drops[1:]
			return e
		}
		for {
			select {
			case e := <-events:
				switch {
				case e.Kind == kind && e.Text != "select $":
					return e
				case e.Kind == "drop":
					drops = append(drops, e)
				}
			case <-time.After(time.Minute):
				require.Fail(t, "no event", kind)
			}
		}
	}

	c := connected(t, l.Address())
	require.Eventually(t, func() bool { // until the stream has begun
		_, err := c.Exec(ctx, "select 1")
		return err == nil && len(events) > 0
	}, time.Minute, 10*time.Millisecond)
	read := func() {
		var name string
		require.NoError(t, c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
	}
	read()
	e := next("statement")
	assert.Equal(t, "bypass", e.Outcome)
	assert.Equal(t, "quay-boards", e.Application)
	assert.NotContains(t, e.Text, "1", "literals are masked")

	require.Eventually(t, func() bool {
		p, err := api.Pattern(ctx, e.Pattern)
		return err == nil && p.Cacheable
	}, time.Minute, 20*time.Millisecond)
	applied, err := api.PutRule(ctx, e.Pattern, control.Rule{Pattern: e.Pattern, Action: "cache", TTL: "30s", Note: "boards"})
	require.NoError(t, err)
	assert.Equal(t, "boards", applied.Why)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), `pattern = "`+e.Pattern+`"`)
	read()
	assert.Equal(t, "miss", next("statement").Outcome)
	read()
	hit := next("statement")
	assert.Equal(t, "hit", hit.Outcome)
	assert.Equal(t, 1, hit.Rows)

	_, err = c.Exec(ctx, "update ports set name = 'Hallan'")
	require.NoError(t, err)
	assert.Equal(t, "write", next("statement").Outcome)
	drop := next("drop")
	assert.Equal(t, "public.ports", drop.Table)
	assert.Equal(t, uint64(1), drop.Count)

	s, err := api.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, "caching", s.State)
	assert.Equal(t, uint64(1), s.Total.Hits)
	assert.Equal(t, uint64(1), s.Drops)
	p, err := api.Pattern(ctx, e.Pattern)
	require.NoError(t, err)
	assert.Equal(t, []control.Reach{{Table: "public.ports"}}, p.Reads)
	var why []string
	for _, r := range p.Bypassed {
		why = append(why, r.Reason)
	}
	assert.NotEmpty(t, why, "the first one passed, for a reason")

	read()
	read()
	require.NoError(t, api.SetCaching(ctx, false))
	read()
	n, err := api.Drop(ctx, control.Drop{Pattern: e.Pattern})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.NoError(t, api.SetCaching(ctx, true))

	_, err = api.Pause(ctx, e.Pattern, true, "a doubt")
	require.NoError(t, err)
	read()
	require.Eventually(t, func() bool {
		ev := next("statement")
		return ev.Reason == "its rule is paused"
	}, time.Minute, time.Millisecond)
	_, err = api.RemoveRule(ctx, e.Pattern, "")
	require.NoError(t, err)
	_, err = api.RemoveRule(ctx, e.Pattern, "")
	assert.ErrorContains(t, err, "no rule")
	_, err = api.PutRule(ctx, e.Pattern, control.Rule{Pattern: e.Pattern, Action: "cache", TTL: "soon"})
	assert.ErrorContains(t, err, `ttl "soon"`)
	_, err = api.PutRule(ctx, "x", control.Rule{Pattern: "x", Action: "cache", TTL: "1s"})
	assert.ErrorContains(t, err, "expected three words such as")
	_, err = api.Pattern(ctx, "bado-bado-bado")
	assert.ErrorContains(t, err, "no pattern")
}

func TestRulesAreThereAfterARestart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "rules.toml")
	require.NoError(t, os.WriteFile(file, []byte("# mine\n[[rule]]\npattern = \"bado-kife-ruma\"\naction = \"cache\"\nttl = \"5s\"\n"), 0o640))
	o := standIn(t)
	l := start(t, before(o, "127.0.0.1:0", file, ""))
	require.NotNil(t, l.Engine().Rules().Named("bado-kife-ruma"))
	text, base := l.Book().Current()
	removed, err := rules.Remove(text, "bado-kife-ruma")
	require.NoError(t, err)
	_, err = l.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "ines", Text: removed, Base: base})
	require.NoError(t, err)
	text, _ = os.ReadFile(file)
	assert.Equal(t, "# mine\n", string(text))
	info, _ := os.Stat(file)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
}

func TestWhatIsWrongIsSaidAtTheStart(t *testing.T) {
	dir := t.TempDir()
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer busy.Close()
	bad := filepath.Join(dir, "bad.toml")
	require.NoError(t, os.WriteFile(bad, []byte("[[rule]]\npattern = \"bado-kife-ruma\"\naction = \"perhaps\"\n"), 0o600))
	for want, cfg := range map[string]config.Config{
		"listen: \"here\" is no address":   before("127.0.0.1:1", "here", "", ""),
		"address: \"there\" is no address": before("there", "127.0.0.1:0", "", ""),
		"choose another address with":      before("127.0.0.1:1", busy.Addr().String(), "", ""),
		"line 3, column 1: action":         before("127.0.0.1:1", "127.0.0.1:0", bad, ""),
		"cannot read the rules":            before("127.0.0.1:1", "127.0.0.1:0", dir, ""),
		"a file of that name is there":     before("127.0.0.1:1", "127.0.0.1:0", "", bad),
		"making the control socket":        before("127.0.0.1:1", "127.0.0.1:0", "", filepath.Join(dir, "no", "c.sock")),
	} {
		l, err := Start(cfg, Options{})
		if assert.ErrorContains(t, err, want) {
			continue
		}
		l.Close()
	}
	running := filepath.Join(dir, "c.sock")
	start(t, before("127.0.0.1:1", "127.0.0.1:0", "", running))
	_, err = Start(before("127.0.0.1:1", "127.0.0.1:0", "", running), Options{})
	assert.ErrorContains(t, err, "belongs to a larder that is running")
}
