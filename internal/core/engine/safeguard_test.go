//go:build safeguards

package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
)

// Without the safeguard, what a feed may have left out is answered as it was.
func TestTheSafeguardForGapsIsNeeded(t *testing.T) {
	for off, hit := range map[freshness.Safeguard]bool{0: false, freshness.FeedGaps: true} {
		back := freshness.SwitchOff(off)
		e, s := begin(t, Options{})
		keep(e, s, read)
		ask(s, read, now)
		require.Equal(t, ledger.Hit, ask(s, read, now))
		e.Feed("", "skerrow").Lost(now)
		assert.Equal(t, hit, ask(s, read, now) == ledger.Hit)
		back()
	}
}
