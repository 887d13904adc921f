package find

import (
	"fmt"
	"math"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// times draws how replies from the origin and from memory are spread, on one scale.
func (m *Model) times(l *look.Look, p *control.Pattern, width int, short bool) []string {
	out := []string{l.Dim.Render("how long replies took" + strings.Repeat(" ", max(width-52, 1)) + "     p50       p90        p99")}
	plot := max(width-32, 10)
	lo, hi := math.Inf(1), 0.0
	for _, d := range []*control.Distribution{p.Origin, p.Memory} {
		if d == nil {
			continue
		}
		for _, b := range d.Buckets {
			lo, hi = min(lo, max(b.From, 0.001)), max(hi, b.To)
		}
	}
	if hi == 0 {
		return out
	}
	for _, row := range []struct {
		name string
		d    *control.Distribution
		from render
	}{{"origin", p.Origin, l.Slate.Render}, {"memory", p.Memory, l.Honey.Render}} {
		if row.d == nil {
			out = append(out, l.Dim.Render(look.Left(row.name, 7)+" nothing yet"))
			continue
		}
		values := make([]float64, plot)
		var most float64
		for _, b := range row.d.Buckets {
			mid := math.Sqrt(max(b.From, 0.001) * b.To)
			i := min(int(math.Log(mid/lo)/math.Log(hi/lo)*float64(plot)), plot-1)
			values[max(i, 0)] += float64(b.Count)
			most = max(most, values[max(i, 0)])
		}
		out = append(out, l.Dim.Render(look.Left(row.name, 7))+row.from(look.Pillars(values, most))+" "+
			row.from(look.Millis(row.d.P50))+" "+row.from(look.Millis(row.d.P90))+" "+row.from(look.Millis(row.d.P99)))
	}
	axis := look.Left("       "+strings.TrimSpace(look.Millis(lo)), 7+plot-9) + look.Right(strings.TrimSpace(look.Millis(hi)), 9)
	out = append(out, l.Dim.Render(axis))
	if short {
		return out
	}
	out = append(out, "")
	var saved, waited []float64
	var most float64
	for _, s := range p.Slots {
		saved, waited = append(saved, s.Saved), append(waited, s.Waited)
		most = max(most, s.Saved, s.Waited)
	}
	out = append(out,
		l.Dim.Render("the last minute, in 5 s"),
		l.Dim.Render(look.Left("saved", 7))+l.Honey.Render(look.Pillars(spread(saved, 2), most))+"  "+l.Honey.Render(look.Seconds(p.Minute.Saved)),
		l.Dim.Render(look.Left("waited", 7))+l.Slate.Render(look.Pillars(spread(waited, 2), most))+"  "+l.Slate.Render(look.Seconds(p.Minute.Waited)), "")
	t := p.Total
	out = append(out, l.Dim.Render("since the start"),
		l.Honey.Render(fmt.Sprintf("◆ %s hits", look.Count(t.Hits)))+l.Dim.Render(" · ")+l.Slate.Render(fmt.Sprintf("◇ %s misses", look.Count(t.Misses)))+
			l.Dim.Render(fmt.Sprintf(" · › %s bypass · ", look.Count(t.Bypasses)))+l.Plum.Render(fmt.Sprintf("▽ %s drops", look.Count(p.Drops))))
	calls := max(t.Calls(), 1)
	out = append(out, l.Dim.Render(fmt.Sprintf("%.1f rows and %s a reply", float64(p.Rows)/float64(calls), look.Bytes(int64(p.Bytes/calls)))))
	return out
}

func spread(values []float64, n int) []float64 {
	var out []float64
	for _, v := range values {
		for range n {
			out = append(out, v)
		}
	}
	return out
}
