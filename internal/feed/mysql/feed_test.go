package mysql

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-mysql-org/go-mysql/replication"
	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/feed"
	"jollylarder/internal/privatemaria"
)

// With so many counters, hardly any two values of these tests share one by chance.
func init() { freshness.FewestCounters = 1 << 16 }

var server *privatemaria.Server

var ctx = context.Background()

func TestMain(m *testing.M) {
	var err error
	server, err = privatemaria.Options{Settings: []string{"log-bin=binary", "server-id=7", "binlog-format=ROW", "binlog-row-metadata=FULL"}}.Start()
	if err != nil && (!errors.Is(err, privatemaria.ErrMissing) || os.Getenv("CI") != "") {
		fmt.Println(err)
		os.Exit(1)
	}
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	os.Exit(code)
}

// sea is a schema of a server whose changes are followed.
type sea struct {
	t        testing.TB
	server   *privatemaria.Server
	schema   string
	conn     *sql.Conn
	engine   *engine.Engine
	follower *Follower
	stop     context.CancelFunc
}

func newSea(t testing.TB, on *privatemaria.Server) *sea {
	if on == nil {
		t.Skip("no MariaDB here")
	}
	s := &sea{t: t, server: on, schema: fmt.Sprintf("sea%d", time.Now().UnixNano())}
	s.conn = s.connect()
	s.sql("create database " + s.schema)
	s.sql("use " + s.schema)
	var err error
	s.engine, err = engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	require.NoError(t, err)
	s.follower = &Follower{Config: s.config, Options: feed.Options{Feed: s.engine.Feed("", ""), Mode: feed.Stream}}
	t.Cleanup(s.end)
	return s
}

func (s *sea) config() *driver.Config {
	cfg := driver.NewConfig()
	cfg.User, cfg.Net, cfg.Addr = "root", "tcp", s.server.Address()
	cfg.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, address)
	}
	return cfg
}

func (s *sea) connect() *sql.Conn {
	cfg := s.config()
	cfg.MultiStatements = true
	connector, err := driver.NewConnector(cfg)
	require.NoError(s.t, err)
	db := sql.OpenDB(connector)
	s.t.Cleanup(func() { db.Close() })
	c, err := db.Conn(ctx)
	require.NoError(s.t, err)
	return c
}

func (s *sea) sql(text string) { s.on(s.conn, text) }

func (s *sea) on(c *sql.Conn, text string) {
	s.t.Helper()
	_, err := c.ExecContext(ctx, text)
	require.NoError(s.t, err, text)
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
	ok := assert.Eventually(s.t, func() bool { return is(s.follower.Status()) }, time.Minute, 2*time.Millisecond)
	require.True(s.t, ok, "%+v", s.follower.Status())
}

// catchesUp waits until all that was done before is told.
func (s *sea) catchesUp() {
	s.t.Helper()
	from := time.Now()
	s.eventually(func(x feed.Status) bool { return x.Mode == feed.Stream && x.At.Add(-x.Lag).After(from) })
}

func (s *sea) around(table string) uint64 {
	s.engine.Tick(time.Now())
	for _, t := range s.engine.Tables() {
		if t.Table == s.schema+"."+table {
			return t.Around
		}
	}
	return 0
}

// log reads what the server's log tells of what is done, as the decoder has it.
func (s *sea) log(do func()) (lines []string) {
	run, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	x := &stream{f: s.follower, account: s.config(), asking: s.conn}
	_, err := x.look(ctx)
	require.NoError(s.t, err)
	from, err := x.snapshot(ctx)
	require.NoError(s.t, err)
	syncer := x.syncer(run)
	defer syncer.Close()
	events, err := syncer.StartSync(from.position())
	require.NoError(s.t, err)
	do()
	s.sql("create table done_with_it (a int)")
	s.sql("drop table done_with_it")
	for {
		e, err := events.GetEvent(run)
		require.NoError(s.t, err)
		g, how := x.decoder.take(e)
		if how != ended || g.empty() {
			continue
		}
		lines = append(lines, s.written(g)...)
		if len(g.texts) == 1 && strings.HasPrefix(g.texts[0].text, "create table done_with_it") {
			return lines[:len(lines)-1]
		}
	}
}

var kindNames = map[any]string{kinds[replication.EnumRowsEventTypeInsert]: "insert", kinds[replication.EnumRowsEventTypeUpdate]: "update",
	kinds[replication.EnumRowsEventTypeDelete]: "delete", feed.AnyWrite: "any"}

// written writes a group for people, one line each.
func (s *sea) written(g group) (lines []string) {
	values := func(list []engine.ColumnValue) string {
		var out []string
		for _, v := range list {
			text := "null"
			if v.Value != nil {
				text = string(v.Value)
			}
			out = append(out, v.Column+"="+text)
		}
		return strings.Join(out, " ")
	}
	if g.unknown {
		lines = append(lines, "anything")
	}
	for _, r := range g.rows {
		line := kindNames[r.Kind] + " " + r.Table
		if r.Old != nil {
			line += " was " + values(r.Old)
		}
		if r.New != nil {
			line += " is " + values(r.New)
		}
		if r.Sets != nil {
			line += " sets " + strings.Join(r.Sets, " ")
		}
		lines = append(lines, strings.ReplaceAll(line, s.schema, "sea"))
	}
	for _, t := range g.texts {
		lines = append(lines, strings.ReplaceAll("runs "+t.text+" in "+cmp.Or(t.schema, "none"), s.schema, "sea"))
	}
	return lines
}

func TestWhatTheLogTells(t *testing.T) {
	s := newSea(t, server)
	s.sql(`create table ports (id int unsigned primary key, name varchar(20), depth decimal(4,1), tide tinyint, flag enum('a', 'b'), note blob);
		create table sailings (id bigint primary key, port int unsigned, foreign key (port) references ports (id) on delete cascade) engine = InnoDB;
		create table log (what varchar(40)) engine = MyISAM; create table audit (what varchar(40));
		create trigger audits after update on log for each row insert into audit values (new.what);
		create table tree (id int primary key, up int, foreign key (up) references tree (id) on delete cascade);
		create table wide (small smallint, middle mediumint, large bigint unsigned, third mediumint unsigned, word char(5) character set latin1, tide double)`)
	for _, c := range []struct {
		do   string
		want []string
	}{
		{"insert into ports values (1, 'Cairn Point', 3.5, -2, 'b', 'x'), (4294967295, null, null, null, null, null)",
			[]string{"insert ports is id=1 name=Cairn Point tide=-2", "insert ports is id=4294967295 name=null depth=null tide=null flag=null note=null"}},
		{"update ports set name = 'Skerrow' where id = 1", []string{"update ports was id=1 name=Cairn Point tide=-2 is id=1 name=Skerrow tide=-2 sets name"}},
		{"update ports set depth = 9 where id = 1", []string{"update ports was id=1 name=Skerrow tide=-2 is id=1 name=Skerrow tide=-2 sets depth"}},
		{"insert into wide values (-300, -70000, 18446744073709551615, 16777215, 'abc  ', 1.5)", []string{"insert wide is small=-300 middle=-70000 large=18446744073709551615 third=16777215 word=abc"}},
		{"begin; insert into sailings values (7, 1); insert into log values ('with it'); rollback", []string{"insert log is what=with it"}},
		{"begin; insert into sailings values (7, 1); insert into sailings values (8, 1); commit", []string{"insert sailings is id=7 port=1", "insert sailings is id=8 port=1"}},
		{"delete from ports where id = 1", []string{"delete ports was id=1 name=Skerrow tide=-2", "any sailings"}},
		{"update log set what = 'audited'", []string{"update log was what=with it is what=audited sets what", "insert audit is what=audited"}},
		{"truncate sailings", []string{"runs truncate sailings in sea"}},
		{"set session binlog_format = 'STATEMENT'; delete from audit; set session binlog_format = 'ROW'", []string{"runs delete from audit in sea"}},
		{"set session sql_mode = 'ANSI_QUOTES'; alter table \"log\" add x int; set session sql_mode = default", []string{"runs alter table \"log\" add x int in sea"}},
		{"create temporary table own (a int); insert into own values (1); drop temporary table own", nil},
		{"xa start 'one'; insert into sailings values (20, 4294967295); xa end 'one'; xa prepare 'one'; xa rollback 'one'", nil},
		{"xa start 'two'; insert into sailings values (21, 4294967295); xa end 'two'; xa prepare 'two'; xa commit 'two'",
			[]string{"insert sailings is id=21 port=4294967295"}},
		{"replace into sailings values (21, null)", []string{"update sailings was id=21 port=4294967295 is id=21 port=null sets port"}},
		{"insert into ports (id, name) values (2, 'a') on duplicate key update name = 'b'", []string{"insert ports is id=2 name=a depth=null tide=null flag=null note=null"}},
		{"create table copy as select id from sailings", nil},
	} {
		got := s.log(func() {
			for _, one := range strings.Split(c.do, ";") {
				s.sql(one)
			}
		})
		if strings.HasPrefix(c.do, "create table copy") {
			assert.Contains(t, got, "insert copy is id=21", c.do)
			assert.True(t, slices.ContainsFunc(got, func(l string) bool { return strings.HasPrefix(l, "runs CREATE TABLE `copy`") }), got)
			continue
		}
		if len(c.want)+len(got) > 0 {
			assert.Equal(t, c.want, got, c.do)
		}
	}
}

// The status variables of a statement are a server's bytes: whatever they are, no more is read of them than there is, and
// a mode is known only if it stands there.
func FuzzHowWritten(f *testing.F) {
	f.Add([]byte{0, 0, 0, 0, 0, 1, 4, 0, 0, 0, 0, 0, 0, 0, 6, 3, 's', 't', 'd', 4, 33, 0, 33, 0, 33, 0})
	f.Add([]byte{6, 200, 's'})
	f.Fuzz(func(t *testing.T, vars []byte) {
		mode, _, known := howWritten(vars)
		assert.True(t, known || mode == 0)
		assert.True(t, !known || slices.Contains(vars, modeVariable))
	})
}

// How a statement was written, as far as its variables tell.
func TestHowStatementsWereWritten(t *testing.T) {
	for _, c := range []struct {
		vars        []byte
		mode        syntax.Mode
		utf8, known bool
	}{
		{[]byte{0, 0, 0, 0, 0, 1, 4, 0, 0, 0, 0, 0, 0, 0, 6, 3, 's', 't', 'd', 4, 33, 0, 33, 0, 33, 0}, syntax.ANSIQuotes, true, true},
		{[]byte{1, 0, 0, 0x10, 0, 0, 0, 0, 0, 4, 8, 0, 8, 0, 8, 0}, syntax.NoBackslashEscapes, false, true},
		{[]byte{1, 0, 0, 0, 0, 0, 0, 0, 0, 99, 1}, 0, false, true},
		{[]byte{0, 0, 0, 0, 0}, 0, false, false}, {[]byte{1, 4, 0}, 0, false, false}, {nil, 0, false, false},
	} {
		mode, utf8, known := howWritten(c.vars)
		assert.Equal(t, c.known, known, c.vars)
		if known {
			assert.Equal(t, c.mode, mode, c.vars)
			assert.Equal(t, c.utf8, utf8, c.vars)
		}
	}
}
