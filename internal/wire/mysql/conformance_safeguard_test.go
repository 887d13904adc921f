//go:build safeguards

package mysql_test

import (
	"flag"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/protocoltest"
)

// The kit is worth something only if it finds an old answer: without a safeguard it finds one.
func TestConformanceWithoutASafeguard(t *testing.T) {
	require.NoError(t, flag.Set("rapid.shrinktime", "100ms")) // that it is found is enough
	for _, x := range []struct {
		name   string
		off    freshness.Safeguard
		others []string // where only some of them show it
	}{
		{"clock moved", freshness.ClockMoved, nil}, {"own writes", freshness.OwnWrites, nil}, {"isolation", freshness.Isolation, nil},
		{"unknown effects", freshness.UnknownEffects, nil},
		{"settings", freshness.SettingsInKey, []string{"set names latin1", "set names utf8mb4"}},
		{"engines that do not roll back", freshness.AtOnce, nil},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := conformance(t, 0)
			if x.off == freshness.AtOnce {
				withoutTransactions(s)
			}
			if x.others != nil {
				s.SQL.Others = x.others
			}
			defer freshness.SwitchOff(x.off)()
			err := protocoltest.Scripts(t, s, 1000)
			require.Error(t, err)
			assert.Contains(t, err.Error(), "other bytes than the database's")
		})
	}
	t.Run("hidden effects", func(t *testing.T) {
		defer freshness.SwitchOff(freshness.Hidden)()
		err := hiddenEffects(newAnswering(t), func() {}, "begin")
		require.Error(t, err)
		assert.Contains(t, err.Error(), "directly:")
	})
	t.Run("values that are stored as others", func(t *testing.T) {
		defer freshness.SwitchOff(freshness.StoredAsGiven)()
		err := storedAsOthers(newAnswering(t))
		require.Error(t, err)
		assert.Contains(t, err.Error(), "directly:")
	})
	t.Run("rows by other columns", func(t *testing.T) {
		defer freshness.SwitchOff(freshness.OtherColumns)()
		err := rowsAreIdentified(newAnswering(t), func() {})
		require.Error(t, err)
		assert.Contains(t, err.Error(), "directly:")
	})
	for name, off := range map[string]freshness.Safeguard{"text": freshness.TextInKey, "what is owed": freshness.RepaysLast} {
		t.Run(name, func(t *testing.T) {
			s := conformance(t, 0)
			defer freshness.SwitchOff(off)()
			err := protocoltest.Converse(t, s)
			require.Error(t, err)
			assert.Contains(t, err.Error(), "other bytes than the database's")
		})
	}
}
