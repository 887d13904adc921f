package mysql_test

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"jollylarder/internal/core/rules"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever settles what a transaction sees, and whatever others write meanwhile, its reads give what the server would have
// given: of one moment in REPEATABLE READ.
func TestWhatTransactionsSee(t *testing.T) {
	a := newAnswering(t)
	pair := func(address string) (two [2]*conversing) {
		for i := range two {
			c, err := net.Dial("tcp", address)
			require.NoError(t, err)
			t.Cleanup(func() { c.Close() })
			two[i], err = enters(c, "skerrow", 0)
			require.NoError(t, err)
		}
		return two
	}
	sides := [2][2]*conversing{pair(server.Address()), pair(a.address)}
	tables := [2]string{"direct", "served"}
	ask := func(side, client int, sql string) string {
		heard, err := sides[side][client].Ask(strings.ReplaceAll(sql, "gauges", tables[side]))
		require.NoError(t, err, sql)
		return strings.ReplaceAll(heard, tables[side], "gauges")
	}
	for side := range sides {
		for _, q := range []string{"drop table if exists gauges", "create table gauges (id int primary key, level int)", "insert into gauges values (1, 0), (2, 0)"} {
			ask(side, 0, q)
		}
	}
	known := func() bool { ask(1, 1, "select level from gauges where id = 1"); return true }
	for before, end := a.hits(), time.Now().Add(time.Minute); known() && a.hits() == before && time.Now().Before(end); {
	}
	within := rapid.SampledFrom([]string{
		"select 1", "select level from gauges where id = 1", "select level from gauges where id = 2", "select count(*) from gauges", "select level from gauges where 1 = 0", "select max(level) from gauges", "select level from gauges where id = 1", "select level from gauges where id = 1",
		"select level from gauges where id = 2", "select level from gauges where id = 2", "select level from gauges where id = 1 lock in share mode", "select g.level, h.level from gauges g, gauges h where g.id = 1 and h.id = 2",
		"select level from gauges where id = 1 for update", "select g.level from gauges g left join gauges h on h.id = g.id and h.id = 3 where g.id = 1", "(select level from gauges where id = 1) union (select level from gauges where id = 2)",
	})
	begins := rapid.SampledFrom([]string{"begin", "begin", "begin", "start transaction with consistent snapshot", "set autocommit = 0", "start transaction read only"})
	before, value := a.hits(), 0
	rapid.Check(t, func(t *rapid.T) {
		var script []string
		both := func(client int, sql string) {
			script = append(script, fmt.Sprintf("%d: %s", client, sql))
			if want, got := ask(0, client, sql), ask(1, client, sql); want != got {
				t.Fatalf("directly:\n%s\nthrough:\n%s\nafter\n%s", want, got, strings.Join(script, "\n"))
			}
		}
		defer func() {
			for side := range sides {
				for _, q := range []string{"rollback", "set autocommit = 1"} {
					ask(side, 0, q)
				}
			}
		}()
		if rapid.Bool().Draw(t, "settings are not known") {
			both(0, "set default_week_format = 0 + 0") // which is no literal
		}
		both(0, begins.Draw(t, "begins"))
		locks := false
		for range rapid.IntRange(0, 2).Draw(t, "of nothing") {
			both(0, rapid.SampledFrom([]string{"select 1", "select level from gauges where 1 = 0"}).Draw(t, "nothing"))
		}
		for range rapid.IntRange(2, 16).Draw(t, "steps") {
			switch rapid.IntRange(0, 3).Draw(t, "who") {
			case 0, 1:
				sql := within.Draw(t, "within")
				locks = locks || strings.Contains(sql, "update") || strings.Contains(sql, "share")
				both(0, sql)
			case 2:
				if !locks { // or else the other would wait
					value++
					both(1, fmt.Sprintf("update gauges set level = %d where id = %d", value, rapid.IntRange(1, 2).Draw(t, "row")))
				}
			}
			for row := 1; row <= 2; row++ { // which is kept then
				both(1, fmt.Sprintf("select level from gauges where id = %d", row))
			}
		}
	})
	require.Greater(t, a.hits()-before, uint64(100))
}

// A rule may have transactions that see one moment answered with what is committed by now: also their first read, and
// those of a driver that begins a transaction with every read.
func TestTransactionsAnsweredAsReadCommitted(t *testing.T) {
	a := newAnswering(t)
	x, other := a.enters(), a.enters()
	for _, q := range []string{"create table if not exists tides (id int primary key, level int)", "replace into tides values (1, 0), (2, 0)"} {
		a.ask(other, q)
	}
	defer a.ask(other, "drop table tides")
	const one = "select level from tides where id = 1"
	cached := func() {
		require.Eventually(t, func() bool { return a.outcome(other, one) == "hit" }, time.Minute, time.Millisecond)
	}
	cached()
	a.ask(x, "begin")
	assert.Equal(t, "miss", a.outcome(x, one), "without the rule the first read goes to the server")
	a.ask(x, "rollback")
	a.core.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: -1, ReadCommitted: true}}))
	cached()
	a.ask(x, "begin")
	assert.Equal(t, "hit", a.outcome(x, one))
	a.ask(other, "update tides set level = 7 where id = 1")
	cached()
	assert.Contains(t, a.ask(x, one), `\x017`, "what is committed by now")
	assert.Equal(t, "hit", a.outcome(x, one))
	a.ask(x, "select level from tides where id = 2 for update") // which the server answers, and by which its snapshot may be there
	a.ask(x, "select count(*) from tides where id = 2 and level = 99")
	a.ask(other, "update tides set level = 8 where id = 1")
	assert.NotEqual(t, "hit", a.outcome(x, one), "what the server's snapshot shows is not cached")
	assert.Contains(t, a.ask(other, one), `\x018`)
	a.ask(x, "update tides set level = 9 where id = 1")
	assert.Contains(t, a.ask(x, one), `\x019`, "a transaction sees what it has written")
	a.ask(x, "rollback")
	a.ask(x, "set autocommit = 0")
	require.Eventually(t, func() bool { a.ask(x, "commit"); return a.outcome(x, one) == "hit" }, time.Minute, time.Millisecond) // it has results of its own
	for range 3 {                                                                                                               // read, commit, as such drivers do
		assert.Equal(t, "hit", a.outcome(x, one))
		a.ask(x, "commit")
	}
	a.ask(x, "set transaction isolation level serializable")
	a.ask(x, "begin")
	assert.NotEqual(t, "hit", a.outcome(x, one))
	a.ask(x, "rollback")
}
