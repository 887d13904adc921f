package postgres_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/rules"
)

// The tables of pgbench's default script, its transaction, and reads of the rows that it writes, all of them kept: how many results are dropped for
// each that has changed.
func BenchmarkDropsForEachChange(b *testing.B) {
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeCacheStatement} {
		b.Run(mode.String(), func(b *testing.B) {
			l := newLarder(b,
				"create table pgbench_branches (bid int primary key, bbalance int, filler char(88))", "create table pgbench_tellers (tid int primary key, bid int, tbalance int, filler char(84))",
				"create table pgbench_accounts (aid int primary key, bid int, abalance int, filler char(84))", "create table pgbench_history (tid int, bid int, aid int, delta int, mtime timestamp, filler char(22))",
				"insert into pgbench_branches select g, 0 from generate_series(1, 10) g", "insert into pgbench_tellers select g, (g - 1) / 10 + 1, 0 from generate_series(1, 100) g",
				"insert into pgbench_accounts select g, (g - 1) / 10000 + 1, 0 from generate_series(1, 100000) g")
			l.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
			c := connect(b, l.through, mode)
			r := rand.New(rand.NewPCG(1, 2))
			run := func(sql string, args ...any) {
				_, err := c.Exec(ctx, sql, args...)
				require.NoError(b, err, sql)
			}
			kept := map[string]bool{}
			read := func(sql string, id int) {
				run(sql, id)
				kept[fmt.Sprint(sql, id)] = true
			}
			changed := 0
			wrote := func(sql string, id int) {
				if key := fmt.Sprint(sql, id); kept[key] {
					changed++
					delete(kept, key)
				}
			}
			const accounts, tellers, branches, history = "SELECT abalance FROM pgbench_accounts WHERE aid = $1", "SELECT tbalance FROM pgbench_tellers WHERE tid = $1",
				"SELECT bbalance FROM pgbench_branches WHERE bid = $1", "SELECT sum(delta) FROM pgbench_history WHERE aid = $1"
			before := l.engine.Ledger.Drops.Load()
			n := 0
			for b.Loop() {
				for range 10 {
					read(accounts, 1+r.IntN(3000))
					read(tellers, 1+r.IntN(100))
					read(branches, 1+r.IntN(10))
					read(history, 1+r.IntN(3000))
				}
				aid, tid, delta := 1+r.IntN(3000), 1+r.IntN(100), 1+r.IntN(5000)
				bid := (tid-1)/10 + 1
				run("BEGIN")
				run("UPDATE pgbench_accounts SET abalance = abalance + $1 WHERE aid = $2", delta, aid)
				run(accounts, aid)
				run("UPDATE pgbench_tellers SET tbalance = tbalance + $1 WHERE tid = $2", delta, tid)
				run("UPDATE pgbench_branches SET bbalance = bbalance + $1 WHERE bid = $2", delta, bid)
				run("INSERT INTO pgbench_history (tid, bid, aid, delta, mtime) VALUES ($1, $2, $3, $4, CURRENT_TIMESTAMP)", tid, bid, aid, delta)
				run("END")
				wrote(accounts, aid)
				wrote(tellers, tid)
				wrote(branches, bid)
				wrote(history, aid)
				n++
			}
			time.Sleep(50 * time.Millisecond)
			dropped := l.engine.Ledger.Drops.Load() - before
			b.ReportMetric(float64(dropped)/float64(n), "dropped/write")
			b.ReportMetric(float64(changed)/float64(n), "changed/write")
			b.ReportMetric(float64(dropped)/float64(max(changed, 1)), "dropped/changed")
		})
	}
}
