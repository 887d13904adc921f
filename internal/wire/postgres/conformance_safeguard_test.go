//go:build safeguards

package postgres_test

import (
	"flag"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/protocoltest"
)

// The kit is worth something only if it finds an old answer: without a safeguard its scripts find one.
func TestConformanceWithoutASafeguard(t *testing.T) {
	require.NoError(t, flag.Set("rapid.shrinktime", "100ms")) // that it is found is enough
	for name, off := range map[string]freshness.Safeguard{
		"clock moved": freshness.ClockMoved, "own writes": freshness.OwnWrites, "isolation": freshness.Isolation,
		"unknown effects": freshness.UnknownEffects, "other columns": freshness.OtherColumns,
	} {
		t.Run(name, func(t *testing.T) {
			s := conformance(t)
			defer freshness.SwitchOff(off)()
			err := protocoltest.Scripts(t, s, 1000)
			require.Error(t, err)
			assert.Contains(t, err.Error(), "other bytes than the database's")
		})
	}
}
