package stock

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

func full() *Model {
	m := &Model{}
	m.Set(control.Stock{
		Limit: 64 << 20, Bytes: 60 << 20, Beside: 1 << 20, Results: 3000,
		Patterns: []control.Stocked{
			{ID: "bado-kife-ruma", Rule: "boards", Results: 2000, Bytes: 40 << 20, Minute: 10, Stored: 9000, Unused: 8000},
			{ID: "nina-sola-tiku", Rule: "login", Results: 1000, Bytes: 19 << 20, Minute: 900, Stored: 1000, Unused: 1, TooLarge: 4, Largest: 3 << 20},
		},
		Ages: []control.AgeBand{{UpTo: 1000, Results: 10, Bytes: 1 << 20, Unused: 5, UnusedBytes: 1 << 19}, {Results: 2990, Bytes: 58 << 20}},
	})
	m.EndCurve(&control.MemoryCurve{Calls: 1000, Span: 600_000, Points: []control.MemoryPoint{
		{Limit: 32 << 20, Share: 0.4, Saved: 4000, Rules: map[string]float64{"boards": 0.1, "login": 0.7}, Full: true},
		{Limit: 64 << 20, Share: 0.6, Saved: 6000, Present: true, Rules: map[string]float64{"boards": 0.2, "login": 0.9}},
		{Limit: 128 << 20, Share: 0.7, Saved: 7000, Rules: map[string]float64{"boards": 0.3, "login": 0.9}},
	}}, nil)
	return m
}

func keyOf(name string) tea.KeyPressMsg {
	if name == "down" {
		return tea.KeyPressMsg{Code: tea.KeyDown}
	}
	return tea.KeyPressMsg{Code: rune(name[0]), Text: name}
}

// Between the sizes that were replayed, what a limit would give goes evenly with its logarithm; beyond them it stays.
func TestWhatAnotherLimitWouldGive(t *testing.T) {
	m := full()
	for limit, want := range map[int64]float64{16 << 20: 0.4, 32 << 20: 0.4, 64 << 20: 0.6, 94_906_266: 0.65, 128 << 20: 0.7, 1 << 40: 0.7} {
		share, _, known := m.At(limit)
		require.True(t, known)
		assert.InDelta(t, want, share, 0.001, "%d", limit)
	}
	_, _, known := (&Model{}).At(1)
	assert.False(t, known)
}

// What is wasted and what is worth most is found by another order, and the selection stays where she left it.
func TestOrders(t *testing.T) {
	m := full()
	m.Update(keyOf("down"))
	assert.Equal(t, "nina-sola-tiku", m.Selected().ID)
	m.Update(keyOf("o"))
	assert.Equal(t, "bado-kife-ruma", m.Stock().Patterns[0].ID, "8,000 of its results were never used")
	m.Update(keyOf("o"))
	assert.Equal(t, "nina-sola-tiku", m.Stock().Patterns[0].ID, "each MiB of it gives more hits")
	assert.Equal(t, "nina-sola-tiku", m.Selected().ID)
}

// Every size of terminal shows the present limit among the sizes that are foretold, and nothing beyond its edges.
func TestEverySizeShowsThePresentOne(t *testing.T) {
	for _, size := range [][2]int{{60, 12}, {75, 16}, {110, 24}, {160, 45}} {
		lines := full().View(look.New(look.Dark), size[0], size[1], nil)
		text := ansi.Strip(strings.Join(lines, "\n"))
		assert.Contains(t, text, "now", "%v", size)
		assert.LessOrEqual(t, len(lines), size[1])
		for _, l := range lines {
			assert.LessOrEqual(t, look.Width(l), size[0], "%v: %s", size, l)
		}
		if size[0] >= 110 {
			assert.Contains(t, text, "8000  89%")
		}
		if size[0] >= 160 {
			assert.Contains(t, text, "all rules, and boards")
		}
	}
}

// What is used beside results is one line, and what has hardly any room left is said however narrow it is.
func TestWhatIsUsedBesideResults(t *testing.T) {
	m := full()
	m.stock.Overhead = control.Overhead{Limit: 160 << 20, Patterns: control.OverheadPart{Used: 49 << 20, Limit: 50 << 20}, Texts: control.OverheadPart{Used: 1 << 20, Limit: 10 << 20}}
	wide := ansi.Strip(strings.Join(m.View(look.New(look.Dark), 140, 40, nil), "\n"))
	assert.Contains(t, wide, "beside results 50.0 MiB of 160.0 MiB · patterns 49.0 MiB, nearly all of 50.0 MiB, texts 1.0 MiB, sessions")
	narrow := ansi.Strip(strings.Join(m.View(look.New(look.Dark), 80, 24, nil), "\n"))
	assert.Contains(t, narrow, "patterns 49.0 MiB, nearly all")
	assert.NotContains(t, narrow, "texts")
}
