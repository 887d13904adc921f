package daemon

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/lock"
	"jollylarder/internal/succession"
)

const readPort = "select name from ports where id = 1"

// succeeding gives a configuration of larders that take over from each other, whose rule caches everything.
func succeeding(t *testing.T, origin string) config.Config {
	dir := t.TempDir()
	rules := filepath.Join(dir, "rules.toml")
	require.NoError(t, os.WriteFile(rules, []byte("[[rule]]\nname = \"all\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1h\"\n"), 0o600))
	cfg := before(origin, "127.0.0.1:0", rules, filepath.Join(dir, "c.sock"))
	cfg.State, cfg.Metrics = filepath.Join(dir, "state"), "127.0.0.1:0"
	return cfg
}

// asks gives what a client is answered.
func asks(t *testing.T, c *pgx.Conn, sql string) (name string) {
	require.NoError(t, c.QueryRow(ctx, sql).Scan(&name))
	return name
}

// hits asks until a larder answers from memory.
func hits(t *testing.T, l *Larder, c *pgx.Conn) {
	require.Eventually(t, func() bool {
		before := countHits(l)
		asks(t, c, readPort)
		return countHits(l) > before
	}, time.Minute, time.Millisecond)
}

// countHits gives how often a larder has answered from memory.
func countHits(l *Larder) uint64 { return l.engine.Ledger.Total.Total().Count[ledger.Hit] }

// mostUsed has a client ask until one result is cached that was asked for more than once, and nothing more is to be learnt that
// would drop it.
func mostUsed(t *testing.T, l *Larder) (list []engine.Wanted) {
	c := connected(t, l.Address())
	for range 20 { // what is known of the schema comes in the first of them
		hits(t, l, c)
	}
	require.Eventually(t, func() bool {
		hits(t, l, c)
		list = l.engine.MostUsedOfAll(10)
		return len(list) == 1
	}, time.Minute, time.Millisecond)
	return list
}

// A larder takes over from another: clients of either see what the other's write, nobody is refused, and nothing is cached
// until the first has gone.
func TestALarderTakesOver(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	cfg.KeepWarm = true
	closed := false
	one, err := Start(cfg, Options{BeforeHandover: func() { closed = true }})
	require.NoError(t, err)
	t.Cleanup(one.Close)
	address := one.Address()
	idle, busy := connected(t, address), connected(t, address)
	hits(t, one, idle)
	_, err = busy.Exec(ctx, "begin")
	require.NoError(t, err)
	assert.Equal(t, "Skerrow", asks(t, busy, readPort))

	two, err := Start(cfg, Options{TakeOver: true})
	require.NoError(t, err)
	t.Cleanup(two.Close)
	over := <-one.HandedOver()
	require.NoError(t, over.Err)
	assert.Equal(t, os.Getpid(), over.Process)
	assert.True(t, closed)
	assert.Equal(t, address, two.Address(), "it is the same socket")
	assert.True(t, two.engine.Predecessor())

	// Until the first has gone neither caches: each knows of its own writes alone.
	c := connected(t, address)
	_, err = busy.Exec(ctx, "commit")
	require.NoError(t, err)
	before := countHits(one)
	for i, name := range []string{"Cairn Point", "Ardvane", "Tarrin"} {
		writer, reader := c, busy
		if i%2 == 1 {
			writer, reader = busy, c
		}
		_, err = writer.Exec(ctx, "update ports set name = '"+name+"' where id = 1")
		require.NoError(t, err)
		for range 3 {
			assert.Equal(t, name, asks(t, reader, readPort))
			assert.Equal(t, name, asks(t, writer, readPort))
		}
	}
	assert.Equal(t, before, countHits(one))
	assert.Zero(t, countHits(two))
	_, err = busy.Exec(ctx, "begin")
	require.NoError(t, err)

	left := make(chan struct{})
	go func() {
		defer close(left)
		one.Leave(ctx)
		one.Close()
	}()
	require.Eventually(t, func() bool { return one.Clients() == 1 }, time.Minute, time.Millisecond)
	assert.Error(t, idle.Ping(ctx), "it was at rest")
	assert.True(t, two.engine.Predecessor())
	assert.Equal(t, "Tarrin", asks(t, busy, readPort), "it is in a transaction")
	_, err = busy.Exec(ctx, "commit")
	require.NoError(t, err)
	<-left
	require.Eventually(t, func() bool { return !two.engine.Predecessor() }, time.Minute, time.Millisecond)
	assert.Zero(t, two.engine.Earlier(), "nothing was left behind")
	hits(t, two, c)
	list, err := filepath.Glob(filepath.Join(cfg.State, leavingFiles))
	require.NoError(t, err)
	assert.Empty(t, list)
	two.Close()
	three := start(t, cfg)
	assert.Zero(t, three.engine.Earlier())
}

// What clients asked for most is handed over, without its results.
func TestWhatIsHandedOver(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	for _, warm := range []bool{false, true} {
		cfg.KeepWarm = warm
		l := start(t, cfg)
		mostUsed(t, l)
		p, err := succession.Ask(filepath.Join(cfg.State, handoverSocket))
		require.NoError(t, err)
		p.CloseSockets()
		require.Len(t, p.Sockets, 0)
		if warm {
			require.Len(t, p.Inputs, 1)
			assert.Equal(t, "all", p.Inputs[0].Rule)
			assert.Contains(t, string(p.Inputs[0].Key), readPort)
		} else {
			assert.Empty(t, p.Inputs)
		}
		p.Close()
		assert.Error(t, (<-l.HandedOver()).Err)
		l.Close()
		require.NoError(t, os.RemoveAll(cfg.State))
	}
}

// With an account to fetch by, what was asked for most is cached before anybody asks.
func TestWhatIsHandedOverIsFetched(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	cfg.KeepWarm, cfg.Origins[0].FetchUser = true, "ines"
	one := start(t, cfg)
	mostUsed(t, one)
	two := startWith(t, cfg, Options{TakeOver: true})
	require.NoError(t, (<-one.HandedOver()).Err)
	later := connected(t, two.Address())
	one.Leave(ctx)
	one.Close()
	require.Eventually(t, func() bool {
		done, _, _ := two.fetch[0].Counts()
		return done == 1
	}, time.Minute, time.Millisecond)
	hits(t, two, later)
}

// The service manager is told which process is the service's main one, and nothing more by the one before.
func TestWhatAServiceManagerIsToldOfAHandover(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notify")
	c, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer c.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	cfg := succeeding(t, standIn(t))
	one := start(t, cfg)
	startWith(t, cfg, Options{TakeOver: true})
	require.NoError(t, (<-one.HandedOver()).Err)
	one.Stopping()
	one.Leave(ctx)
	one.Close()
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Second))) // all of it has been sent by now
	b := make([]byte, 4096)
	n, err := c.Read(b)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("MAINPID=%d\n", os.Getpid()), string(b[:n]))
	_, err = c.Read(b)
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
}

// A larder whose successor gives up goes on with the same sockets: nobody is refused, and it caches again when the sessions
// of before have ended.
func TestALarderWhoseSuccessorGivesUp(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	path := filepath.Join(t.TempDir(), "clients.sock")
	cfg.Origins[0].Listen = append(cfg.Origins[0].Listen, path)
	l, err := Start(cfg, Options{})
	require.NoError(t, err)
	address := l.Address()
	busy := connected(t, address)
	_, err = busy.Exec(ctx, "begin")
	require.NoError(t, err)

	p, err := succession.Ask(filepath.Join(cfg.State, handoverSocket))
	require.NoError(t, err)
	require.Len(t, p.Sockets, 2)
	held, err := lock.File(filepath.Join(cfg.State, "lock")) // as one that is about to end
	require.NoError(t, err)
	p.CloseSockets()
	p.Close()
	over := <-l.HandedOver()
	require.ErrorContains(t, over.Err, "has not become ready")
	waiting := make(chan error, 1) // a client that comes meanwhile
	go func() {
		c, err := pgx.Connect(ctx, "postgres://ines@"+address+"/skerrow?sslmode=disable")
		if err == nil {
			err = c.Close(ctx)
		}
		waiting <- err
	}()
	time.AfterFunc(200*time.Millisecond, held)
	again := startWith(t, cfg, Options{Before: l})
	require.NoError(t, <-waiting)
	assert.Equal(t, address, again.Address())
	assert.True(t, again.engine.Predecessor())
	assert.Zero(t, again.engine.Earlier())
	u, err := net.Dial("unix", path)
	require.NoError(t, err)
	u.Close()

	_, err = busy.Exec(ctx, "commit")
	require.NoError(t, err)
	l.Leave(ctx)
	l.Close()
	hits(t, again, connected(t, address))
	again.Close()
	_, err = os.Stat(path)
	assert.ErrorIs(t, err, fs.ErrNotExist, "the socket's file is the larder's own")
}

func startWith(t *testing.T, cfg config.Config, opts Options) *Larder {
	l, err := Start(cfg, opts)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

// A larder that has handed over and ends with clients in a transaction leaves their statements behind: the other one waits as
// it would for any that was lost. Likewise after a crash.
func TestALarderThatHasHandedOverEndsAtOnce(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	cfg.HandoverTimeout = 10 * time.Millisecond
	one := start(t, cfg)
	busy := connected(t, one.Address())
	_, err := busy.Exec(ctx, "begin")
	require.NoError(t, err)
	_, err = busy.Exec(ctx, "update ports set name = 'Ardvane'")
	require.NoError(t, err)
	two := startWith(t, cfg, Options{TakeOver: true})
	require.NoError(t, (<-one.HandedOver()).Err)
	one.Leave(ctx)
	one.Close()
	require.Eventually(t, func() bool { return !two.engine.Predecessor() }, time.Minute, time.Millisecond)
	assert.NotZero(t, two.engine.Earlier())
	two.Close()

	// A process that is killed gives its lock up, and leaves the file.
	require.NoError(t, os.Remove(filepath.Join(cfg.State, mark)))
	require.NoError(t, os.WriteFile(filepath.Join(cfg.State, "leaving-1-1"), nil, 0o600))
	three := startWith(t, cfg, Options{})
	assert.False(t, three.engine.Predecessor())
	assert.NotZero(t, three.engine.Earlier())
}

// Two larders may still be leaving when a third takes over.
func TestSeveralTakeOverInTurn(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	var all []*Larder
	var clients []*pgx.Conn
	for i := range 3 {
		cfg.Origins = slices.Clone(cfg.Origins)
		cfg.Origins[0].Address = standIn(t) // each a stand-in of its own, which runs one transaction at a time
		l := startWith(t, cfg, Options{TakeOver: true})
		all = append(all, l)
		if i > 0 {
			require.NoError(t, (<-all[i-1].HandedOver()).Err)
		}
		c := connected(t, l.Address())
		_, err := c.Exec(ctx, "begin")
		require.NoError(t, err)
		clients = append(clients, c)
	}
	last := all[2]
	for i := range 2 {
		assert.True(t, last.engine.Predecessor())
		_, err := clients[1-i].Exec(ctx, "commit") // the second goes first
		require.NoError(t, err)
		if i == 0 { // which waits for the first, and may not be sure of all before
			ctx, stop := context.WithTimeout(ctx, 50*time.Millisecond)
			all[1].Leave(ctx)
			stop()
		} else {
			all[0].Leave(ctx)
		}
		all[1-i].Close()
	}
	require.Eventually(t, func() bool { return !last.engine.Predecessor() }, time.Minute, time.Millisecond)
	assert.NotZero(t, last.engine.Earlier(), "the second had waited for the first until its end")
}

// A larder that is being stopped, or that nobody could tell has gone, does not hand over.
func TestAHandoverThatIsRefused(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	path := filepath.Join(t.TempDir(), "clients.sock")
	cfg.Origins[0].Listen = append(cfg.Origins[0].Listen, path)
	l := start(t, cfg)
	require.NoError(t, os.Chmod(cfg.State, 0o500))
	t.Cleanup(func() { _ = os.Chmod(cfg.State, 0o700) })
	if os.Getuid() != 0 { // for whom no directory is closed
		_, err := Start(cfg, Options{TakeOver: true})
		require.ErrorContains(t, err, "it could not tell when it has gone")
	}
	require.NoError(t, os.Chmod(cfg.State, 0o700))
	_, err := Start(cfg, Options{})
	require.ErrorContains(t, err, "another larder uses it", "without being asked to take over")
	hits(t, l, connected(t, l.Address()))

	cfg.Origins = append(cfg.Origins, cfg.Origins[0]) // which cannot listen there
	cfg.Origins[1].Name, cfg.Origins[1].Listen = "second", []string{filepath.Join(cfg.State, "none", "clients.sock")}
	_, err = Start(cfg, Options{TakeOver: true})
	require.ErrorContains(t, err, "listening for clients")
	over := <-l.HandedOver()
	require.Error(t, over.Err)
	cfg.Origins = cfg.Origins[:1]
	again := startWith(t, cfg, Options{Before: l})
	connected(t, again.Address())
	c, err := net.Dial("unix", path)
	require.NoError(t, err, "the one that failed has not removed the socket")
	c.Close()

	cfg.Origins = slices.Clone(cfg.Origins) // those that run have their own
	cfg.Origins[0].Listen = cfg.Origins[0].Listen[:1]
	next := startWith(t, cfg, Options{TakeOver: true})
	require.NoError(t, (<-again.HandedOver()).Err)
	connected(t, next.Address())
	assert.NoFileExists(t, path, "nobody listens there any more")
}

// A larder that is told to stop while another takes over waits for nobody.
func TestALarderThatIsStoppedWhileItHandsOver(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	l := start(t, cfg)
	p, err := succession.Ask(filepath.Join(cfg.State, handoverSocket))
	require.NoError(t, err)
	defer p.Close()
	l.Close()
	require.Error(t, p.Confirm())
	p.CloseSockets()
	_, err = os.Stat(filepath.Join(cfg.State, mark))
	assert.NoError(t, err, "nobody has taken over, so that nobody has said how it ended")
}

// Inputs of another process are fetched where their rule is in force.
func TestInputsOfAnotherProcess(t *testing.T) {
	cfg := succeeding(t, standIn(t))
	l := start(t, cfg)
	list := mostUsed(t, l)
	l.Close()
	next := start(t, cfg)
	next.engine.WarmUpAll(append(list, engine.Wanted{Rule: "gone", Key: list[0].Key}, engine.Wanted{Rule: "all", Key: []byte("nonsense")}))
	asked, ok, _ := next.engine.Refetch("")
	require.True(t, ok)
	assert.Equal(t, readPort, string(asked.Exact))
	_, ok, _ = next.engine.Refetch("")
	assert.False(t, ok)
}
