package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/feed"
	"jollylarder/internal/privatepg"
)

// With so many counters, hardly any two values of these tests share one by chance.
func init() { freshness.FewestCounters = 1 << 16 }

var server *privatepg.Server

var ctx = context.Background()

func TestMain(m *testing.M) {
	var err error
	server, err = privatepg.Start("", "wal_level=logical", "max_replication_slots=8", "autovacuum=off", "wal_writer_delay=10s")
	if err != nil && (!errors.Is(err, privatepg.ErrMissing) || os.Getenv("CI") != "") {
		fmt.Println(err)
		os.Exit(1)
	}
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	os.Exit(code)
}

// sea is a database whose changes are followed.
type sea struct {
	t        testing.TB
	database string
	conn     *pgconn.PgConn
	engine   *engine.Engine
	follower *Follower
	names    feed.Names
	stop     context.CancelFunc
}

const tables = `create table ports (id int primary key, name text); create table log (what text);
insert into ports select g, 'port ' || g from generate_series(1, 9) g`

func newSea(t testing.TB, mode feed.Mode) *sea {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	s := &sea{t: t, database: fmt.Sprintf("sea%d", time.Now().UnixNano())}
	admin, err := pgconn.Connect(ctx, server.URL("postgres", "postgres"))
	require.NoError(t, err)
	defer admin.Close(ctx)
	s.sql(admin, "create database "+s.database)
	s.conn, err = pgconn.Connect(ctx, server.URL("postgres", s.database))
	require.NoError(t, err)
	s.sql(s.conn, tables)
	s.names = UsualNames(s.database)
	s.engine, err = engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	require.NoError(t, err)
	s.follower = &Follower{Connect: s.connect, Options: feed.Options{Feed: s.engine.Feed("", s.database), Database: s.database, Mode: mode,
		Slot: s.names.Slot, Publication: s.names.Publication, PollEvery: 100 * time.Millisecond}}
	t.Cleanup(func() {
		s.end()
		assert.Eventually(t, func() bool { // the server takes a moment to see that nobody follows any more
			p, err := Remove(ctx, s.conn, s.names)
			return err == nil && len(p.Obstacles) == 0 && Run(ctx, s.conn, p) == nil
		}, time.Minute, 10*time.Millisecond)
		s.conn.Close(ctx)
	})
	return s
}

func (s *sea) connect(ctx context.Context, parameters map[string]string) (*pgconn.PgConn, error) {
	cfg, err := pgconn.ParseConfig(server.URL("postgres", s.database))
	if err != nil {
		return nil, err
	}
	for k, v := range parameters {
		cfg.RuntimeParams[k] = v
	}
	return pgconn.ConnectConfig(ctx, cfg)
}

func (s *sea) sql(c *pgconn.PgConn, sql string) {
	_, err := c.Exec(ctx, sql).ReadAll()
	require.NoError(s.t, err, sql)
}

func (s *sea) setUp() {
	p, err := SetUp(ctx, s.conn, s.database, s.names)
	require.NoError(s.t, err)
	require.Empty(s.t, p.Obstacles)
	require.NoError(s.t, Run(ctx, s.conn, p))
}

func (s *sea) begin() {
	run, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { defer close(ended); s.follower.Run(run) }()
	s.stop = func() { stop(); <-ended }
}

func (s *sea) end() {
	if s.stop != nil {
		s.stop()
		s.stop = nil
	}
}

func (s *sea) eventually(is func(feed.Status) bool) {
	s.t.Helper()
	require.Eventually(s.t, func() bool { return is(s.follower.Status()) }, time.Minute, 5*time.Millisecond, "%+v", s.follower.Status())
}

func (s *sea) around(table string) uint64 {
	s.engine.Tick(time.Now())
	for _, t := range s.engine.Tables() {
		if t.Table == table {
			return t.Around
		}
	}
	return 0
}

func TestTheStreamTellsOfEveryChange(t *testing.T) {
	s := newSea(t, feed.Stream)
	plan, err := SetUp(ctx, s.conn, s.database, s.names)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(plan.Notes), "public.log", "a table without identity is left out, or its updates would fail")
	s.setUp()
	s.sql(s.conn, "insert into log values ('a'); update log set what = 'b'")
	again, err := SetUp(ctx, s.conn, s.database, s.names)
	require.NoError(t, err)
	assert.Empty(t, again.Steps, "there is nothing left to do")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.sql(s.conn, "update ports set name = 'x' where id = 3")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 1 && x.Rows == 1 })
	s.sql(s.conn, "begin; insert into ports values (20, 'y'); delete from ports where id = 4; rollback")
	s.sql(s.conn, "begin; insert into ports values (20, 'y'); delete from ports where id = 4; commit")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 2 && x.Rows == 3 })
	s.sql(s.conn, "truncate ports")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 3 })
	assert.Equal(t, uint64(3), s.around("public.ports"))
	s.sql(s.conn, "insert into log values ('c')")
	require.Eventually(t, func() bool { return s.around("public.log") > 0 }, time.Minute, 20*time.Millisecond, "counters tell of the rest")
	// What is done while nobody follows is told afterwards, with no gap.
	s.end()
	s.sql(s.conn, "insert into ports values (30, 'z')")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Transactions == 4 && x.Mode == feed.Stream })
	assert.Zero(t, s.follower.Status().Gaps)
	// A slot that was made anew may have left out something.
	s.end()
	require.Eventually(t, func() bool { // the server takes a moment to see that nobody follows any more
		_, err := s.conn.Exec(ctx, "select pg_drop_replication_slot('"+s.names.Slot+"')").ReadAll()
		return err == nil
	}, time.Minute, 5*time.Millisecond)
	s.sql(s.conn, "insert into ports values (31, 'z')")
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Gaps == 1 })
}

func TestWhatStandsAgainstAStream(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.begin()
	s.eventually(func(x feed.Status) bool {
		return x.Mode == feed.Poll && x.Problem == "there is no stream of changes: there is no slot "+s.names.Slot+": run jollylarder feed setup, which makes it"
	})
	s.sql(s.conn, "update ports set name = 'x' where id = 3")
	require.Eventually(t, func() bool { return s.around("public.ports") > 0 }, time.Minute, 20*time.Millisecond)
	s.end()
	s.setUp()
	other, err := s.connect(ctx, map[string]string{"replication": "database"})
	require.NoError(t, err)
	require.NoError(t, pglogrepl.StartReplication(ctx, other, s.names.Slot, 0, pglogrepl.StartReplicationOptions{PluginArgs: []string{"proto_version '1'", "publication_names '" + s.names.Publication + "'"}}))
	s.begin()
	s.eventually(func(x feed.Status) bool {
		return x.Mode == feed.Poll && strings.Contains(x.Problem, "is in use by another connection")
	})
	s.end()
	other.Close(ctx)
	p, err := Remove(ctx, s.conn, s.names)
	require.NoError(t, err)
	assert.Len(t, p.Steps, 2)
}

// A slot that holds back too much is let go, and the counters take over.
func TestASlotIsLetGo(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.follower.MaxSlotSize = 1
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Poll })
	require.Eventually(t, func() bool {
		rows, err := ask(ctx, s.conn, "select count(*)::text from pg_replication_slots where slot_name = $1", s.names.Slot)
		return err == nil && rows[0][0] == "0"
	}, time.Minute, 50*time.Millisecond)
}

// The server's end of the stream is cut again and again: nothing is left out.
// A slot of the same name that somebody has made anew since is left alone.
func TestASlotMadeAnewIsLeftAlone(t *testing.T) {
	s := newSea(t, feed.Poll)
	position := func() string {
		rows, err := ask(ctx, s.conn, "select pg_current_wal_lsn()::text")
		require.NoError(t, err)
		return rows[0][0]
	}
	slots := func() string {
		rows, err := ask(ctx, s.conn, "select count(*)::text from pg_replication_slots where slot_name = $1", s.follower.Slot)
		require.NoError(t, err)
		return rows[0][0]
	}
	create := fmt.Sprintf("select pg_create_logical_replication_slot('%s', 'pgoutput')", s.follower.Slot)
	s.sql(s.conn, create)
	s.sql(s.conn, "insert into log values ('beyond it')")
	until := position()
	s.sql(s.conn, fmt.Sprintf("select pg_drop_replication_slot('%s')", s.follower.Slot)) // somebody was faster
	s.sql(s.conn, "insert into log values ('and beyond that')")
	s.sql(s.conn, create)
	gone, err := s.follower.dropSlot(until)
	require.NoError(t, err)
	assert.True(t, gone, "the one that was given up")
	assert.Equal(t, "1", slots())
	s.sql(s.conn, "insert into log values ('more')")
	gone, err = s.follower.dropSlot(position())
	require.NoError(t, err)
	assert.True(t, gone)
	assert.Equal(t, "0", slots())
}

func TestTheServerEndsTheStream(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream })
	for i := range 3 {
		s.sql(s.conn, "select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = '"+s.names.Slot+"' and active")
		s.sql(s.conn, fmt.Sprintf("insert into ports values (%d, 'during')", 100+i))
		s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Transactions >= uint64(i+1) })
	}
	assert.Zero(t, s.follower.Status().Gaps)
}

// A server tells of a commit before it shows it, if it waits for a replica: until then what was written stays pending.
func TestACommitThatWaitsForAReplica(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Lag > 0 })
	s.sql(s.conn, "update ports set name = 'at once' where id = 3")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 1 && !s.follower.Unseen.Any() })
	s.sql(s.conn, "alter system set synchronous_standby_names = 'nobody'")
	s.sql(s.conn, "select pg_reload_conf()")
	defer s.sql(s.conn, "select pg_reload_conf()")
	defer s.sql(s.conn, "alter system reset synchronous_standby_names")
	writer, err := pgconn.Connect(ctx, server.URL("postgres", s.database))
	require.NoError(t, err)
	defer writer.Close(ctx)
	require.Eventually(t, func() bool {
		rows, err := ask(ctx, writer, "select current_setting('synchronous_standby_names')")
		return err == nil && rows[0][0] == "nobody"
	}, time.Minute, time.Millisecond)
	written := make(chan error, 1)
	go func() {
		_, err := writer.Exec(ctx, "update ports set name = 'later' where id = 3").ReadAll()
		written <- err
	}()
	s.eventually(func(x feed.Status) bool { return x.Transactions == 2 })
	for from := time.Now(); !s.follower.Status().At.After(from.Add(200 * time.Millisecond)); {
		require.True(t, s.follower.Unseen.Any())
		rows, err := ask(ctx, s.conn, "select name from ports where id = 3")
		require.NoError(t, err)
		require.Equal(t, "at once", rows[0][0])
	}
	_, err = s.conn.Exec(ctx, "select pg_cancel_backend(pid) from pg_stat_activity where wait_event = 'SyncRep'").ReadAll()
	require.NoError(t, err)
	require.NoError(t, <-written)
	s.eventually(func(feed.Status) bool { return !s.follower.Unseen.Any() })
}

func TestWhatASnapshotShows(t *testing.T) {
	ended, err := endedIn("4294967300:4294967310:4294967301,4294967305")
	require.NoError(t, err)
	for number, want := range map[uint32]bool{4: true, 5: false, 6: true, 9: false, 13: true, 14: false, 20: false, 4294967290: true} {
		assert.Equal(t, want, ended(number), number)
	}
	for _, wrong := range []string{"", "1:2", "a:b:", "1:2:x"} {
		_, err := endedIn(wrong)
		assert.Error(t, err, wrong)
	}
}

// What rows are told of which kind of change, by what identifies a table's rows.
func TestValuesBeforeAndAfter(t *testing.T) {
	var d decoder
	d.relation(&pglogrepl.RelationMessage{RelationID: 1, Namespace: "public", RelationName: "ports", ReplicaIdentity: 'd',
		Columns: []*pglogrepl.RelationMessageColumn{{Name: "id", Flags: 1}, {Name: "name"}}})
	row := func(values ...string) *pglogrepl.TupleData {
		x := &pglogrepl.TupleData{}
		for _, v := range values {
			x.Columns = append(x.Columns, &pglogrepl.TupleDataColumn{DataType: pglogrepl.TupleDataTypeText, Data: []byte(v)})
		}
		return x
	}
	column := func(name, value string) engine.ColumnValue {
		return engine.ColumnValue{Column: name, Value: []byte(value)}
	}
	require.NoError(t, d.add(1, analysis.Update, nil, row("5", "x")))
	assert.Equal(t, []engine.ColumnValue{column("id", "5")}, d.wrote.All()[0].Old, "what identifies the row has not changed")
	assert.Empty(t, d.wrote.All()[0].Sets, "it has not been told of before")
	require.NoError(t, d.add(1, analysis.Update, row("4", ""), row("5", "x")))
	assert.Equal(t, []engine.ColumnValue{column("id", "4")}, d.wrote.All()[1].Old)
	assert.Equal(t, []engine.ColumnValue{column("id", "5"), column("name", "x")}, d.wrote.All()[1].New)
	require.NoError(t, d.add(1, analysis.Update, nil, row("5", "y")))
	assert.Equal(t, []string{"name"}, d.wrote.All()[2].Sets, "what it was before is remembered")
	assert.Contains(t, d.wrote.All()[2].Old, column("name", "x"))
	require.NoError(t, d.add(1, analysis.Delete, row("5", ""), nil))
	require.NoError(t, d.add(1, analysis.Update, nil, row("5", "z")))
	assert.Empty(t, d.wrote.All()[4].Sets, "and forgotten with the row")
	d.relation(&pglogrepl.RelationMessage{RelationID: 3, Namespace: "public", RelationName: "full", ReplicaIdentity: 'f',
		Columns: []*pglogrepl.RelationMessageColumn{{Name: "id", Flags: 1}, {Name: "name", Flags: 1}, {Name: "long", Flags: 1}}})
	long := row("5", "y", "")
	long.Columns[2].DataType = pglogrepl.TupleDataTypeToast
	require.NoError(t, d.add(3, analysis.Update, row("5", "x", "a long one"), long))
	assert.Equal(t, []string{"name"}, d.wrote.All()[len(d.wrote.All())-1].Sets, "where all is told")
	require.Error(t, d.add(2, analysis.Delete, nil, nil), "a table that was not described")
	assert.False(t, d.redefined)
	d.relation(&pglogrepl.RelationMessage{RelationID: 1, Namespace: "public", RelationName: "ports", ReplicaIdentity: 'd',
		Columns: []*pglogrepl.RelationMessageColumn{{Name: "id", Flags: 1}}})
	assert.True(t, d.redefined)
	for range feed.MostRows + 5 {
		require.NoError(t, d.add(1, analysis.Insert, nil, row("7")))
	}
	assert.Len(t, d.wrote.All(), 2, "of a transaction of many rows the tables alone are told")
}

func FuzzDecoder(f *testing.F) {
	f.Add([]byte("B\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x01"), []byte("R\x00\x00\x00\x01public\x00t\x00d\x00\x01\x01id\x00\x00\x00\x00\x17\xff\xff\xff\xff"), []byte("I\x00\x00\x00\x01N\x00\x01t\x00\x00\x00\x015"))
	f.Add([]byte("C\x00\x00"), []byte("T\x00\x00\x00\x01\x00\x00\x00\x00\x01"), []byte("D\x00\x00\x00\x01K\x00\x01n"))
	f.Fuzz(func(t *testing.T, a, b, c []byte) {
		var d decoder
		for _, m := range [][]byte{a, b, c} {
			_, _, _ = d.take(m)
		}
	})
}

func TestWhereAPageBegins(t *testing.T) {
	assert.Equal(t, pglogrepl.LSN(0x1002000), reachable(0x1002018))
	assert.Equal(t, pglogrepl.LSN(0x1000000), reachable(0x1000028))
	assert.Equal(t, pglogrepl.LSN(0x1002028), reachable(0x1002028))
	assert.Equal(t, pglogrepl.LSN(0x1002100), reachable(0x1002100))
}

// An account that may not replicate is told so, and counters take over.
func TestARoleWithoutTheRight(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.sql(s.conn, "drop role if exists larder_feed")
	s.sql(s.conn, "create role larder_feed login")
	defer s.sql(s.conn, "drop role larder_feed")
	s.follower.Connect = func(ctx context.Context, parameters map[string]string) (*pgconn.PgConn, error) {
		return pgconn.Connect(ctx, server.URL("larder_feed", s.database))
	}
	s.begin()
	s.eventually(func(x feed.Status) bool {
		return x.Mode == feed.Poll && strings.Contains(x.Problem, "has no right to replicate")
	})
	s.end()
	s.names.Role = "larder_feed"
	p, err := SetUp(ctx, s.conn, s.database, s.names)
	require.NoError(t, err)
	assert.Equal(t, []string{`alter role "larder_feed" replication`}, p.Steps)
	s.names.Role = ""
}

// What was told already may be told again after the stream was cut; and it may begin before where it was.
func TestAStreamThatRepeats(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream })
	s.sql(s.conn, "insert into ports values (50, 'once')")
	s.eventually(func(x feed.Status) bool { return x.Transactions == 1 })
	s.end()
	s.follower.at.lsn += 1 << 30 // as if more had been told than the server remembers
	s.sql(s.conn, "insert into ports values (51, 'twice')")
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.Transactions >= 2 })
}

// Transactions of one row each, as fast as the server makes them: how many a second are told, from the first to the last.
func BenchmarkTransactionsTold(b *testing.B) {
	s := newSea(b, feed.Stream)
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream })
	s.sql(s.conn, "create procedure storm(n int) language plpgsql as $$ begin for i in 1..n loop update ports set name = 'x' || i where id = 1 + i % 9; commit; end loop; end $$")
	told := s.follower.Status().Transactions
	n := max(b.N, 20_000)
	began := time.Now()
	s.sql(s.conn, fmt.Sprintf("call storm(%d)", n))
	made := time.Since(began)
	require.Eventually(b, func() bool { return s.follower.Status().Transactions >= told+uint64(n) }, time.Minute, time.Millisecond)
	took := time.Since(began)
	b.ReportMetric(float64(n)/took.Seconds(), "told/s")
	b.ReportMetric(float64(n)/made.Seconds(), "made/s")
	b.ReportMetric(float64((took - made).Milliseconds()), "ms-behind")
}

// A transaction that has written and does not end leaves the server's log where nobody writes it to disk: the stream cannot come to its end, and is
// up to date all the same.
func TestATransactionThatDoesNotEndHoldsNothingUp(t *testing.T) {
	s := newSea(t, feed.Stream)
	s.setUp()
	s.begin()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && !x.At.IsZero() })
	other, err := pgconn.Connect(ctx, server.URL("postgres", s.database))
	require.NoError(t, err)
	defer other.Close(ctx)
	s.sql(other, "begin; update ports set name = 'held' where id = 1")
	from := time.Now() // the server would by itself write its log only minutes later
	s.eventually(func(x feed.Status) bool { return x.At.Add(-x.Lag).After(from) })
	s.sql(other, "rollback")
}
