//go:build safeguards

package freshness

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Each safeguard is needed: without it the same check finds an old answer.
func TestEverySafeguardIsNeeded(t *testing.T) {
	defer func(n int) { FewestCounters = n }(FewestCounters)
	for name, s := range map[string]Safeguard{
		"clock moved": ClockMoved, "pending at sending": PendingAtSending, "other columns": OtherColumns, "new keys wait": NewKeysWait, "unique found": UniqueFound, "assigned": Assigned,
		"earlier cells": EarlierCells,
	} {
		back := SwitchOff(s)
		found := false
		for seed := 0; seed < 40000 && !found; seed++ {
			found = violates(seed)
		}
		back()
		assert.True(t, found, "%s may be left out unnoticed", name)
	}
}

// violates runs one history from a seed and says whether it broke the contract.
func violates(seed int) (broken bool) {
	gen := rapid.Custom(func(t *rapid.T) bool {
		w := newWorld()
		for range 200 {
			if w.step(t) != nil {
				return true
			}
		}
		return false
	})
	return gen.Example(seed)
}
