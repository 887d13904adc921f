package trial

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Each time is in a bucket that it fits, the buckets are in order, and none is lost.
func TestTimesAreCountedInBuckets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		times := rapid.SliceOfN(rapid.Float64Range(0.0001, 10_000), 0, 200).Draw(t, "times")
		slices.Sort(times)
		list := buckets(times)
		at, last := 0, 0.0
		for _, b := range list {
			assert.GreaterOrEqual(t, b.From, last)
			assert.Positive(t, b.Count)
			last = b.From
			for range b.Count {
				ms := max(times[at], 0.001)
				assert.GreaterOrEqual(t, ms, b.From*(1-1e-9))
				assert.LessOrEqual(t, ms, b.To*(1+1e-9))
				at++
			}
		}
		assert.Equal(t, len(times), at)
	})
}

// The differences of the rounds are in their order, and their mean is the difference that is told.
func TestEachRoundsDifferenceIsTold(t *testing.T) {
	rounds := func(means ...float64) (out []Figures) {
		for _, m := range means {
			out = append(out, Sum("x", []Slice{{Took: []float64{m, m}, Length: 1}}))
		}
		return out
	}
	d := difference(On, Off, rounds(1, 2, 3), rounds(4, 4, 4))
	assert.InDeltaSlice(t, []float64{-3, -2, -1}, d.Each, 1e-9)
	assert.InDelta(t, -2, d.Mean.Value, 1e-9)
}
