//go:build safeguards

package freshcheck

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
)

// A cause that is put back is found by the change that it makes old answers of, though no query was written for it.
func TestPairsFindEachCause(t *testing.T) {
	causes := map[string]map[string]freshness.Safeguard{
		"postgresql": {
			"insert into bookings (sailing_id, who) values (1, 'zed')": freshness.Hidden, "update boats set seats = seats + 1 where id = 1": freshness.WholeRows,
			"do $$ begin execute 'upd'||'ate boats set seats = 2'; end $$": freshness.UnknownEffects, "set timezone='Asia/Tokyo'": freshness.SettingsInKey,
		},
		"mysql": {"delete from boats where id = 1": freshness.Cascades, "update bookings set who = upper(who)": freshness.Hidden, "create temporary table boats (id int, name varchar(40), seats int)": freshness.TemporaryTables,
			"set time_zone = '+09:00'": freshness.SettingsInKey},
	}
	both(t, func(t *testing.T, c *Checker, p pairs) {
		for name, off := range causes[c.kind().protocol().Name] {
			i := slices.IndexFunc(p.changes, func(c change) bool { return c.String() == name })
			require.GreaterOrEqual(t, i, 0, name)
			restore := freshness.SwitchOff(off)
			found := false
			for client := range pairClients {
				for seed := uint64(0); seed < 3 && !found; seed++ {
					_, v, err := c.meet(p, meeting{{client, p.changes[i]}}, seed)
					require.NoError(t, err)
					if found = v != nil; found {
						t.Logf("%s: %s", name, strings.ReplaceAll(v.What.Error(), "\n", " "))
					}
				}
			}
			restore()
			assert.True(t, found, name)
		}
	})
}
