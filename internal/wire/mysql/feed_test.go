package mysql_test

import (
	"context"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/mysql"
	"jollylarder/internal/wire/link"
)

// follows has the larder follow direct writes.
func (a *answering) follows() *feeds.Follower {
	f := &feeds.Follower{
		Options: feed.Options{Feed: a.core.Feed("", ""), Mode: feed.Stream, ProbeEvery: time.Millisecond},
		Config:  func() *driver.Config { return a.server.Config(link.Account{User: "root"}) },
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Run(ctx) }()
	a.t.Cleanup(func() { stop(); <-ended })
	a.catchesUp(f)
	return f
}

// catchesUp waits until all that was done before is told.
func (a *answering) catchesUp(f *feeds.Follower) {
	from := time.Now()
	require.Eventually(a.t, func() bool {
		s := f.Status()
		return s.Mode == feed.Stream && s.At.Add(-s.Lag).After(from)
	}, time.Minute, 200*time.Microsecond, "%+v", f.Status())
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
