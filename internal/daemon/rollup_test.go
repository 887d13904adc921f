package daemon

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/state"
)

// Each minute takes down what was called, how long that took, and what was written; a minute in which a pattern rests
// does not lose track of how long its calls take.
func TestWhatAMinuteTakesDown(t *testing.T) {
	l := start(t, before(standIn(t), "127.0.0.1:0", "", ""))
	c := connected(t, l.Address())
	from := time.Now().Truncate(minute).Add(-20 * minute)
	r := &rollups{l: l}
	r.tick(from)
	calls := func(id string) (n uint64) {
		l.engine.Patterns(func(p *engine.Pattern) {
			if string(p.ID) == id {
				n = p.Numbers.Calls()
			}
		})
		return n
	}
	read := func(times int) {
		for range times {
			var name string
			require.NoError(t, c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
		}
	}
	read(5)
	id := ""
	require.Eventually(t, func() bool {
		l.engine.Patterns(func(p *engine.Pattern) {
			if strings.HasPrefix(p.Text, "select name from ports") {
				id = string(p.ID)
			}
		})
		return calls(id) == 5
	}, time.Minute, 5*time.Millisecond)
	of := func(m int) state.Rollup {
		at := from.Add(time.Duration(m) * minute)
		return l.state.Sum(state.Pattern, id, at, at.Add(minute))
	}
	r.tick(from.Add(minute))
	assert.Equal(t, uint64(5), of(0).Calls())
	assert.Positive(t, of(0).P50)
	assert.GreaterOrEqual(t, of(0).P99, of(0).P50)

	r.tick(from.Add(2 * minute)) // it rests
	assert.Zero(t, of(1).Calls())
	assert.Zero(t, of(1).P50)
	read(2)
	_, err := c.Exec(ctx, "update ports set name = name where id = 1")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return calls(id) == 7 && len(l.engine.Tables()) > 0 }, time.Minute, 5*time.Millisecond)
	r.tick(from.Add(3 * minute))
	assert.Equal(t, uint64(2), of(2).Calls())
	assert.Positive(t, of(2).P50)
	table := l.state.Totals(state.Table, from, from.Add(3*minute), minute)
	require.NotEmpty(t, table)
	var writes uint64
	for _, x := range table {
		writes += x.Count[ledger.Write]
	}
	assert.Positive(t, writes)
}
