package postgres_test

import (
	"bytes"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

const (
	ports     = "create table ports (id int primary key, name text, opened date, fee numeric, busy boolean)"
	somePorts = "insert into ports select i, 'port ' || i, '2027-03-01'::date + i, i * 1.5, i % 2 = 0 from generate_series(1, 40) i"
	readPorts = "select id, name, opened, fee, busy from ports where id <= $1 order by id"
)

// In every mode of the driver the answers are the same direct, fetched, and from memory.
func TestPgxInEveryMode(t *testing.T) {
	l := newLarder(t, ports, somePorts)
	l.keep(readPorts)
	read := func(url string, mode pgx.QueryExecMode, n int) (out [][]any) {
		c := connect(t, url, mode)
		for range 2 {
			rows, err := c.Query(ctx, readPorts, n)
			require.NoError(t, err)
			out = nil
			for rows.Next() {
				v, err := rows.Values()
				require.NoError(t, err)
				out = append(out, v)
			}
			require.NoError(t, rows.Err())
			assert.Equal(t, pgx.QueryExecMode(mode), mode)
			assert.Equal(t, int64(len(out)), rows.CommandTag().RowsAffected())
		}
		return out
	}
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec, pgx.QueryExecModeDescribeExec, pgx.QueryExecModeCacheDescribe, pgx.QueryExecModeCacheStatement} {
		before := l.engine.Ledger.Total.Total().Count[ledger.Hit]
		for _, n := range []int{0, 1, 40} { // an empty result is a result
			want := read(l.direct, mode, n)
			assert.Len(t, want, n)
			assert.Equal(t, want, read(l.through, mode, n), mode.String())
			assert.Equal(t, want, read(l.through, mode, n), mode.String())
		}
		assert.Eventually(t, func() bool { // a hit is counted when its reply has been written
			return l.engine.Ledger.Total.Total().Count[ledger.Hit] >= before+9
		}, time.Minute, time.Millisecond, "%s %v", mode, l.passed())
	}
}

// The unnamed statement that was answered from memory is there when the client binds it again.
func TestAStatementPreparedFromMemoryCanBeBoundAgain(t *testing.T) {
	l := newLarder(t, ports, somePorts)
	l.keep("select name from ports where id = $1")
	c := connect(t, l.through, pgx.QueryExecModeExec)
	for range 3 {
		assert.Equal(t, "port 3", one(t, c, "select name from ports where id = $1", 3))
	}
	for _, e := range l.outcomes("select name from ports where id = $1", 3)[1:] {
		require.Equal(t, ledger.Hit, e.Outcome, e.Reason)
	}
	// An empty name is the unnamed statement: bound with another value it is not in memory, and the origin has no such
	// statement unless the larder prepares it there.
	r := c.PgConn().ExecPrepared(ctx, "", [][]byte{[]byte("4")}, nil, nil).Read()
	require.NoError(t, r.Err)
	assert.Equal(t, "port 4", string(r.Rows[0][0]))
	r = c.PgConn().ExecPrepared(ctx, "", [][]byte{[]byte("5")}, nil, nil).Read()
	require.NoError(t, r.Err)
	assert.Equal(t, "port 5", string(r.Rows[0][0]))
}

// A name whose second Parse fails still means the first statement.
func TestANameThatCouldNotBePreparedAnew(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	reader := connect(t, l.through, pgx.QueryExecModeExec)
	c := connect(t, l.through, pgx.QueryExecModeExec).PgConn()
	_, err := c.Prepare(ctx, "s", "update berths set n = n + 1", nil)
	require.NoError(t, err)
	_, err = c.Prepare(ctx, "s", readBerth, nil)
	require.ErrorContains(t, err, "42P05")
	for want := 1; want <= 3; want++ {
		one(t, reader, readBerth)
		r := c.ExecPrepared(ctx, "s", nil, nil, nil).Read()
		require.NoError(t, r.Err)
		assert.Equal(t, "UPDATE 1", r.CommandTag.String())
		assert.Equal(t, strconv.Itoa(want), one(t, reader, readBerth))
	}
	require.NoError(t, c.Deallocate(ctx, "s"))
	_, err = c.Prepare(ctx, "s", readBerth, nil)
	require.NoError(t, err)
	for range 2 {
		assert.Equal(t, "3", string(c.ExecPrepared(ctx, "s", nil, nil, nil).Read().Rows[0][0]))
	}
	events := l.outcomes(readBerth, 8)
	assert.Equal(t, ledger.Hit, events[len(events)-1].Outcome)
}

func TestErrorsInABatch(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	c := connect(t, l.through, pgx.QueryExecModeExec)
	for range 2 {
		b := &pgx.Batch{}
		b.Queue("update berths set n = n + 1")
		b.Queue("select 1/0")
		b.Queue(readBerth)
		res := c.SendBatch(ctx, b)
		_, err := res.Exec()
		require.NoError(t, err)
		_, err = res.Exec()
		require.ErrorContains(t, err, "22012")
		require.Error(t, res.Close())
		assert.Equal(t, "0", one(t, c, readBerth), "the batch was undone as a whole")
	}
	b := &pgx.Batch{}
	b.Queue("update berths set n = 5")
	b.Queue(readBerth)
	res := c.SendBatch(ctx, b)
	_, err := res.Exec()
	require.NoError(t, err)
	var n int
	require.NoError(t, res.QueryRow().Scan(&n))
	assert.Equal(t, 5, n)
	require.NoError(t, res.Close())
	assert.Equal(t, "5", one(t, c, readBerth))
}

func TestLoginsOfEveryKind(t *testing.T) {
	l := newLarder(t,
		"drop role if exists scram_user", "drop role if exists md5_user",
		"set password_encryption = 'scram-sha-256'", "create role scram_user login password 'herring'",
		"set password_encryption = 'md5'", "create role md5_user login password 'kipper'")
	for user, password := range map[string]string{"scram_user": "herring", "md5_user": "kipper"} {
		c, err := pgx.Connect(ctx, "postgres://"+user+":"+password+"@"+l.address+"/"+l.database+"?sslmode=disable")
		require.NoError(t, err, user)
		assert.Equal(t, user, one(t, c, "select current_user::text"))
		c.Close(ctx)
		_, err = pgx.Connect(ctx, "postgres://"+user+":wrong@"+l.address+"/"+l.database+"?sslmode=disable")
		assert.ErrorContains(t, err, "28P01", "the origin's own refusal")
	}
	_, err := pgx.Connect(ctx, "postgres://postgres@"+l.address+"/nowhere?sslmode=disable")
	assert.ErrorContains(t, err, "3D000")
	c, err := pgx.Connect(ctx, "postgres://postgres@"+l.address+"/"+l.database+"?sslmode=prefer")
	require.NoError(t, err, "who asks for TLS is told there is none, and goes on without")
	c.Close(ctx)
}

// What a large catalog answers comes in many pieces; none of it reaches the client.
func TestALargeCatalog(t *testing.T) {
	l := newLarder(t, berths, oneBerth,
		"do $$ begin for i in 1..1500 loop execute 'create table a_table_with_a_rather_long_name_' || i || ' (a int)'; end loop; end $$")
	l.keep(readBerth)
	for range 5 {
		c := connect(t, l.through, pgx.QueryExecModeExec)
		_, err := c.Exec(ctx, "create table if not exists berths (id int)") // so that it is read again, over this connection
		require.NoError(t, err)
		for range 20 {
			assert.Equal(t, "0", one(t, c, readBerth))
			time.Sleep(5 * time.Millisecond)
		}
		require.NoError(t, c.Close(ctx))
	}
	c := connect(t, l.through, pgx.QueryExecModeExec)
	asked := 100
	require.Eventually(t, func() bool { // when it has been read
		one(t, c, readBerth)
		asked++
		return l.outcomes(readBerth, asked)[asked-1].Outcome == ledger.Hit
	}, time.Minute, 10*time.Millisecond)
}

// cancelling asks for what a connection does to be cancelled, again and again until it is stopped: a request may come
// before its statement.
func cancelling(c *pgx.Conn) (stop func()) {
	ended := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-ended:
				return
			case <-time.After(50 * time.Millisecond):
				_ = c.PgConn().CancelRequest(ctx)
			}
		}
	})
	return func() { close(ended); wg.Wait() }
}

func TestCancelReachesItsOwnStatement(t *testing.T) {
	l := newLarder(t)
	c, other := connect(t, l.through, pgx.QueryExecModeExec), connect(t, l.through, pgx.QueryExecModeExec)
	stop := cancelling(c)
	_, err := c.Exec(ctx, "select pg_sleep(30)")
	stop()
	assert.ErrorContains(t, err, "57014")
	assert.Equal(t, "1", one(t, other, "select 1"))
	assert.Equal(t, "1", one(t, c, "select 1"))
}

func TestCopyAndNotify(t *testing.T) {
	l := newLarder(t, berths)
	l.keep("select count(*) from berths")
	c, listener := connect(t, l.through, pgx.QueryExecModeExec), connect(t, l.through, pgx.QueryExecModeExec)
	for range 2 {
		assert.Equal(t, "0", one(t, c, "select count(*) from berths"))
	}
	var rows [][]any
	for i := range 5000 {
		rows = append(rows, []any{i, i})
	}
	n, err := c.CopyFrom(ctx, pgx.Identifier{"berths"}, []string{"id", "n"}, pgx.CopyFromRows(rows))
	require.NoError(t, err)
	assert.Equal(t, int64(5000), n)
	assert.Equal(t, "5000", one(t, c, "select count(*) from berths"))
	var out bytes.Buffer
	_, err = c.PgConn().CopyTo(ctx, &out, "copy berths to stdout")
	require.NoError(t, err)
	assert.Equal(t, 5000, strings.Count(out.String(), "\n"))

	_, err = listener.Exec(ctx, "listen tide")
	require.NoError(t, err)
	_, err = c.Exec(ctx, "notify tide, 'high'")
	require.NoError(t, err)
	note, err := listener.WaitForNotification(ctx)
	require.NoError(t, err)
	assert.Equal(t, "high", note.Payload)
}

func TestPsql(t *testing.T) {
	l := newLarder(t, ports, somePorts)
	l.keep("select name from ports where id = 7")
	script := `select name from ports where id = 7;
select name from ports where id = 7;
select name from ports where id = 7;
\d ports
begin;
update ports set name = 'Skerrow' where id = 7;
select name from ports where id = 7;
savepoint a;
select 1/0;
rollback to a;
commit;
select name from ports where id = 7;
update ports set name = 'port 7' where id = 7;
\copy (select * from ports where id < 3) to stdout
do $$ begin raise notice 'a notice'; end $$;
declare c cursor for select 1;
select * from missing;
`
	run := func(url string) string {
		cmd := exec.Command(server.Program("psql"), "-X", "-a", url)
		cmd.Stdin = strings.NewReader(script)
		cmd.Env = append(os.Environ(), "PGCONNECT_TIMEOUT=10")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	want := run(l.direct)
	for range 2 {
		assert.Equal(t, want, run(l.through))
	}
	assert.GreaterOrEqual(t, l.engine.Ledger.Total.Total().Count[ledger.Hit], uint64(2))
}

func TestPgbenchInItsThreeModes(t *testing.T) {
	l := newLarder(t)
	l.keep("SELECT abalance FROM pgbench_accounts WHERE aid = 1")
	run := func(args ...string) string {
		out, err := exec.Command(server.Program("pgbench"), append(args, "-d", l.through)...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	run("-i", "-s", "1", "-q")
	for _, mode := range []string{"simple", "extended", "prepared"} {
		for _, script := range []string{"tpcb-like", "select-only"} {
			out := run("-M", mode, "-b", script, "-c", "3", "-t", "60", "-n")
			assert.Regexp(t, regexp.MustCompile(`number of transactions actually processed: 180/180`), out)
			assert.NotContains(t, out, "failed transactions: 1")
		}
	}
	script := filepath.Join(t.TempDir(), "read.sql")
	require.NoError(t, os.WriteFile(script, []byte("select abalance from pgbench_accounts where aid = 1;\n\\set id 2\nselect abalance from pgbench_accounts where aid = :id;\n"), 0o600))
	l.keep("select abalance from pgbench_accounts where aid = 1")
	for _, mode := range []string{"simple", "extended", "prepared"} {
		l.know()
		before := l.engine.Ledger.Total.Total().Count[ledger.Hit]
		assert.Contains(t, run("-M", mode, "-f", script, "-c", "2", "-t", "50", "-n"), "actually processed: 100/100")
		assert.Greater(t, l.engine.Ledger.Total.Total().Count[ledger.Hit], before+100, mode)
	}
	direct := connect(t, l.direct, pgx.QueryExecModeExec)
	assert.Equal(t, one(t, direct, "select sum(abalance) from pgbench_accounts"), one(t, direct, "select sum(delta) from pgbench_history"))
}

func TestAnOriginThatIsNotThere(t *testing.T) {
	l := &larder{t: t}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	free.Close()
	l.serve(free.Addr().String())
	for range 2 { // and the larder stays up
		_, err := pgx.Connect(ctx, "postgres://ines@"+l.address+"/x?sslmode=disable")
		var pe *pgconn.PgError
		require.ErrorAs(t, err, &pe)
		assert.Equal(t, "08006", pe.Code)
		assert.Contains(t, pe.Message, free.Addr().String())
		assert.Contains(t, pe.Hint, "--origin")
	}
}

// A client that sends what is no message ends its own connection and no other.
func TestGarbage(t *testing.T) {
	l := newLarder(t)
	other := connect(t, l.through, pgx.QueryExecModeExec)
	for name, bytes := range map[string][]byte{
		"http":      []byte("GET / HTTP/1.1\r\n\r\n"),
		"huge":      {0x7f, 0xff, 0xff, 0xff, 0, 3, 0, 0},
		"short":     {0, 0, 0, 4, 0, 3, 0, 0},
		"protocol2": {0, 0, 0, 8, 0, 2, 0, 0},
		"cut":       {0, 0, 0, 40, 0, 3, 0, 0, 'u'},
	} {
		c, err := net.Dial("tcp", l.address)
		require.NoError(t, err)
		_, err = c.Write(bytes)
		require.NoError(t, err)
		if name == "cut" {
			c.Close()
			continue
		}
		require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
		answer, err := io.ReadAll(c)
		require.NoError(t, err, name)
		if name == "protocol2" {
			assert.Contains(t, string(answer), "unsupported frontend protocol 2.0", "the server's own words")
		} else {
			assert.Contains(t, string(answer), "08P01", name)
		}
		c.Close()
	}
	broken := connect(t, l.through, pgx.QueryExecModeExec)
	raw := broken.PgConn().Conn()
	_, err := raw.Write([]byte{'Q', 0, 0, 0, 0, 1, 2, 3})
	require.NoError(t, err)
	require.NoError(t, raw.SetReadDeadline(time.Now().Add(time.Minute)))
	_, err = io.ReadAll(raw)
	require.NoError(t, err, "the connection is ended")
	assert.Equal(t, "1", one(t, other, "select 1"))
}

func TestLargeThings(t *testing.T) {
	l := newLarder(t, "create table big (id int primary key, b text)")
	l.keep("select b from big where id = $1", "select repeat('x', $1)")
	c := connect(t, l.through, pgx.QueryExecModeExec)
	long := strings.Repeat("skerrow ", 1<<18) // 2 MiB: longer than what is looked at whole, and than what is kept
	_, err := c.Exec(ctx, "insert into big values (1, $1)", long)
	require.NoError(t, err)
	_, err = c.Exec(ctx, "insert into big values (2, '"+long+"')")
	require.NoError(t, err)
	l.know() // after a statement too long to be read, everything is to be known anew
	for id := 1; id <= 2; id++ {
		for range 2 {
			assert.Equal(t, long, one(t, c, "select b from big where id = $1", id))
		}
	}
	outcome, _ := l.became("select b from big where id = $1", 4)
	assert.Equal(t, ledger.Miss, outcome, "too large to be kept")
	_, bytes, _ := l.engine.Cached()
	assert.Less(t, bytes-l.engine.Beside(), int64(1<<20), "of results alone")
	small := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err = small.Exec(ctx, "update big set b = 'small' where id = 1")
	require.NoError(t, err)
	assert.Equal(t, "small", one(t, c, "select b from big where id = $1", 1))
}

func TestPythonDriver(t *testing.T) {
	const python = "/usr/bin/python3" // where the distribution's packages are
	if exec.Command(python, "-c", "import psycopg2").Run() != nil {
		require.NotEqual(t, "true", os.Getenv("CI"), "psycopg2 is not installed; scripts/install-test-tools gets it")
		t.Skip("psycopg2 is not installed")
	}
	l := newLarder(t, ports, somePorts)
	script := filepath.Join(t.TempDir(), "s.py")
	require.NoError(t, os.WriteFile(script, []byte(`
import sys, psycopg2
c = psycopg2.connect(sys.argv[1]); c.autocommit = True
k = c.cursor()
for i in range(3):
    k.execute("select name from ports where id = %s", (3,)); assert k.fetchone()[0] == "port 3"
k.execute("update ports set name = %s where id = 3", ("o'er",))
k.execute("select name from ports where id = %s", (3,)); assert k.fetchone()[0] == "o'er"
`), 0o600))
	l.keep("select name from ports where id = 3")
	out, err := exec.Command(python, script, l.through).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.GreaterOrEqual(t, l.engine.Ledger.Total.Total().Count[ledger.Hit], uint64(2))
}
