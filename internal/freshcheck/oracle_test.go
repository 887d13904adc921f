package freshcheck

import (
	"context"
	"math/rand/v2"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oracleOf gives the oracle of a generated world, and the reads that it is asked about.
func oracleOf(t *testing.T, c *Checker, seed uint64) (*Oracle, []string, func()) {
	r := rand.New(rand.NewPCG(seed, 3))
	w := newGenerated(r)
	name, drop, err := c.fresh(w)
	require.NoError(t, err)
	own, err := pgconn.Connect(context.Background(), postgresURL(c.Address, name))
	require.NoError(t, err)
	for _, sql := range w.maybe {
		simple(own, sql)
	}
	o, err := NewOracle(context.Background(), own)
	require.NoError(t, err)
	var next int64
	reads := make([]string, 0, len(w.reads))
	for _, sql := range w.reads {
		reads = append(reads, PostgreSQL.local(sharedParameter.ReplaceAllString(fill(sql, r, &next), "$1"), c.Address, name))
	}
	return o, reads, func() {
		own.Close(context.Background())
		drop()
	}
}

// What a query's text is found to depend on holds all that the server says it depends on.
func TestTheServerKnowsOfNoOtherDependency(t *testing.T) {
	c := checker(t)
	asked := 0
	for seed := range uint64(25) {
		o, reads, done := oracleOf(t, c, seed)
		for _, sql := range reads {
			missing, ok := o.Missing(sql)
			if ok {
				asked++
			}
			assert.Empty(t, missing, sql)
		}
		done()
	}
	t.Logf("%d queries", asked)
	assert.Greater(t, asked, 1000)
}
