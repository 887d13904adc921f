//go:build safeguards

package freshcheck

import (
	"testing"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
)

// Each row: a cause of old answers that there once was, and what random worlds are about in which it is put back. They find one.
var causes = map[string]struct {
	off   freshness.Safeguard
	focus []string
}{
	"whole rows by a name":                  {freshness.WholeRows, []string{"whole rows"}},
	"columns that are another query's":      {freshness.NamesInScope, []string{"shadows"}},
	"when a statement was prepared":         {freshness.ParsedUnder, []string{"moments"}},
	"the server's own triggers":             {freshness.ServersTriggers, []string{"servers triggers"}},
	"rows that move to another part":        {freshness.MovedRows, []string{"parts"}},
	"reads while the catalog is not known":  {freshness.BlindReads, []string{"blind"}},
	"checks of types":                       {freshness.TypeChecks, []string{"type checks"}},
	"texts that mean the time in functions": {freshness.NowInBodies, []string{"now"}},
	"roles that are renamed":                {freshness.RolesByNumber | freshness.SchemasAnew, []string{"renamed roles"}},
	"columns that are compared otherwise":   {freshness.ViaAlike, []string{"collations"}},
	"parameters of another type":            {freshness.MixedTypes, []string{"mixed types"}},
	"what no rollback undoes":               {freshness.Unrollable, []string{"far away"}},
	"system columns":                        {freshness.SystemColumns, []string{"system columns"}},
	"names like the system's":               {freshness.SystemByNumber, []string{"system names"}},
}

// mostWorlds bounds the random worlds in which a cause must be found.
const mostWorlds = 40

// The generator finds each cause again when it is put back.
func TestEachCauseIsFoundAgain(t *testing.T) {
	for name, x := range causes {
		t.Run(name, func(t *testing.T) {
			c := checker(t)
			c.Generated, c.Focus, c.Steps, c.Shrink = true, x.focus, 400, 1
			defer freshness.SwitchOff(x.off)()
			var sum Counts
			for seed := range uint64(mostWorlds) {
				counts, found, err := c.Seed(5000 + seed)
				require.NoError(t, err)
				sum.add(counts)
				if found != nil {
					t.Logf("found in world %d, after %d answers: %v", seed+1, sum.Hits, found.What)
					return
				}
			}
			t.Errorf("it is not found in %d worlds and %d answers", mostWorlds, sum.Hits)
		})
	}
}
