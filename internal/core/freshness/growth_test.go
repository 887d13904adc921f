package freshness

import (
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// While rows are read and written from all sides, and counters grow under them, what is valid in the end is what the rows
// hold in the end.
func TestCountersGrowAmidChanges(t *testing.T) {
	defer func(n int) { FewestCounters = n }(FewestCounters)
	FewestCounters = 1
	const rows = 3000
	for seed := range 20 {
		c := New()
		table := c.Table("a")
		key := table.Key([]string{"id"}, true)
		var values [rows]atomic.Int64
		type kept struct {
			row   int
			value int64
			stamp Stamp
		}
		var all [4][]kept
		var wg sync.WaitGroup
		for w := range all {
			wg.Go(func() {
				r := rand.New(rand.NewPCG(uint64(seed), uint64(w)))
				for i := range 4000 {
					row := r.IntN(1 + i*rows/4000) // more and more of them, some all the time
					if r.IntN(3) == 0 {
						var change Change
						change.AddPart(Part{Clock: table, Values: []Values{{"id", []uint64{hashOf(row)}}}})
						p := change.Begin()
						values[row].Add(1)
						p.End()
						continue
					}
					s := c.Dependencies([]string{"a"}).Take(Pinned{Table: table, Key: key, Hashes: []uint64{hashOf(row)}, Single: true})
					v := values[row].Load()
					if s.Found(); s.Storable() {
						all[w] = append(all[w], kept{row, v, s})
					}
				}
			})
		}
		wg.Wait()
		assert.Greater(t, len(*key.cells.Load()), 3, "counters grew")
		valid := 0
		for _, list := range all {
			for i := range list {
				if k := &list[i]; k.stamp.Valid() {
					valid++
					if now := values[k.row].Load(); now != k.value {
						t.Fatalf("seed %d: row %d is kept as %d, and is %d", seed, k.row, k.value, now)
					}
				}
			}
		}
		assert.Positive(t, valid)
	}
}
