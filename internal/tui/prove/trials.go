package prove

import (
	"fmt"
	"strings"

	"jollylarder/internal/trial"
	"jollylarder/internal/tui/look"
)

// trials draws the trial that is under way, or what the last one came to.
func (m *Model) trials(l *look.Look, width int) []string {
	out := []string{l.Rule("a trial: the same statements with caching off and on", width)}
	if m.running {
		cells := max(min(width-50, 60), 10)
		n := int(m.done * float64(cells))
		return append(out, "", "  "+l.Honey.Render(strings.Repeat(string(look.TextureSaved), n))+l.Dim.Render(strings.Repeat(string(look.TextureRest), cells-n))+
			l.Cream.Render(fmt.Sprintf(" %3.0f%%  %s", 100*m.done, m.doing)))
	}
	if m.problem != "" {
		for _, line := range look.Wrap(m.problem, width-4) {
			out = append(out, "  "+l.Brick.Render("! ")+l.Cream.Render(line))
		}
		return out
	}
	r := m.trialled
	if r == nil {
		for _, line := range look.Wrap("No trial was run yet. A load trial sends statements of its own: directly, through the larder with caching off, and with caching on. A live trial turns caching off and on in turns for the clients' traffic.", width-4) {
			out = append(out, "  "+l.Cream.Render(line))
		}
		return append(out, "", "  "+l.Key(KeyTrial, "makes one")+"   "+l.Key(keyTrials, "goes back"))
	}
	out = append(out, m.table(l, r, width)...)
	out = append(out, "")
	out = append(out, m.differences(l, r, width)...)
	out = append(out, "")
	if r.Saved != nil {
		line := "  " + l.Dim.Render("saved by caching, in all rounds   ") + l.Honey.Bold(true).Render(interval(*r.Saved, 1000, "%.3f s"))
		if r.Counted != nil {
			line += l.Dim.Render("   counted by the larder ") + l.Honey.Render(fmt.Sprintf("%.3f s", *r.Counted/1000)) + l.Dim.Render(" by last fetches")
		}
		out = append(out, look.Cut(line, width))
		if r.Sampled != nil {
			line := "  " + l.Dim.Render("by its control samples            ") + l.Honey.Render(interval(*r.Sampled, 1000, "%.3f s"))
			switch a := r.Agrees(); a {
			case trial.Agree:
				line += l.Moss.Render("   ✓ " + string(a))
			default:
				line += l.Cream.Render("   " + string(a))
			}
			out = append(out, look.Cut(line, width))
		}
	}
	if r.Inconclusive != "" {
		out = append(out, look.Cut("  "+l.Brick.Render("! ")+l.Cream.Render("no conclusion: "+r.Inconclusive), width))
	}
	if a := r.Answers; a != nil {
		style := l.Moss
		if a.Different > 0 {
			style = l.Brick.Bold(true)
		}
		out = append(out, "  "+l.Dim.Render("answers                           ")+l.Cream.Render(fmt.Sprintf("%d equal, ", a.Equal))+style.Render(fmt.Sprintf("%d different", a.Different))+l.Dim.Render(fmt.Sprintf(", %d changing during the trial", a.Changing)))
		for _, s := range a.First {
			out = append(out, look.Cut("    "+l.Brick.Render("! ")+l.Cream.Render(s), width))
		}
	}
	for _, x := range r.LeftOut {
		out = append(out, look.Cut("  "+l.Dim.Render("left out: "+x), width))
	}
	if r.Ended != "" {
		out = append(out, look.Cut("  "+l.Brick.Render("! ")+l.Cream.Render("it ended early: "+r.Ended), width))
	}
	var list []spread
	for _, f := range r.Ways {
		style := l.Slate
		if f.Way == trial.On {
			style = l.Honey
		}
		list = append(list, spread{f.Way, style, f.P50, f.P99, f.Times})
	}
	if drawn := spreads(l, list, width); drawn != nil {
		out = append(append(append(out, ""), l.Rule("reply times", width)), drawn...)
	}
	return append(out, rounds(l, r, width)...)
}

// rounds draws how the means of each round differ, each as a dot, with the interval of their mean.
func rounds(l *look.Look, r *trial.Result, width int) (out []string) {
	low, high := 0.0, 0.0
	for _, d := range r.Against {
		for _, x := range d.Each {
			low, high = min(low, x), max(high, x)
		}
		if d.Mean.Error != nil {
			low, high = min(low, d.Mean.Value-*d.Mean.Error), max(high, d.Mean.Value+*d.Mean.Error)
		}
	}
	if high == low || r.Rounds < 2 {
		return nil
	}
	const names = 36
	cells := max(width-names-4, 10)
	at := func(x float64) int { return min(max(int((x-low)/(high-low)*float64(cells-1)+0.5), 0), cells-1) }
	out = append(out, "", l.Rule("mean of each round: ● a round, ━ 95% interval, │ no difference", width))
	for _, d := range r.Against {
		row := []rune(strings.Repeat(" ", cells))
		if e := d.Mean.Error; e != nil {
			for i := at(d.Mean.Value - *e); i <= at(d.Mean.Value+*e); i++ {
				row[i] = '━'
			}
		}
		row[at(0)] = '│'
		for _, x := range d.Each {
			row[at(x)] = '●'
		}
		out = append(out, look.Cut("  "+l.Cream.Render(look.Left(d.Way+" less "+d.Against, names))+l.Honey.Render(string(row)), width))
	}
	left, right := fmt.Sprintf("%+.3f ms", low), fmt.Sprintf("%+.3f ms", high)
	return append(out, l.Dim.Render(look.Cut(strings.Repeat(" ", 2+names)+left+strings.Repeat(" ", max(cells-len(left)-len(right), 1))+right, width)))
}

func (m *Model) table(l *look.Look, r *trial.Result, width int) []string {
	right := func(title string, width int) look.Column { return look.Column{Title: title, Width: width, Right: true} }
	columns := []look.Column{{Width: 2}, {Width: 16}, right("statements", 11), right("a second", 10), right("mean", 10), right("p50", 9), right("p90", 9), right("p99", 9)}
	if width >= 100 {
		columns = append(columns, right("longest", 10), right("errors", 8), right("of origin", 11), look.Column{})
	}
	text := func(ms float64) string { return strings.TrimSpace(look.Millis(ms)) }
	most := 0.0
	for _, f := range r.Ways {
		most = max(most, f.Mean)
	}
	var rows [][]string
	for _, f := range r.Ways {
		style := l.Slate
		if f.Way == trial.On {
			style = l.Honey
		}
		row := []string{"", style.Render(f.Way), l.Cream.Render(look.Count(uint64(f.Calls))), l.Cream.Render(fmt.Sprintf("%.0f", f.PerSecond)), style.Render(text(f.Mean)),
			l.Cream.Render(text(f.P50)), l.Cream.Render(text(f.P90)), l.Cream.Render(text(f.P99))}
		if width >= 100 {
			origin, bar := "–", ""
			if f.Origin != nil {
				origin = look.Count(*f.Origin)
			}
			if room := width - 107; room > 6 && most > 0 { // behind the other columns
				bar = "  " + style.Render(strings.Repeat(string(look.TextureSaved), max(int(f.Mean/most*float64(min(room-2, 30))), 1)))
			}
			row = append(row, l.Cream.Render(text(f.Most)), l.Cream.Render(fmt.Sprint(f.Errors)), l.Slate.Render(origin), bar)
		}
		rows = append(rows, row)
	}
	return l.Table(width, columns, rows)
}

func (m *Model) differences(l *look.Look, r *trial.Result, width int) []string {
	right := func(title string) look.Column { return look.Column{Title: title, Width: 22, Right: true} }
	columns := []look.Column{{Width: 2}, {Title: fmt.Sprintf("differences, %d rounds", r.Rounds), Width: 32}, right("mean"), right("p50"), right("p99"), right("statements a second")}
	var rows [][]string
	for _, d := range r.Against {
		rows = append(rows, []string{"", l.Cream.Render(d.Way + " less " + d.Against), l.Honey.Render(interval(d.Mean, 1, "%+.3f ms")), l.Cream.Render(interval(d.P50, 1, "%+.3f ms")),
			l.Cream.Render(interval(d.P99, 1, "%+.2f ms")), l.Cream.Render("× " + interval(d.Rate, 1, "%.2f"))})
	}
	return l.Table(width, columns, rows)
}

// interval writes an estimate with its interval of 95%, divided by a unit.
func interval(e trial.Estimate, unit float64, format string) string {
	out := fmt.Sprintf(format, e.Value/unit)
	if e.Error != nil {
		half := fmt.Sprintf(strings.Replace(strings.Fields(format)[0], "+", "", 1), *e.Error/unit)
		out = fmt.Sprintf(strings.Fields(format)[0], e.Value/unit) + " ± " + half
		if f := strings.Fields(format); len(f) > 1 {
			out += " " + f[1]
		}
	}
	return out
}
