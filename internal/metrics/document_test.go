package metrics

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The documents are what the program's own tables give. With WRITE_DOCS they are written anew.
func TestTheDocumentsHoldAlertsAndDashboard(t *testing.T) {
	for name, want := range map[string][]byte{"alerts.yml": Alerts(), "dashboard.json": Dashboard()} {
		path := filepath.Join("..", "..", "docs", name)
		if os.Getenv("WRITE_DOCS") != "" {
			require.NoError(t, os.WriteFile(path, want, 0o644))
		}
		have, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(have), "WRITE_DOCS=1 go test -run Document ./internal/metrics writes it")
	}
}

// Each expression names metrics that there are, by their labels, and panels do not lie on each other.
func TestExpressionsNameWhatThereIs(t *testing.T) {
	known := map[string]bool{}
	for _, name := range names {
		known[name] = true
	}
	name := regexp.MustCompile(`jollylarder_[a-z_]+`)
	suffix := regexp.MustCompile(`_(sum|count)$`)
	var all []string
	for _, a := range alerts {
		all = append(all, a.when.String())
		assert.NotEmpty(t, a.says, a.name)
		assert.Contains(t, []string{"page", "ticket"}, a.severity, a.name)
	}
	for _, p := range panels {
		for _, l := range p.lines {
			all = append(all, l.of.String())
		}
	}
	for _, expression := range all {
		assert.NotContains(t, expression, "%!", expression)
		found := name.FindAllString(expression, -1)
		assert.NotEmpty(t, found, expression)
		for _, n := range found {
			assert.True(t, known[n] || known[suffix.ReplaceAllString(n, "")], "%s in %s", n, expression)
		}
	}
	var board struct {
		Panels []struct {
			GridPos struct{ X, Y, W, H int }
		}
	}
	require.NoError(t, json.Unmarshal(Dashboard(), &board))
	taken := map[[2]int]bool{}
	for _, p := range board.Panels {
		at := [2]int{p.GridPos.X, p.GridPos.Y}
		assert.False(t, taken[at])
		taken[at] = true
		assert.LessOrEqual(t, p.GridPos.X+p.GridPos.W, gridWidth)
	}
}
