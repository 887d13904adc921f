package mysql

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/feed"
	"jollylarder/internal/privatemaria"
)

func started(t *testing.T, settings ...string) *privatemaria.Server {
	s, err := privatemaria.Options{Settings: settings}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s
}

func TestTheLogIsFollowed(t *testing.T) {
	s := newSea(t, server)
	s.sql("create table ports (id int primary key, name text); insert into ports values (3, 'x'), (4, 'y')")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.sql("update ports set name = 'z' where id = 3")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 1 && x.Rows == 1 })
	s.sql("begin; insert into ports values (20, 'y'); delete from ports where id = 4; rollback")
	s.sql("begin; insert into ports values (20, 'y'); delete from ports where id = 4; commit")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 2 && x.Rows == 3 })
	assert.Equal(t, uint64(2), s.around("ports"))
	// A transaction that does not end holds nothing up, nor does a new file of the log.
	other := s.connect()
	s.on(other, "use "+s.schema+"; begin; update ports set name = 'held' where id = 3")
	s.catchesUp()
	s.sql("flush binary logs")
	s.catchesUp()
	s.sql("insert into ports values (30, 'after it')")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 3 })
	s.on(other, "rollback")
	// What is done while nobody follows is told afterwards, with no gap.
	s.end()
	s.sql("insert into ports values (31, 'z')")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Transactions == 4 && x.Mode == feed.Stream })
	for i := range 3 { // also where the server ends the stream
		s.sql("select concat('kill ', max(id)) into @kill from information_schema.processlist where command = 'Binlog Dump'; execute immediate @kill")
		s.sql(fmt.Sprintf("insert into ports values (%d, 'during')", 100+i))
		s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Transactions == uint64(5+i) })
	}
	assert.Zero(t, s.follower.Status().Gaps)
}

// The log of before is gone: what it held may have been anything.
func TestALogThatBeginsAnew(t *testing.T) {
	s := newSea(t, started(t, "log-bin=binary", "binlog-format=ROW"))
	s.sql("create table ports (id int primary key)")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.sql("insert into ports values (1)")
	s.eventually(func(x feed.Status) bool { return x.Rows == 1 })
	s.end()
	s.sql("insert into ports values (2); reset master")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Gaps == 1 })
	s.sql("insert into ports values (3)")
	s.eventually(func(x feed.Status) bool { return x.Rows == 2 })
	s.catchesUp()
}

// Behind the address is a copy of the server as it was: its log goes on from where that was told, with other things.
func TestAnotherServerIsAGap(t *testing.T) {
	s := newSea(t, server)
	s.sql("create table ports (id int primary key)")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.end()
	s.follower.at.server.since = s.follower.at.server.since.Add(-time.Minute) // as if it had been started since
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Gaps == 1 })
	s.end()
	s.follower.at.server.id = "8"
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Gaps == 2 })
}

func TestWhatStandsAgainstFollowingTheLog(t *testing.T) {
	s := newSea(t, started(t))
	s.begin()
	s.eventually(func(x feed.Status) bool {
		return x.Mode == "" && x.Problem == "the server has log_bin = OFF: put log_bin and binlog_format = ROW into its configuration, and restart it"
	})
	p, err := SetUp(ctx, s.conn, feed.Names{})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(p.Obstacles), "the server has log_bin = OFF")
	for version, is := range map[string]bool{"10.11.19-MariaDB-0+deb12u1": true, "11.4.2-MariaDB": true, "8.0.36": false, "": false} {
		_, mariaDB := serverOf(version)
		assert.Equal(t, is, mariaDB, version)
	}
}

// A server is prepared by a plan, and an account of its own can do no more than it needs.
func TestAServerIsSetUp(t *testing.T) {
	s := newSea(t, started(t, "log-bin=binary"))
	names := feed.Names{Role: "larder's feed"}
	p, err := SetUp(ctx, s.conn, names)
	require.NoError(t, err)
	assert.Empty(t, p.Obstacles)
	assert.Equal(t, []string{
		"set global binlog_format = 'ROW'", "set global binlog_row_metadata = 'FULL'",
		"create user 'larder''s feed'@'%' account lock", "grant replication slave on *.* to 'larder''s feed'@'%'",
	}, p.Steps)
	require.NoError(t, Run(ctx, s.conn, p))
	again, err := SetUp(ctx, s.conn, names)
	require.NoError(t, err)
	assert.Empty(t, again.Steps, "there is nothing left to do")
	s.sql("alter user 'larder''s feed'@'%' identified by 'Quay#7' account unlock")
	root := s.follower.Config
	s.follower.Config = func() *driver.Config {
		cfg := root()
		cfg.User, cfg.Passwd = "larder's feed", "Quay#7"
		return cfg
	}
	s.sql("revoke replication slave on *.* from 'larder''s feed'@'%'")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == "" && x.Problem != "" })
	assert.Contains(t, s.follower.Status().Problem, "its account may not replicate: GRANT REPLICATION SLAVE ON *.* to it")
	s.sql("grant replication slave on *.* to 'larder''s feed'@'%'")
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.sql("set global binlog_format = 'MIXED'")
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Problem != "" })
	s.end()
	p, err = Remove(ctx, s.conn, names)
	require.NoError(t, err)
	assert.Equal(t, []string{"drop user 'larder''s feed'@'%'"}, p.Steps)
	require.NoError(t, Run(ctx, s.conn, p))
	p, err = Remove(ctx, s.conn, names)
	require.NoError(t, err)
	assert.Empty(t, p.Steps)
}

// A server that says nothing any more is asked no longer than it may take.
func TestAServerThatHangs(t *testing.T) {
	s := newSea(t, server)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(io.Discard, c) }() // and never answers
		}
	}()
	root := s.follower.Config
	s.follower.Config = func() *driver.Config {
		cfg := root()
		cfg.Addr = l.Addr().String()
		return cfg
	}
	s.begin()
	ended := make(chan struct{})
	go func() { s.end(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(time.Minute):
		t.Fatal("the end of following waits for a server that says nothing")
	}
}

// Transactions of one row each, as fast as the server makes them: how many a second are told, from the first to the last.
func BenchmarkTransactionsOfMariaDBTold(b *testing.B) {
	s := newSea(b, server)
	s.sql("create table ports (id int primary key, name varchar(40)) engine = InnoDB")
	s.sql("insert into ports select seq, 'port' from seq_1_to_9")
	s.sql("create procedure storm(n int) begin declare i int default 0; while i < n do update ports set name = concat('x', i) where id = 1 + i % 9; set i = i + 1; end while; end")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream })
	s.catchesUp()
	told := s.follower.Status().Transactions
	n := max(b.N, 20_000)
	began := time.Now()
	s.sql(fmt.Sprintf("call storm(%d)", n))
	made := time.Since(began)
	require.Eventually(b, func() bool { return s.follower.Status().Transactions >= told+uint64(n) }, time.Minute, time.Millisecond)
	took := time.Since(began)
	b.ReportMetric(float64(n)/took.Seconds(), "told/s")
	b.ReportMetric(float64(n)/made.Seconds(), "made/s")
	b.ReportMetric(float64((took - made).Milliseconds()), "ms-behind")
}
