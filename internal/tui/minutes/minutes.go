// Package minutes draws what was counted minute by minute.
package minutes

import (
	"fmt"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// Draw draws calls, the hit rate and how long clients waited for one, a minute in each column, from the first minute that
// had a call on; nothing where there are fewer than two.
func Draw(l *look.Look, steps []control.ProofStep, width int) []string {
	for len(steps) > 0 && steps[0].Calls == 0 {
		steps = steps[1:]
	}
	if len(steps) < 2 {
		return nil
	}
	cells := min(len(steps), max(width-26, 10))
	steps = steps[len(steps)-cells:]
	row := func(label string, style interface{ Render(...string) string }, value func(control.ProofStep) float64, most func(float64) string) string {
		values, highest := make([]float64, len(steps)), 0.0
		for i, s := range steps {
			values[i] = value(s)
			highest = max(highest, values[i])
		}
		return l.Dim.Render(look.Right(label, 8)) + " " + style.Render(look.Pillars(values, highest)) + l.Dim.Render("│ up to "+most(highest))
	}
	share := func(part, whole float64) float64 {
		if whole <= 0 {
			return 0
		}
		return part / whole
	}
	return []string{
		l.Dim.Render(fmt.Sprintf("the last %d minutes, one by one", len(steps))),
		row("calls", l.Slate, func(s control.ProofStep) float64 { return float64(s.Calls) }, func(x float64) string { return look.Count(uint64(x)) + "/min" }),
		row("hit rate", l.Honey, func(s control.ProofStep) float64 { return share(float64(s.Hits), float64(s.Calls)) }, func(x float64) string { return fmt.Sprintf("%.0f%%", 100*x) }),
		row("mean", l.Cream, func(s control.ProofStep) float64 { return share(s.Waited, float64(s.Calls)) }, func(x float64) string { return strings.TrimSpace(look.Millis(x)) }),
	}
}
