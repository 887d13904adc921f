//go:build safeguards

package freshcheck

import (
	"testing"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
)

// cause is one of old answers, and what random worlds are about in which it is put back.
type cause struct {
	off   freshness.Safeguard
	focus []string
}

// causes are those that there once were before PostgreSQL.
var causes = map[string]cause{
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

// causesOfMaria are those that traps of MariaDB's would be.
var causesOfMaria = map[string]cause{
	"numbers written in another way":       {freshness.Notations, []string{"notations"}},
	"texts that are the same to a column":  {freshness.Folding, []string{"notations"}},
	"values that are stored as others":     {freshness.StoredAsGiven, []string{"changed values"}},
	"rows that are found by another key":   {freshness.SoleKeys, []string{"two keys"}},
	"triggers that change what is written": {freshness.BeforeTriggers, []string{"changed values"}},
	"references that cascade":              {freshness.Cascades, []string{"deep cascades"}},
	"tables that do not roll back":         {freshness.AtOnce, []string{"blocks"}},
	"commits on the way":                   {freshness.ImplicitCommits, []string{"blocks"}},
	"snapshots":                            {freshness.Isolation, []string{"blocks"}},
	"tables of a session's own":            {freshness.TemporaryTables, []string{"temporary"}},
	"settings":                             {freshness.SettingsInKey, []string{"settings"}},
	"triggers":                             {freshness.Hidden, []string{"swapped"}},
	"procedures that define":               {freshness.DefiningBodies, []string{"swapped"}},
}

// mostWorlds bounds the random worlds in which a cause must be found.
const mostWorlds = 40

// The generator finds each cause again when it is put back.
func TestEachCauseIsFoundAgain(t *testing.T) { eachIsFound(t, checker, causes) }

// It does before MariaDB as well.
func TestEachCauseIsFoundBeforeMariaDB(t *testing.T) { eachIsFound(t, mariaChecker, causesOfMaria) }

func eachIsFound(t *testing.T, before func(*testing.T) *Checker, causes map[string]cause) {
	for name, x := range causes {
		t.Run(name, func(t *testing.T) {
			c := before(t)
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
