package stock

import (
	"fmt"
	"math"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/minutes"
)

// View draws the station. What is asked of her, if anything is, stands under the list.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	if !m.known {
		return []string{l.Rule("is the memory well used?", width)}
	}
	out := m.whole(l, width, height)
	if height >= look.Roomy || m.stock.Overhead.Used() > m.stock.Overhead.Limit*9/16 {
		out = append(out, beside(l, &m.stock.Overhead, width))
	}
	if question != nil {
		out = append(out, m.list(l, width, min(max(height-len(out)-len(question), 4), len(m.stock.Patterns)+2), len(out))...)
		return append(out, question...)
	}
	foot := m.below(l, width, max(height-len(out)-6, 5))
	out = append(out, m.list(l, width, max(min(height-len(out)-len(foot)-1, len(m.stock.Patterns)+2), 3), len(out))...)
	if len(out)+len(foot) < height {
		out = append(out, "")
	}
	return append(out, foot...)
}

// whole draws the memory as one ribbon: what is used, what was not used yet, what is needed beside, and what is free.
func (m *Model) whole(l *look.Look, width, height int) []string {
	s := &m.stock
	var unused float64
	for _, b := range s.Ages {
		unused += b.UnusedBytes
	}
	results := float64(s.Bytes - s.Beside)
	unused = min(unused, results)
	free := max(float64(s.Limit-s.Bytes), 0)
	out := []string{l.Rule("the memory", width)}
	out = append(out, " "+look.Ribbon(width-2,
		look.Stretch{Value: results - unused, Texture: look.TextureSaved, Style: l.Honey},
		look.Stretch{Value: unused, Texture: look.TextureCould, Style: l.Honey},
		look.Stretch{Value: float64(s.Beside), Texture: '=', Style: l.Plum},
		look.Stretch{Value: free, Texture: look.TextureRest, Style: l.Dim}))
	bytes := func(n float64) string { return look.Bytes(int64(n)) }
	legend := []string{
		l.Honey.Render(string(look.TextureSaved) + " " + bytes(results-unused) + " in use"),
		l.Honey.Render(string(look.TextureCould) + " " + bytes(unused) + " not used yet"),
	}
	if s.Beside > 0 {
		legend = append(legend, l.Plum.Render("= "+bytes(float64(s.Beside))+" dependencies"))
	}
	legend = append(legend, l.Dim.Render(string(look.TextureRest)+" "+bytes(free)+" free"))
	right := l.Cream.Render(fmt.Sprintf("%s of %s", look.Bytes(s.Bytes), look.Bytes(s.Limit)))
	if s.Process.Resident > 0 {
		right += l.Dim.Render(fmt.Sprintf(" · the process takes %s", look.Bytes(s.Process.Resident)))
	}
	lines := look.Flow(legend, "   ", " ", width)
	if height < look.Roomy {
		lines = lines[:1]
	}
	if room := width - look.Width(lines[len(lines)-1]) - look.Width(right) - 1; room > 0 {
		lines[len(lines)-1] += strings.Repeat(" ", room) + right
	} else {
		lines = append(lines, " "+look.Cut(right, width-1))
	}
	return append(out, lines...)
}

// beside writes what is used beside results: of what has room, how much it takes, and of what has hardly any left, of
// how much. Where it is narrow, only the latter.
func beside(l *look.Look, o *control.Overhead, width int) string {
	line := " " + l.Dim.Render("beside results ") + l.Cream.Render(fmt.Sprintf("%s of %s", look.Bytes(o.Used()), look.Bytes(o.Limit)))
	between := " · "
	for _, p := range []struct {
		what string
		part control.OverheadPart
	}{{"patterns", o.Patterns}, {"texts", o.Texts}, {"sessions", o.Sessions}, {"samples", o.Samples}} {
		switch {
		case p.part.Used > p.part.Limit*9/10:
			line += l.Dim.Render(between) + l.Cream.Render(fmt.Sprintf("%s %s, nearly all of %s", p.what, look.Bytes(p.part.Used), look.Bytes(p.part.Limit)))
		case width >= 100:
			line += l.Dim.Render(between + p.what + " " + look.Bytes(p.part.Used))
		default:
			continue
		}
		between = ", "
	}
	return look.Cut(line, width)
}

// list draws the patterns.
func (m *Model) list(l *look.Look, width, height, from int) []string {
	out := []string{l.Rule("cached results by pattern", width)}
	list := m.stock.Patterns
	wide := width >= 100
	columns := []look.Column{{Width: 2}, {Title: "pattern", Width: 16}, {Title: "results", Width: 9, Right: true}, {Title: "bytes", Width: 11, Right: true}, {Title: "hits/min", Width: 10, Right: true}}
	if wide {
		columns = append(columns, look.Column{Title: "hits/MiB", Width: 10, Right: true}, look.Column{Width: 14}, look.Column{Title: "never used", Width: 12, Right: true}, look.Column{Title: "evicted", Width: 12, Right: true},
			look.Column{Title: "expired", Width: 9, Right: true}, look.Column{Title: "dropped", Width: 9, Right: true}, look.Column{Title: "  statement"})
	} else {
		columns = append(columns, look.Column{Title: "never used", Width: 12, Right: true}, look.Column{Title: "evicted", Width: 9, Right: true})
	}
	most := int64(1)
	for _, p := range list {
		most = max(most, p.Bytes)
	}
	room := max(height-2, 1)
	at := max(m.index(), 0)
	row := func(i int) []string {
		p := &list[i]
		mark, style := "  ", l.Cream
		if i == at {
			mark, style = l.Honey.Render("▌"), l.Strong
		}
		row := []string{mark, style.Render(p.ID), l.Honey.Render(look.Some(uint64(p.Results))), l.Honey.Render(look.Bytes(p.Bytes)), l.Cream.Render(look.Some(p.Minute))}
		unused := l.Dim
		if p.Unused*2 > p.Stored && p.Stored >= 20 {
			unused = l.Brick
		}
		never := look.Some(p.Unused)
		if wide && p.Stored > 0 && p.Unused > 0 {
			never += fmt.Sprintf(" %3.0f%%", 100*float64(p.Unused)/float64(p.Stored))
		}
		if wide {
			n := int(math.Ceil(float64(p.Bytes) / float64(most) * 10))
			hits := "–"
			if p.Bytes > 0 {
				hits = fmt.Sprintf("%.0f", worth(p))
			}
			row = append(row, l.Cream.Render(hits), "  "+l.Honey.Render(strings.Repeat(string(look.TextureSaved), n)), unused.Render(never), l.Slate.Render(look.Some(p.Evicted)),
				l.Dim.Render(look.Some(p.Expired)), l.Plum.Render(look.Some(p.Dropped)), "  "+l.Dim.Render(p.Text))
		} else {
			row = append(row, unused.Render(never), l.Slate.Render(look.Some(p.Evicted)))
		}
		return row
	}
	out = append(out, m.rows.Draw(l, from+len(out), width, room, columns, at, len(list), row)...)
	if len(list) == 0 {
		out = append(out, l.Dim.Render("  Nothing has been cached yet."))
	}
	return out
}

// hour draws what became of results over the last hour.
func (m *Model) hour(l *look.Look, width int) []string {
	row := func(label string, style interface{ Render(...string) string }, of func(*control.StockStep) uint64) minutes.Row {
		return minutes.Row{Label: label, Style: style, Values: minutes.Of(m.stock.Hour, func(s *control.StockStep) float64 { return float64(of(s)) }), Most: minutes.Count}
	}
	rows := []minutes.Row{
		row("evicted", l.Slate, func(s *control.StockStep) uint64 { return s.Evicted }),
		row("expired", l.Cream, func(s *control.StockStep) uint64 { return s.Expired }),
		row("dropped", l.Plum, func(s *control.StockStep) uint64 { return s.Dropped }),
		row("unused", l.Brick, func(s *control.StockStep) uint64 { return s.Unused }),
		{Label: "bytes", Style: l.Honey, Values: minutes.Of(m.stock.Hour, func(s *control.StockStep) float64 { return float64(s.Bytes) }), Most: func(x float64) string { return look.Bytes(int64(x)) }},
	}
	return minutes.Rows(l, rows, width)
}

// below draws how old results are, and beside that what more memory would give, or less.
func (m *Model) below(l *look.Look, width, height int) []string {
	if width < 100 {
		return m.more(l, width, height)
	}
	half := width*2/5 - 1
	ages, curve := m.ages(l), m.more(l, width-half-2, height)
	if hour := m.hour(l, width-half-2); len(curve)+len(hour)+1 <= height && hour != nil {
		curve = append(append(curve, l.Rule("what became of results", width-half-2)), hour...)
	}
	left := append([]string{l.Rule("age of results", half)}, ages...)
	left = append(left, m.shares(l)...)
	left = append(left, m.selected(l, half)...)
	rows := min(max(len(left), len(curve)), height)
	var out []string
	for i := range rows {
		a, b := "", ""
		if i < len(left) {
			a = left[i]
		}
		if i < len(curve) {
			b = curve[i]
		}
		out = append(out, look.Left(a, half)+"  "+look.Left(b, width-half-2))
	}
	return out
}

func (m *Model) ages(l *look.Look) (out []string) {
	most := 1.0
	for _, b := range m.stock.Ages {
		most = max(most, b.Bytes)
	}
	for _, b := range m.stock.Ages {
		name := "older"
		if b.UpTo > 0 {
			name = "up to " + age(time.Duration(b.UpTo)*time.Millisecond)
		}
		if b.Results == 0 {
			out = append(out, l.Dim.Render(look.Right(name, 12)+"  –"))
			continue
		}
		const cells = 16
		n := max(int(math.Round(b.Bytes/most*cells)), 1)
		fresh := min(int(math.Round(b.UnusedBytes/most*cells)), n)
		line := l.Dim.Render(look.Right(name, 12)) + "  " + l.Honey.Render(strings.Repeat(string(look.TextureSaved), n-fresh)+strings.Repeat(string(look.TextureCould), fresh)) + strings.Repeat(" ", cells-n) +
			l.Cream.Render(look.Right(look.Count(uint64(b.Results)), 7))
		if b.Unused >= 0.5 {
			line += l.Dim.Render(fmt.Sprintf("  %s not used yet", look.Count(uint64(b.Unused+0.5))))
		}
		out = append(out, line)
	}
	return out
}

func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h", d.Hours())
}

// shares draws the rules that have memory to themselves.
func (m *Model) shares(l *look.Look) (out []string) {
	for _, s := range m.stock.Shares {
		out = append(out, l.Dim.Render(" rule ")+l.Cream.Render(s.Rule)+l.Dim.Render(" has reserved ")+l.Honey.Render(fmt.Sprintf("%s of %s", look.Bytes(s.Bytes), look.Bytes(s.Limit))))
	}
	return out
}

// selected says in words what is to be known of the selected pattern.
func (m *Model) selected(l *look.Look, width int) (out []string) {
	p := m.Selected()
	if p == nil {
		return nil
	}
	out = append(out, l.Rule(p.ID, width))
	say := func(format string, args ...any) {
		for _, line := range look.Wrap(fmt.Sprintf(format, args...), width-1) {
			out = append(out, " "+l.Cream.Render(line))
		}
	}
	if p.Results > 0 {
		say("A result uses %s; each MiB gave %.0f hits in the last minute.", look.Bytes(p.Bytes/int64(p.Results)), worth(p))
	}
	if p.Stored > 0 {
		say("%s results were cached in all: %s were never used.", look.Count(p.Stored), look.Count(p.Unused))
	}
	if p.TooLarge > 0 {
		say("%s results were too large to be cached, up to %s; the limit for one result is %s.", look.Count(p.TooLarge), look.Bytes(p.Largest), look.Bytes(m.stock.Largest))
	}
	return out
}

// more draws the hits to be expected at each size of memory; where there is little room, at those about the present
// one.
func (m *Model) more(l *look.Look, width, height int) []string {
	out := []string{l.Rule("hit rate at other sizes", width)}
	switch {
	case m.making:
		return append(out, " "+l.Dim.Render(fmt.Sprintf("replaying recent traffic: %.0f%%", 100*m.done)))
	case m.problem != "":
		return append(out, " "+l.Brick.Render("! ")+l.Cream.Render(look.Cut(m.problem, width-4)))
	case m.curve == nil:
		return append(out, " "+l.Dim.Render("no forecast yet: ")+l.Key(KeyCurve, "does"))
	case m.curve.Calls == 0:
		return append(out, " "+l.Dim.Render("No rule caches any recent statement."))
	}
	rule := ""
	if p := m.Selected(); p != nil && len(m.curve.Points[0].Rules) > 1 {
		rule = p.Rule
	}
	plot := max(width-46, 8)
	if rule != "" && width >= 80 {
		plot = max(width-46-8, 8)
		out = append(out, l.Dim.Render(look.Right("all rules, and "+rule, plot+13+6+8)))
		height--
	} else {
		rule = ""
	}
	now, at := 0.0, 0
	for i, p := range m.curve.Points {
		if p.Present {
			now, at = p.Saved, i
		}
	}
	list := m.curve.Points
	if room := max(height-2, 1); len(list) > room {
		first := min(max(at-room/2, 0), len(list)-room)
		list = list[first : first+room]
	}
	for i := range list {
		out = append(out, m.point(l, &list[i], plot, now, rule))
	}
	line := fmt.Sprintf(" of the %.0f calls a minute that rules match, from the last %s", m.curve.Calls, span(m.curve.Span))
	return append(out, l.Dim.Render(look.Cut(line, width)))
}

func (m *Model) point(l *look.Look, p *control.MemoryPoint, plot int, now float64, rule string) string {
	n := int(math.Round(p.Share * float64(plot)))
	name, bar := l.Dim, l.Slate
	if p.Present {
		name, bar = l.Strong, l.Honey
	}
	texture := string(look.TextureCould)
	if p.Present {
		texture = string(look.TextureSaved)
	}
	line := name.Render(look.Right(look.Bytes(p.Limit), 11)) + "  " + bar.Render(strings.Repeat(texture, n)) + strings.Repeat(" ", plot-n) + l.Honey.Render(fmt.Sprintf(" %4.1f%%", 100*p.Share))
	if rule != "" {
		line += l.Honey.Render(fmt.Sprintf("  %5.1f%%", 100*p.Rules[rule]))
	}
	switch {
	case p.Present:
		line += l.Strong.Render("  now") + l.Dim.Render(fmt.Sprintf(": %s a minute", strings.TrimSpace(look.Seconds(p.Saved))))
	default:
		line += l.Dim.Render(fmt.Sprintf("  %+.2f s a minute", (p.Saved-now)/1000))
	}
	if p.Full {
		line += l.Plum.Render(" full")
	}
	return line
}

func span(ms float64) string {
	d := time.Duration(ms) * time.Millisecond
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f seconds", d.Seconds())
	}
	return fmt.Sprintf("%.0f minutes", d.Minutes())
}
