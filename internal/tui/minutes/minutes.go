// Package minutes draws what was counted minute by minute.
package minutes

import (
	"fmt"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// Row is one number over the minutes.
type Row struct {
	Label  string
	Style  interface{ Render(...string) string }
	Values []float64
	// Most writes the highest of them.
	Most func(float64) string
}

// labels is how wide the labels are, and behind what is beside the values in all.
const labels, beside = 8, 26

// Rows draws numbers, a minute in each column, from the first minute on in which one of them is not zero; nothing where
// there are fewer than two such minutes.
func Rows(l *look.Look, rows []Row, width int) []string {
	n := 0
	for _, r := range rows {
		n = max(n, len(r.Values))
	}
	from := n
	for _, r := range rows {
		for i, v := range r.Values {
			if v != 0 {
				from = min(from, i)
				break
			}
		}
	}
	if n-from < 2 {
		return nil
	}
	cells := min(n-from, max(width-beside, 10))
	out := []string{l.Dim.Render(fmt.Sprintf("the last %d minutes, one by one", cells))}
	for _, r := range rows {
		values, highest := r.Values[n-cells:], 0.0
		for _, v := range values {
			highest = max(highest, v)
		}
		out = append(out, l.Dim.Render(look.Right(r.Label, labels))+" "+r.Style.Render(look.Pillars(values, highest))+l.Dim.Render("│ up to "+r.Most(highest)))
	}
	return out
}

// Of gives one number of each of some steps.
func Of[T any](steps []T, number func(*T) float64) []float64 {
	out := make([]float64, len(steps))
	for i := range steps {
		out[i] = number(&steps[i])
	}
	return out
}

// Count writes a number of things in a minute.
func Count(x float64) string { return look.Count(uint64(x)) + "/min" }

// Draw draws calls, the hit rate and how long clients waited: half of them at most and 99 % of them, or on average where
// that is all that is known.
func Draw(l *look.Look, steps []control.ProofStep, width int) []string {
	millis := func(x float64) string { return strings.TrimSpace(look.Millis(x)) }
	rows := []Row{
		{"calls", l.Slate, Of(steps, func(s *control.ProofStep) float64 { return float64(s.Calls) }), Count},
		{"hit rate", l.Honey, Of(steps, func(s *control.ProofStep) float64 { return share(float64(s.Hits), float64(s.Calls)) }), func(x float64) string { return fmt.Sprintf("%.0f%%", 100*x) }},
	}
	percentiles := false
	for i := range steps {
		percentiles = percentiles || steps[i].P50 > 0
	}
	if percentiles {
		rows = append(rows, Row{"p50", l.Cream, Of(steps, func(s *control.ProofStep) float64 { return s.P50 }), millis},
			Row{"p99", l.Cream, Of(steps, func(s *control.ProofStep) float64 { return s.P99 }), millis})
	} else {
		rows = append(rows, Row{"mean", l.Cream, Of(steps, func(s *control.ProofStep) float64 { return share(s.Waited, float64(s.Calls)) }), millis})
	}
	out := Rows(l, rows, width)
	if out == nil {
		return nil
	}
	var before, since control.ProofStep // the first minute with hits
	for _, s := range steps {
		sum := &before
		if s.Hits > 0 || since.Calls > 0 {
			sum = &since
		}
		sum.Calls, sum.Waited = sum.Calls+s.Calls, sum.Waited+s.Waited
	}
	if before.Calls > 0 && since.Calls > 0 {
		out = append(out, look.Cut(l.Dim.Render(look.Right("mean", labels)+" ")+l.Slate.Render(millis(before.Waited/float64(before.Calls)))+l.Dim.Render(" before the first hits, ")+
			l.Honey.Render(millis(since.Waited/float64(since.Calls)))+l.Dim.Render(" since"), width))
	}
	return out
}

func share(part, whole float64) float64 {
	if whole <= 0 {
		return 0
	}
	return part / whole
}
