package engine

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Two keys are the same only if they are spelled out the same, and any is spelled out and shortened again, for as long as
// its beginning is remembered.
func TestKeysAreToldApartByTheirBeginnings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var x identities
		spelled := map[string]string{}
		for range rapid.IntRange(1, 300).Draw(t, "keys") {
			beginning := rapid.SliceOfN(rapid.Byte(), 1, 2).Draw(t, "beginning")
			rest := rapid.SliceOfN(rapid.Byte(), 0, 2).Draw(t, "rest")
			short := append(x.number(nil, beginning), rest...)
			whole := string(append(beginning, rest...))
			got, ok := x.spell(string(short))
			require.True(t, ok)
			require.Equal(t, whole, got)
			back, ok := x.short(whole, len(beginning))
			require.True(t, ok)
			require.Equal(t, short, back)
			if before, ok := spelled[string(short)]; ok {
				require.Equal(t, fmt.Sprint(beginning, rest), before)
			}
			spelled[string(short)] = fmt.Sprint(beginning, rest)
		}
	})
}

// A number is never given again: what a session of before keeps under it would be another's.
func TestANumberIsNeverGivenTwice(t *testing.T) {
	var x identities
	given := map[string]bool{}
	for i := range 2*mostIdentities + 10 {
		n := string(x.number(nil, fmt.Append(nil, i)))
		require.False(t, given[n])
		given[n] = true
	}
	assert.LessOrEqual(t, len(x.numbers), mostIdentities)
	first := string((&identities{}).number(nil, []byte("0")))
	_, ok := x.spell(first)
	assert.False(t, ok, "it is forgotten")
	_, ok = x.short("0", 1)
	assert.False(t, ok)
	assert.False(t, given[string(x.number(nil, []byte("0")))])
}
