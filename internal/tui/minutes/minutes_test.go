package minutes

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// Whatever was counted, the drawing fits, begins with the first minute of which something was counted, and names the
// highest of each row.
func TestMinutesFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := make([]control.ProofStep, 60)
		for i := rapid.IntRange(0, 60).Draw(t, "first"); i < len(steps); i++ {
			calls := rapid.Uint64Range(0, 100_000).Draw(t, "calls")
			steps[i] = control.ProofStep{Calls: calls, Hits: rapid.Uint64Range(0, calls).Draw(t, "hits"), Waited: rapid.Float64Range(0, 1e6).Draw(t, "waited")}
		}
		width := rapid.IntRange(40, 160).Draw(t, "width")
		lines := Draw(look.New(look.Dark), steps, width)
		for len(steps) > 0 && steps[0].Calls == 0 {
			steps = steps[1:]
		}
		if len(steps) < 2 {
			assert.Empty(t, lines)
			return
		}
		assert.GreaterOrEqual(t, len(lines), 4)
		for _, line := range lines {
			assert.LessOrEqual(t, ansi.StringWidth(line), width)
		}
	})
}

// Three minutes with calls are three columns, whatever came before.
func TestTheFirstMinutesWithoutCallsAreLeftOut(t *testing.T) {
	steps := make([]control.ProofStep, 60)
	steps[57] = control.ProofStep{Calls: 10, Waited: 100}
	steps[59] = control.ProofStep{Calls: 40, Hits: 30, Waited: 40}
	var plain []string
	for _, line := range Draw(look.New(look.Dark), steps, 80) {
		plain = append(plain, strings.TrimSpace(ansi.Strip(line)))
	}
	assert.Equal(t, []string{"the last 3 minutes, one by one", "calls ▂ █│ up to 40/min", "hit rate   █│ up to 75%", "mean █ ▁│ up to 10 ms", "mean 10 ms before the first hits, 1.0 ms since"}, plain)
}
