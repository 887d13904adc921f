package freshcheck

import (
	"context"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/catalog"
)

// What a query's text is found to read holds all tables that MariaDB says it reads.
func TestMariaDBKnowsOfNoOtherTable(t *testing.T) {
	c := mariaChecker(t)
	asked, refused := 0, 0
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 3))
		w := newMariaGenerated(r)
		name, drop, err := c.fresh(w)
		require.NoError(t, err)
		o, err := NewMariaOracle(context.Background(), c.Address, name)
		require.NoError(t, err)
		var next int64
		for _, sql := range w.reads {
			sql = MariaDB.local(fill(sql, r, &next), c.Address, name)
			missing, ok := o.Missing(sql)
			if !ok {
				refused++
				continue
			}
			asked++
			assert.Empty(t, missing, sql)
		}
		missing, ok := o.missing("select x.id from t0 x join t1 on t1.id = x.id where exists (select 1 from t2)", &catalog.Resolved{Reads: []string{name + ".t0"}})
		if ok { // in some worlds t2 is elsewhere
			assert.Equal(t, []string{name + ".t1", name + ".t2"}, missing, "the oracle overlooks nothing itself")
		}
		o.Close()
		drop()
	}
	t.Logf("%d queries; the server refused %d", asked, refused)
	assert.Greater(t, asked, 1000)
}
