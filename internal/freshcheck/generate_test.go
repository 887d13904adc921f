package freshcheck

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is asked of whatever tables, nobody is answered with what the database would not have answered.
func TestNobodyIsAnsweredOldWhateverIsAsked(t *testing.T) {
	for name, before := range map[string]func(*testing.T) *Checker{"PostgreSQL": checker, "MariaDB": mariaChecker} {
		t.Run(name, func(t *testing.T) {
			c := before(t)
			c.Generated, c.Steps = true, 500
			judges(t, c, 1000, 1000)
		})
	}
}

// MariaDB takes the schema of each feature, and what is asked of it and written to it.
func TestEachFeatureIsOfMariaDB(t *testing.T) {
	c := mariaChecker(t)
	c.Generated = true
	for _, f := range mariaFeatures {
		w := newMariaGenerated(rand.New(rand.NewPCG(1, 1)), f.name)
		require.NoError(t, c.accepted(w), f.name)
		for _, sql := range slices.Concat(f.reads, f.writes) {
			later := strings.Contains(sql, " wd") || strings.Contains(sql, "v9") || strings.Contains(sql, "d9") // of what is made by other writes
			assert.True(t, later || slices.Contains(w.reads, sql) || slices.Contains(w.writes, sql), "%s: %s", f.name, sql)
		}
		if f.reads == nil {
			assert.Greater(t, len(w.reads), generatedReads/2, "%s: random queries that are refused", f.name)
		}
	}
}
