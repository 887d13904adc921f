package mysql_test

import (
	"context"
	"crypto/tls"
	"database/sql"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/rules"
	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/mysql"
	"jollylarder/internal/privatemaria"
	"jollylarder/internal/wire/link"
)

// follows has the larder follow direct writes.
func (a *answering) follows() *feeds.Follower {
	f := &feeds.Follower{
		Options: feed.Options{Feed: a.core.Feed("", ""), Mode: feed.Stream, ProbeEvery: time.Millisecond},
		Config:  func() *driver.Config { return a.server.Config(link.Account{User: "root"}) },
	}
	a.runs(f)
	return f
}

// runs has a follower run.
func (a *answering) runs(f *feeds.Follower) {
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Run(ctx) }()
	a.t.Cleanup(func() { stop(); <-ended })
	a.catchesUp(f)
}

// catchesUp waits until all that was done before is told.
func (a *answering) catchesUp(f *feeds.Follower) {
	from := time.Now()
	require.Eventually(a.t, func() bool {
		s := f.Status()
		return s.Mode == feed.Stream && s.At.Add(-s.Lag).After(from)
	}, time.Minute, 200*time.Microsecond, "%+v", f.Status())
}

// An account that is let in over TLS alone follows over TLS.
func TestAFeedOverTLS(t *testing.T) {
	l := newLarder(t, link.Settings{OriginTLS: &tls.Config{RootCAs: authority.Pool(), ServerName: "localhost"}})
	root := connect(t, server.Address(), "root", "", "")
	for _, q := range []string{"create user harbour identified by 'Quay#7' require ssl", "grant replication slave on *.* to harbour"} {
		_, err := root.Exec(q)
		require.NoError(t, err, q)
	}
	defer root.Exec("drop user harbour")
	a := &answering{larder: l, t: t}
	f := &feeds.Follower{
		Options: feed.Options{Feed: l.core.Feed("", ""), Mode: feed.Stream},
		Config:  func() *driver.Config { return l.server.Config(link.Account{User: "harbour", Password: "Quay#7"}) },
	}
	a.runs(f)
	told := f.Status().Transactions
	_, err := root.Exec("create or replace table skerrow.moorings (id int)")
	require.NoError(t, err)
	a.catchesUp(f)
	assert.Greater(t, f.Status().Transactions, told)
}

// Whatever somebody does directly, nobody is given an old answer once the feed has told of it.
func TestHiddenEffectsOfDirectWrites(t *testing.T) {
	fewer(t)
	a := newAnswering(t)
	a.around = true
	f := a.follows()
	require.NoError(t, hiddenEffects(a, func() { a.catchesUp(f) },
		"set session binlog_format = 'ROW'", "set session binlog_format = 'MIXED'"))
	assert.Zero(t, f.Status().Gaps)
}

// A server writes to its log before its tables show what was written, and may wait between the two. What is read in
// between shows the old rows, although the feed has told of the new ones.
func TestAWriteThatIsToldBeforeItIsSeen(t *testing.T) {
	a := newAnswering(t)
	f := a.follows()
	root := connect(t, server.Address(), "root", "", "")
	must := func(q string) {
		_, err := root.Exec(q)
		require.NoError(t, err, q)
	}
	must("create table skerrow.signals (id int primary key, shown varchar(20)) engine=innodb")
	defer must("drop table skerrow.signals")
	must("insert into skerrow.signals values (1, 'before')")
	must("set global rpl_semi_sync_master_wait_point = 'AFTER_SYNC'")
	must("set global rpl_semi_sync_master_timeout = 600000")
	must("set global rpl_semi_sync_master_enabled = 1") // and no replica ever says that it has something
	defer must("set global rpl_semi_sync_master_enabled = 0")
	x := a.enters()
	const reads = "select shown from signals where id = 1"
	require.Eventually(t, func() bool { return a.outcome(x, reads) == "hit" }, time.Minute, time.Millisecond)
	told := f.Status().Transactions
	written := make(chan error, 1)
	writer := connect(t, server.Address(), "ines", "Quay#7", "")
	go func() {
		_, err := writer.Exec("update signals set shown = 'after' where id = 1")
		written <- err
	}()
	require.Eventually(t, func() bool { return f.Status().Transactions > told }, time.Minute, time.Millisecond)
	for range 3 {
		assert.Contains(t, a.ask(x, reads), "before")
		assert.Equal(t, "miss", a.outcome(x, reads), "what is read now is not cached")
	}
	must("set global rpl_semi_sync_master_enabled = 0")
	require.NoError(t, <-written)
	assert.Contains(t, a.ask(x, reads), "after")
	require.Eventually(t, func() bool { return a.outcome(x, reads) == "hit" }, time.Minute, time.Millisecond)
	assert.Contains(t, a.ask(x, reads), "after")
}

// What somebody does with temporary tables of his own drops nothing, though the log tells of it.
func TestTemporaryTablesOfOthers(t *testing.T) {
	a := newAnswering(t)
	f := a.follows()
	x := a.enters()
	const reads = "select ship from berths where id = 9"
	require.Eventually(t, func() bool { return a.outcome(x, reads) == "hit" }, time.Minute, time.Millisecond)
	other, err := connect(t, server.Address(), "ines", "Quay#7", "").Conn(context.Background())
	require.NoError(t, err)
	defer other.Close()
	told := f.Status().Transactions
	for _, q := range []string{
		"set session binlog_format = 'MIXED'", "create temporary table own (n int)", "insert into own values (1)", "update own set n = 2", "drop temporary table own",
		"set session binlog_format = 'STATEMENT'", "create temporary table own (n int)", "insert into own values (1)", "truncate own", "drop table own",
	} {
		_, err := other.ExecContext(context.Background(), q)
		require.NoError(t, err, q)
		a.catchesUp(f)
		assert.Equal(t, "hit", a.outcome(x, reads), q)
	}
	assert.Greater(t, f.Status().Transactions, told+4, "which are told")
}

// Control samples find an answer that is old because somebody wrote directly, and say so only once a feed would have told.
func TestControlSamples(t *testing.T) {
	a := newAnswering(t)
	a.core.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: 0.5}}))
	root := connect(t, server.Address(), "ines", "Quay#7", "")
	must := func(q string) {
		_, err := root.Exec(q)
		require.NoError(t, err, q)
	}
	x := a.enters()
	a.ask(x, "create table posts (id int primary key, sign varchar(20), height double)")
	defer must("drop table skerrow.posts")
	a.ask(x, "insert into posts values (1, 'north', 0.1), (2, 'south', 0.3)")
	ask := func() { a.ask(x, "select sign, height from posts where id < 9") }
	equal := func() bool { // no old answer is found where there is none
		ask()
		a.core.Tick(time.Now())
		return a.core.Samples.Counts().Equal >= 3
	}
	require.Eventually(t, equal, time.Minute, time.Millisecond)
	assert.Zero(t, a.core.Samples.Counts().Stale)
	must("update skerrow.posts set sign = 'east' where id = 2")
	require.Eventually(t, func() bool {
		ask()
		a.core.Tick(time.Now())
		return a.core.Samples.Counts().Stale > 0
	}, time.Minute, time.Millisecond)
	assert.Contains(t, a.ask(x, "select sign, height from posts where id < 9"), "east", "and what it was is dropped")
}

// A server that takes the place of another has none of what was cached.
func TestAnotherServerAnswers(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	second, err := privatemaria.Options{Settings: []string{"server-id=2"}}.Start()
	require.NoError(t, err)
	defer second.Stop()
	var behind atomic.Value // the address
	behind.Store(server.Address())
	front := listens(t, func(c net.Conn) {
		o, err := net.Dial("tcp", behind.Load().(string))
		if err != nil {
			return
		}
		defer o.Close()
		go func() { _, _ = io.Copy(o, c) }()
		_, _ = io.Copy(c, o)
	})
	for i, s := range []*privatemaria.Server{server, second} {
		for _, q := range []string{"create database if not exists skerrow", "create or replace table skerrow.lamps (id int primary key, n int)", fmt.Sprintf("insert into skerrow.lamps values (1, %d)", i+1)} {
			c, err := sql.Open("mysql", "root@tcp("+s.Address()+")/")
			require.NoError(t, err)
			_, err = c.Exec(q)
			require.NoError(t, err, q)
			c.Close()
		}
	}
	l := newLarderBefore(t, front, link.Settings{Unchallenged: link.Anybody, Catalog: &link.Account{User: "root"}})
	l.keepsAll()
	ask := func() string {
		c, err := sql.Open("mysql", "root@tcp("+l.address+")/skerrow")
		require.NoError(t, err)
		defer c.Close()
		n, err := asks(c, "select n from lamps where id = 1")
		require.NoError(t, err)
		return n
	}
	require.Eventually(t, func() bool { assert.Equal(t, "1", ask()); return l.hits() > 3 }, time.Minute, time.Millisecond)
	behind.Store(second.Address())
	for range 5 {
		assert.Equal(t, "2", ask())
	}
	changes, _ := l.core.Servers()
	require.NotEmpty(t, changes)
	assert.NotEqual(t, changes[0].Before, changes[0].After)
}
