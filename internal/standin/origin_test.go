package standin

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// start serves an empty database and gives its address as a URL.
func start(t *testing.T, opts Options) string {
	o, err := New(opts)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = o.Serve(l) }()
	t.Cleanup(func() {
		l.Close()
		assert.NoError(t, o.Close())
	})
	return "postgres://ines@" + l.Addr().String() + "/skerrow?sslmode=disable"
}

func connect(t *testing.T, url string, mode pgx.QueryExecMode) *pgx.Conn {
	cfg, err := pgx.ParseConfig(url)
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = mode
	c, err := pgx.ConnectConfig(context.Background(), cfg)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(context.Background()) })
	return c
}

const tables = `
create table ports (id integer primary key, name text not null, open boolean not null, fee numeric(8,2));
create table sailings (id integer primary key, port_id integer not null references ports(id) on delete cascade, departs_at timestamptz, day date);
create view open_ports as select id, name from ports where id >= 0`

func TestTypesInEveryMode(t *testing.T) {
	url := start(t, Options{})
	ctx := context.Background()
	setup := connect(t, url, pgx.QueryExecModeSimpleProtocol)
	_, err := setup.Exec(ctx, tables)
	require.NoError(t, err)
	when := time.Date(2027, 3, 1, 8, 30, 0, 0, time.UTC)
	for i, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec, pgx.QueryExecModeDescribeExec, pgx.QueryExecModeCacheDescribe, pgx.QueryExecModeCacheStatement} {
		c := connect(t, url, mode)
		tag, err := c.Exec(ctx, "insert into ports (id, name, open, fee) values ($1, $2, $3, $4)", i, "Skerrow", true, 12.5)
		require.NoError(t, err, mode.String())
		assert.Equal(t, "INSERT 0 1", tag.String())
		_, err = c.Exec(ctx, "insert into sailings (id, port_id, departs_at, day) values ($1, $2, $3, $4)", i, i, when, when)
		require.NoError(t, err)
		var (
			id    int32
			name  string
			open  bool
			fee   float64
			at    time.Time
			day   time.Time
			count int64
		)
		err = c.QueryRow(ctx, "select p.id, p.name, p.open, p.fee, s.departs_at, s.day, (select count(*) from open_ports) from ports p join sailings s on s.port_id = p.id where p.id = $1 and s.departs_at >= $2", i, when).
			Scan(&id, &name, &open, &fee, &at, &day, &count)
		require.NoError(t, err, mode.String())
		assert.Equal(t, int32(i), id)
		assert.Equal(t, "Skerrow", name)
		assert.True(t, open)
		assert.Equal(t, 12.5, fee)
		assert.True(t, when.Equal(at), at.String())
		assert.Equal(t, when.Truncate(24*time.Hour), day.UTC())
		assert.Equal(t, int64(i+1), count)
	}
}

func TestErrorsHaveCodes(t *testing.T) {
	url := start(t, Options{})
	c := connect(t, url, pgx.QueryExecModeExec)
	ctx := context.Background()
	_, err := c.Exec(ctx, "create table a (id integer primary key)")
	require.NoError(t, err)
	_, err = c.Exec(ctx, "insert into a values (1)")
	require.NoError(t, err)
	for sql, code := range map[string]string{
		"select * from nowhere": "42P01", "selct 1": "42601", "insert into a values (1)": "23505", "select b from a": "42703",
	} {
		_, err := c.Exec(ctx, sql)
		var pe *pgconn.PgError
		require.ErrorAs(t, err, &pe, sql)
		assert.Equal(t, code, pe.Code, sql)
	}
	_, err = pgx.Connect(ctx, url[:len(url)-len("skerrow?sslmode=disable")]+"elsewhere?sslmode=disable")
	assert.ErrorContains(t, err, "3D000")
}

func TestTransactions(t *testing.T) {
	url := start(t, Options{})
	ctx := context.Background()
	a, b := connect(t, url, pgx.QueryExecModeExec), connect(t, url, pgx.QueryExecModeExec)
	_, err := a.Exec(ctx, "create table a (id integer primary key)")
	require.NoError(t, err)
	count := func(c interface {
		QueryRow(context.Context, string, ...any) pgx.Row
	}) (n int) {
		require.NoError(t, c.QueryRow(ctx, "select count(*) from a").Scan(&n))
		return n
	}
	tx, err := a.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "insert into a values (1)")
	require.NoError(t, err)
	assert.Equal(t, 1, count(tx), "it reads its own write")
	assert.Equal(t, 0, count(b), "others do not")
	_, err = tx.Exec(ctx, "insert into a values (1)")
	require.Error(t, err)
	_, err = tx.Exec(ctx, "select 1")
	assert.ErrorContains(t, err, "25P02")
	require.NoError(t, tx.Rollback(ctx))
	assert.Equal(t, 0, count(a))
}

func TestCancel(t *testing.T) {
	url := start(t, Options{Delay: Delay{Distance: 30 * time.Second}})
	c := connect(t, url, pgx.QueryExecModeExec)
	ctx := context.Background()
	ended := make(chan struct{})
	go func() {
		for { // a request may come before its statement
			select {
			case <-ended:
				return
			case <-time.After(50 * time.Millisecond):
				_ = c.PgConn().CancelRequest(ctx)
			}
		}
	}()
	_, err := c.Exec(ctx, "select 1")
	close(ended)
	assert.ErrorContains(t, err, "57014")
}
