package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/explain"
	"jollylarder/internal/standin"
	wire "jollylarder/internal/wire/postgres"
)

// Every statement of the demo is explained, without a database and with the stand-in, which does not say what is behind
// a view.
func TestEveryStatementIsExplained(t *testing.T) {
	o, err := standin.New(standin.Options{Database: Database})
	require.NoError(t, err)
	defer o.Close()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = o.Serve(ln) }()
	defer ln.Close()
	ctx := context.Background()
	c, err := pgconn.Connect(ctx, "postgres://ines@"+ln.Addr().String()+"/"+Database+"?sslmode=disable")
	require.NoError(t, err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx, postgres{}.schema()).ReadAll()
	require.NoError(t, err)
	described, path, err := wire.Describe(ctx, c)
	require.NoError(t, err)
	db := &explain.Database{Schema: described.Schema(), Path: path}

	for sql, want := range map[string]struct {
		reads, writes string
		cacheable     bool
		label         string
	}{
		sqlDepartures: {"public.routes public.sailings public.vessels", "", true, "departures"},
		sqlNotices:    {"public.notices", "", true, "notices"}, sqlTide: {"public.tide_readings", "", true, "tides"},
		sqlRoutes: {"public.ports public.routes", "", true, ""}, sqlSailings: {"public.sailings public.vessels", "", true, ""},
		sqlFares: {"public.fares", "", true, ""}, sqlOpen: {"public.open_sailings", "", false, ""},
		sqlMine: {"public.bookings public.sailings", "", true, ""}, sqlBook: {"", "public.bookings", false, ""},
		sqlSeats: {"public.sailings", "public.sailings", false, ""}, sqlPerson: {"public.passengers", "", true, "login"},
		sqlManifest: {"public.bookings public.passengers", "", true, "manifest"}, sqlTideWrite: {"", "public.tide_readings", false, ""},
		sqlOccupancy: {"public.bookings public.routes public.sailings", "", true, ""},
	} {
		sql = string(bytes.ReplaceAll([]byte(sql), []byte("%d"), []byte("1")))
		x := explain.Statement(sql, dialect.Dialect, db)
		assert.Equal(t, dialect.Dialect.Syntax.Of(sql), x.Pattern)
		assert.Equal(t, want.reads, joined(x.Reads), sql)
		assert.Equal(t, want.writes, joined(x.Writes), sql)
		assert.Equal(t, want.cacheable, *x.Cacheable, "%s: %v", sql, x.Reasons)
		assert.Equal(t, want.label, x.Labels["screen"]+x.Labels["page"], sql)

		x = explain.Statement(sql, dialect.Dialect, nil)
		if want.cacheable || sql == sqlOpen {
			assert.Nil(t, x.Cacheable, "nobody can say without asking: %s", sql)
			assert.Contains(t, x.Reasons[0], "not known without a database: whether")
		} else {
			assert.False(t, *x.Cacheable)
		}
		text, err := json.Marshal(x)
		require.NoError(t, err)
		var fields map[string]any
		require.NoError(t, json.Unmarshal(text, &fields))
		for _, f := range []string{"pattern", "text", "reads", "writes", "by key", "cacheable", "reasons", "labels"} {
			assert.Contains(t, fields, f)
		}
		var people bytes.Buffer
		x.Print(&people)
		assert.Contains(t, people.String(), string(x.Pattern))
	}
}

func joined(list []explain.Table) (out string) {
	for _, t := range list {
		if out != "" {
			out += " "
		}
		out += t.Table
	}
	return out
}
