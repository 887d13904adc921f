package freshcheck

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// both runs a test with the pairs for each kind of database.
func both(t *testing.T, test func(*testing.T, *Checker, pairs)) {
	for name, before := range map[string]func(*testing.T) *Checker{"PostgreSQL": checker, "MariaDB": mariaChecker} {
		t.Run(name, func(t *testing.T) {
			c := before(t)
			p, err := readPairs(c.kind())
			require.NoError(t, err)
			test(t, c, p)
		})
	}
}

// The results of all queries of the pairs are cached, but for those that are said not to be: a change that meets none would
// find nothing.
func TestWhatThePairsCache(t *testing.T) {
	both(t, func(t *testing.T, c *Checker, p pairs) {
		name, drop, err := c.fresh(&world{schema: p.schema})
		require.NoError(t, err)
		defer drop()
		x, err := newRun(c.kind(), c.Address, name, false)
		require.NoError(t, err)
		defer x.close()
		x.generated = true
		for _, sql := range p.reads {
			asked := x.local(sql)
			require.False(t, strings.HasPrefix(x.observer.ask(asked, 0), refused), sql)
			before := x.counts.Hits
			for range 3 {
				require.NoError(t, x.step(step{kind: read, sql: asked}))
			}
			assert.Equal(t, !slices.Contains(p.uncached, sql), x.counts.Hits > before, sql)
		}
	})
}

// Some changes, one after the other, leave no old answer to any of the queries.
func TestChangesMeetQueries(t *testing.T) {
	both(t, func(t *testing.T, c *Checker, p pairs) {
		var sum Counts
		for seed := range uint64(6) {
			m := p.random(seed, 2)
			counts, found, err := c.meet(p, m, seed)
			require.NoError(t, err, "%v", m)
			require.Nil(t, found, "%v: %v", m, found)
			sum.add(counts)
		}
		t.Logf("%+v", sum)
		assert.Greater(t, sum.Hits, 2000)
	})
}
