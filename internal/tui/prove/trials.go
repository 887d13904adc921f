package prove

import (
	"fmt"
	"strings"

	"jollylarder/internal/trial"
	"jollylarder/internal/tui/look"
)

// trials draws the trial that is under way, or what the last one came to.
func (m *Model) trials(l *look.Look, width int) []string {
	out := []string{l.Rule("a trial: the same statements with keeping off and on", width)}
	if m.running {
		cells := max(min(width-50, 60), 10)
		n := int(m.done * float64(cells))
		return append(out, "", "  "+l.Honey.Render(strings.Repeat(string(look.TextureSpared), n))+l.Dim.Render(strings.Repeat(string(look.TextureRest), cells-n))+
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
		for _, line := range look.Wrap("None was made yet. A load trial asks statements of its own, directly, through the larder with keeping off, and with it on. A live trial switches keeping off and on in turns for the traffic that comes.", width-4) {
			out = append(out, "  "+l.Cream.Render(line))
		}
		return append(out, "", "  "+l.Key("t", "makes one")+"   "+l.Key("l", "goes back"))
	}
	out = append(out, m.table(l, r, width)...)
	out = append(out, "")
	out = append(out, m.differences(l, r, width)...)
	out = append(out, "")
	if r.Spared != nil {
		line := "  " + l.Dim.Render("spared by keeping, in all rounds  ") + l.Honey.Bold(true).Render(interval(*r.Spared, 1000, "%.3f s"))
		if r.Counted != nil {
			line += l.Dim.Render("   the larder itself counted ") + l.Honey.Render(fmt.Sprintf("%.3f s", *r.Counted/1000)) + l.Dim.Render(" by last fetches")
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
	if a := r.Answers; a != nil {
		style := l.Moss
		if a.Different > 0 {
			style = l.Brick.Bold(true)
		}
		out = append(out, "  "+l.Dim.Render("answers                           ")+l.Cream.Render(fmt.Sprintf("%d equal, ", a.Equal))+style.Render(fmt.Sprintf("%d different", a.Different))+l.Dim.Render(fmt.Sprintf(", %d changing meanwhile", a.Changing)))
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
	return out
}

func (m *Model) table(l *look.Look, r *trial.Result, width int) []string {
	head := look.Left("", 16) + look.Right("statements", 11) + look.Right("a second", 10) + look.Right("mean", 10) + look.Right("p50", 9) + look.Right("p90", 9) + look.Right("p99", 9)
	if width >= 100 {
		head += look.Right("longest", 10) + look.Right("errors", 8) + look.Right("of origin", 11)
	}
	out := []string{"  " + l.Dim.Render(look.Cut(head, width-2))}
	text := func(ms float64) string { return strings.TrimSpace(look.Millis(ms)) }
	most := 0.0
	for _, f := range r.Ways {
		most = max(most, f.Mean)
	}
	for _, f := range r.Ways {
		style := l.Slate
		if f.Way == trial.On {
			style = l.Honey
		}
		line := "  " + style.Render(look.Left(f.Way, 16)) + l.Cream.Render(look.Right(look.Count(uint64(f.Calls)), 11)+look.Right(fmt.Sprintf("%.0f", f.PerSecond), 10)) +
			style.Render(look.Right(text(f.Mean), 10)) + l.Cream.Render(look.Right(text(f.P50), 9)+look.Right(text(f.P90), 9)+look.Right(text(f.P99), 9))
		if width >= 100 {
			origin := "–"
			if f.Origin != nil {
				origin = look.Count(*f.Origin)
			}
			line += l.Cream.Render(look.Right(text(f.Most), 10)+look.Right(fmt.Sprint(f.Errors), 8)) + l.Slate.Render(look.Right(origin, 11))
			if room := width - look.Width(line) - 2; room > 6 && most > 0 {
				line += "  " + style.Render(strings.Repeat(string(look.TextureSpared), max(int(f.Mean/most*float64(min(room-2, 30))), 1)))
			}
		}
		out = append(out, look.Cut(line, width))
	}
	return out
}

func (m *Model) differences(l *look.Look, r *trial.Result, width int) []string {
	out := []string{"  " + l.Dim.Render(look.Cut(look.Left(fmt.Sprintf("how they differ, %d rounds", r.Rounds), 32)+look.Right("mean", 22)+look.Right("p50", 22)+look.Right("p99", 22)+look.Right("statements a second", 22), width-2))}
	for _, d := range r.Against {
		line := "  " + l.Cream.Render(look.Left(d.Way+" less "+d.Against, 32)) + l.Honey.Render(look.Right(interval(d.Mean, 1, "%+.3f ms"), 22)) +
			l.Cream.Render(look.Right(interval(d.P50, 1, "%+.3f ms"), 22)+look.Right(interval(d.P99, 1, "%+.2f ms"), 22)+look.Right("× "+interval(d.Rate, 1, "%.2f"), 22))
		out = append(out, look.Cut(line, width))
	}
	return out
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
