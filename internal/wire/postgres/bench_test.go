package postgres_test

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// BenchmarkRoundTrip compares, in one run and with one client, a point select asked of the database directly, passed
// on by the larder, and answered from memory; the ratio of the first to each is reported as x-direct.
func BenchmarkRoundTrip(b *testing.B) {
	l := newLarder(b, berths, oneBerth)
	l.keep(readBerth)
	const passed = "select n from berths where id = 1 and n >= 0"
	var direct float64
	for _, c := range []struct{ name, url, sql string }{{"direct", l.direct, readBerth}, {"passed", l.through, passed}, {"hit", l.through, readBerth}} {
		b.Run(c.name, func(b *testing.B) {
			conn := connect(b, c.url, pgx.QueryExecModeSimpleProtocol).PgConn()
			b.ReportAllocs()
			for b.Loop() {
				r, err := conn.Exec(ctx, c.sql).ReadAll()
				require.NoError(b, err)
				require.Len(b, r[0].Rows, 1)
			}
			each := float64(b.Elapsed()) / float64(b.N)
			if c.name == "direct" {
				direct = each
			}
			b.ReportMetric(direct/each, "x-direct")
		})
	}
}
