package prove

import (
	"fmt"
	"math"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/look"
)

// View draws the station. What is asked of her, if anything is, stands under what is known.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	if !m.known {
		return []string{l.Rule("how much time was saved?", width)}
	}
	if m.trial && question == nil {
		return m.trials(l, width)
	}
	out := m.head(l, width)
	if question != nil {
		return append(out, question...)
	}
	measures := m.measures(l, width)
	under := m.times(l, width)
	rest := height - len(out) - len(measures)
	series := min(max(rest/4, 3), 7)
	if rest < 14 {
		series = 0
		under = nil
	}
	if series > 0 {
		out = append(out, m.series(l, width, series)...)
	}
	out = append(out, measures...)
	room := max(height-len(out)-len(under), 3)
	out = append(out, look.Block(m.lines(l, width, room, len(out)), width, room)...)
	return append(out, under...)
}

func secs(ms float64) string { return strings.TrimSpace(look.Seconds(ms)) }

// head says what is to be seen first.
func (m *Model) head(l *look.Look, width int) []string {
	s := m.proof.Sums
	out := []string{l.Rule("saved "+m.Says(), width)}
	line := " " + l.Honey.Bold(true).Render(secs(s.Saved)+" saved") + l.Dim.Render("   beside ") + l.Cream.Render(secs(s.Waited)+" waited")
	if all := s.Saved + s.Waited; all > 0 && s.Saved > 0 {
		less := "%.1f%% less time waited"
		if width < 100 {
			less = "%.1f%% less"
		}
		line += l.Dim.Render(": ") + l.Cream.Render(fmt.Sprintf(less, 100*s.Saved/all))
	}
	line += l.Dim.Render("   hit rate ") + l.Cream.Render(strings.TrimSpace(look.Share(float64(s.Hits), float64(s.Calls())))) + l.Dim.Render(" of "+look.Count(s.Calls()))
	if width >= 100 {
		line += l.Dim.Render(" statements")
	}
	if m.proof.Minutes > 0 {
		line += l.Dim.Render("   in " + look.Number(float64(m.proof.Minutes), "whole minute"))
	}
	return append(out, look.Cut(line, width))
}

// series draws waiting over time, as pillars of several rows.
func (m *Model) series(l *look.Look, width, height int) []string {
	step := time.Duration(m.proof.Step * float64(time.Millisecond))
	per := map[bool]string{true: "each second", false: "each minute"}[step < time.Minute]
	switch {
	case step >= 24*time.Hour:
		per = "each day"
	case step >= time.Hour:
		per = "each hour"
	}
	list := m.proof.Series
	cells := width - 12
	if len(list) < 2 {
		return []string{l.Rule("waited, "+per, width), l.Dim.Render(" The chart needs at least two whole minutes.")}
	}
	group := (len(list) + cells - 1) / cells
	var saved, could, rest []float64
	most := 0.0
	for i := 0; i < len(list); i += group {
		part := list[i:min(i+group, len(list))]
		var a, b, c float64
		for _, x := range part {
			a, b, c = a+max(x.Saved, 0), b+x.Could, c+max(x.Waited-x.Could, 0)
		}
		n := float64(len(part))
		saved, could, rest = append(saved, a/n), append(could, b/n), append(rest, c/n)
		most = max(most, (a+b+c)/n)
	}
	wide := max(cells/len(saved), 1)
	out := []string{l.Rule("waited, "+per, width)}
	for row := range height {
		floor := float64(height-1-row) / float64(height) * most
		line := strings.Repeat(" ", 10)
		if row == 0 {
			line = look.Right(secs(most), 9) + " "
		}
		line = l.Dim.Render(line)
		for i := range saved {
			level := floor + most/float64(height)/2
			var cell string
			switch {
			case level <= saved[i]:
				cell = l.Honey.Render(strings.Repeat(string(look.TextureSaved), wide))
			case level <= saved[i]+could[i]:
				cell = l.Slate.Render(strings.Repeat(string(look.TextureCould), wide))
			case level <= saved[i]+could[i]+rest[i]:
				cell = l.Dim.Render(strings.Repeat(string(look.TextureRest), wide))
			default:
				cell = strings.Repeat(" ", wide)
			}
			line += cell
		}
		out = append(out, line)
	}
	form := "15:04"
	if step >= time.Hour {
		form = "2 Jan 15:04"
	}
	if step < time.Minute {
		form = "15:04:05"
	}
	from, to := list[0].At.Local().Format(form), list[len(list)-1].At.Local().Format(form)
	drawn := wide * len(saved)
	return append(out, l.Dim.Render(strings.Repeat(" ", 10)+look.Left(from, max(drawn-len(to), 0))+to))
}

// measures draws what was spared by each of the three ways, and what is taken off.
func (m *Model) measures(l *look.Look, width int) []string {
	w, s := m.proof.Saved, m.proof.Sums
	out := []string{l.Rule("measured in three ways", width)}
	most := math.Abs(w.Fetches)
	for _, x := range []*control.Way{w.Sample, w.Before} {
		if x != nil {
			most = max(most, math.Abs(x.Saved)+x.Error)
		}
	}
	name, plot, narrow := 44, max(width-44-70, 6), width < 100
	if narrow {
		name, plot = 17, max(width-17-43, 6)
	}
	bar := func(v, e float64) string {
		if most == 0 {
			return strings.Repeat(" ", plot)
		}
		n := int(math.Round(max(v, 0) / most * float64(plot)))
		half := int(math.Round(e / most * float64(plot)))
		from := max(n-half, 0)
		text := l.Honey.Render(strings.Repeat(string(look.TextureSaved), min(from, n))) + l.Honey.Render(strings.Repeat(string(look.TextureCould), min(n+half, plot)-min(from, n)))
		return text + strings.Repeat(" ", max(plot-look.Width(text), 0))
	}
	say := func(short, long string, x *control.Way, none string) {
		text := long
		if narrow {
			text = short
		}
		line := "  " + l.Cream.Render(look.Left(text, name))
		if x == nil {
			out = append(out, look.Cut(line+l.Dim.Render(none), width))
			return
		}
		value := secs(x.Saved)
		if x.Error > 0 {
			value += " ± " + secs(x.Error)
		}
		line += bar(x.Saved, x.Error) + " " + l.Honey.Render(look.Left(value, 19))
		if x.Covers < 0.995 {
			line += l.Dim.Render(fmt.Sprintf(" for %.0f%% of the hits", 100*x.Covers))
			if !narrow {
				line += l.Dim.Render(", where the first says " + secs(x.Like))
			}
		}
		out = append(out, look.Cut(line, width))
	}
	say("last fetch", "by the last fetch of each result", &control.Way{Saved: w.Fetches, Covers: 1}, "")
	say("control samples", "by control samples, as the database is now", w.Sample, "too few samples so far")
	say("before and after", "before and after", w.Before, "no calls were seen before it was cached")
	less := "already subtracted: %s that the larder added to misses, and %s that hits waited for another fetch"
	if narrow {
		less = "already subtracted: %s added to misses, and %s that hits waited"
	}
	return append(out, look.Cut("  "+l.Dim.Render(fmt.Sprintf(less, secs(s.Own), secs(s.Follow))), width))
}

// lines draws what was saved of each pattern, rule or application.
func (m *Model) lines(l *look.Look, width, height, from int) []string {
	out := []string{l.Rule([...]string{"by pattern", "by rule", "by application"}[m.by], width)}
	wide := width >= 100
	name := 17
	if m.by > 0 {
		name = 24
	}
	columns := []look.Column{{Width: 2}, {Title: "name", Width: name}, {Title: "hit rate", Width: 9, Right: true}, {Title: "saved", Width: 10, Right: true}, {Title: "by samples", Width: 20, Right: true}}
	switch {
	case wide && m.by == 0:
		columns = append(columns, look.Column{Title: "before", Width: 10, Right: true}, look.Column{Title: "after", Width: 10, Right: true}, look.Column{Title: "  statement"})
	case wide:
		columns = append(columns, look.Column{Title: "waited", Width: 10, Right: true}, look.Column{Title: "of misses", Width: 11, Right: true}, look.Column{Title: "followed", Width: 10, Right: true})
	}
	list := m.list()
	room := max(height-2, 1)
	at := max(m.index(), 0)
	row := func(i int) []string {
		p := &list[i]
		mark, style := "  ", l.Cream
		if i == at {
			mark, style = l.Honey.Render("▌"), l.Strong
		}
		sample := "–"
		if x := p.Ways.Sample; x != nil {
			sample = secs(x.Saved) + " ± " + secs(x.Error)
		}
		row := []string{mark, style.Render(p.Name), l.Cream.Render(look.Share(float64(p.Hits), float64(p.Calls()))), l.Honey.Render(dash(p.Ways.Fetches, p.Hits)), l.Cream.Render(sample)}
		switch {
		case wide && m.by == 0:
			row = append(row, l.Slate.Render(strings.TrimSpace(look.Millis(p.BeforeMean))), l.Honey.Render(strings.TrimSpace(look.Millis(p.AfterMean))), "  "+l.Dim.Render(p.Text))
		case wide:
			row = append(row, l.Slate.Render(secs(p.Waited)), l.Dim.Render(secs(p.Own)), l.Dim.Render(secs(p.Follow)))
		}
		return row
	}
	out = append(out, m.rows.Draw(l, from+len(out), width, room, columns, at, len(list), row)...)
	if len(list) == 0 {
		out = append(out, l.Dim.Render("  Nothing was counted "+m.Says()+"."))
	}
	return out
}

// dash writes what was spared, or that nothing could be.
func dash(ms float64, hits uint64) string {
	if hits == 0 && math.Abs(ms) < 5 {
		return "–"
	}
	return secs(ms)
}

// unit writes a power of ten of milliseconds.
func unit(ms float64) string {
	switch {
	case ms < 0.9:
		return fmt.Sprintf("%.0f µs", 1000*ms)
	case ms < 900:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.0f s", ms/1000)
}

// times draws how long the answers of the selected pattern took, from memory and from the origin, as two distributions
// over one scale.
func (m *Model) times(l *look.Look, width int) []string {
	memory, origin, of := m.proof.Memory, m.proof.Origin, "all cached patterns"
	if p := m.pattern; p != nil && p.ID == m.SelectedPattern() {
		memory, origin, of = p.Memory, p.Origin, p.ID
	}
	out := []string{l.Rule("reply times since the start: "+of, width)}
	if memory == nil && origin == nil {
		return append(out, l.Dim.Render("  No replies yet."))
	}
	list := []spread{{name: "hits", style: l.Honey}, {name: "from origin", style: l.Slate}}
	for i, d := range []*control.Distribution{memory, origin} {
		if d == nil {
			continue
		}
		list[i].p50, list[i].p99, list[i].times = d.P50, d.P99, d.Buckets
	}
	return append(out, spreads(l, list, width)...)
}

// spread is how the times of some statements are spread.
type spread struct {
	name     string
	style    lipgloss.Style
	p50, p99 float64
	times    []trial.Bucket
}

// spreads draws distributions of times one below the other, over one logarithmic scale.
func spreads(l *look.Look, list []spread, width int) (out []string) {
	low, high := math.Inf(1), 0.0
	for _, d := range list {
		for _, b := range d.times {
			low, high = min(low, max(b.From, 0.001)), max(high, b.To)
		}
	}
	if math.IsInf(low, 1) {
		return nil
	}
	low, high = math.Floor(math.Log10(low)), math.Ceil(math.Log10(high))
	cells := max(width-58, 10)
	at := func(ms float64) int {
		return min(max(int((math.Log10(max(ms, 0.001))-low)/max(high-low, 1)*float64(cells)), 0), cells-1)
	}
	for _, d := range list {
		if len(d.times) == 0 {
			out = append(out, "  "+l.Dim.Render(look.Left(d.name, 14)+"none"))
			continue
		}
		heights := make([]float64, cells)
		most := 0.0
		for _, b := range d.times {
			heights[at(math.Sqrt(max(b.From, 0.001)*b.To))] += float64(b.Count)
		}
		for _, h := range heights {
			most = max(most, h)
		}
		text := func(ms float64) string { return strings.TrimSpace(look.Millis(ms)) }
		out = append(out, look.Cut("  "+l.Dim.Render(look.Left(d.name, 14))+d.style.Render(look.Pillars(heights, most))+"  "+
			d.style.Render(fmt.Sprintf("p50 %s, p99 %s", text(d.p50), text(d.p99))), width))
	}
	var ticks strings.Builder
	ticks.WriteString(strings.Repeat(" ", 16))
	for e := low; e <= high; e++ {
		label := unit(math.Pow(10, e))
		pos := 16 + at(math.Pow(10, e))
		if have := look.Width(ticks.String()); pos >= have && pos+look.Width(label) < width {
			ticks.WriteString(strings.Repeat(" ", pos-have) + label + " ")
		}
	}
	return append(out, l.Dim.Render(look.Cut(ticks.String(), width)))
}
