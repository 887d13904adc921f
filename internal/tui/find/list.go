package find

import (
	"fmt"
	"math"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

func (m *Model) ranking(l *look.Look, width, height int) []string {
	order, reversed := m.ordered()
	says := orders[order].says
	if reversed {
		says += ", the other way round"
	}
	title := fmt.Sprintf("%d patterns by %s, last minute", m.list.All, says)
	if m.Filter != "" {
		title = fmt.Sprintf("%d of %d patterns with “%s”, by %s", m.list.Matching, m.list.All, m.Filter, says)
	}
	if m.list.Rare > 0 {
		title += fmt.Sprintf(" · %d rare patterns summed", m.list.Rare)
	}
	right := func(title string, width int) look.Column { return look.Column{Title: title, Width: width, Right: true} }
	columns := []look.Column{{Width: 2}, right("saveable", 9), {Width: 14}, right("calls", 6), right("origin", 8), right("memory", 8), right("hit rate", 13), {Width: 3}, {Title: "decision, or advice", Width: 21}, {Title: "statement"}}
	if width < roomy {
		columns = []look.Column{{Width: 2}, right("saveable", 9), {Width: 10}, right("calls", 6), right("hit rate", 9), {Width: 2}, {Width: 2}, {Title: "statement"}}
	}
	out := []string{l.Rule(title, width)}
	room := height - len(out) - 2
	at := max(m.index(), 0)
	var most float64
	for i := range m.list.Patterns {
		most = max(most, m.list.Patterns[i].Saveable())
	}
	out = append(out, m.rows.Draw(l, len(out), width, room, columns, at, len(m.list.Patterns), func(i int) []string {
		return m.row(l, &m.list.Patterns[i], most, width)
	})...)
	if m.list.Matching == 0 {
		out = append(out, l.Dim.Render("  No pattern matches the filter. ")+l.Key(moving.Back, "clears it."))
	}
	return look.Block(out, width, height)
}

// roomy is the width from which all columns are shown.
const roomy = 110

// row gives the cells of one pattern in the list.
func (m *Model) row(l *look.Look, p *control.Pattern, most float64, width int) []string {
	barWidth := 12
	if width < roomy {
		barWidth = 8
	}
	bar := strings.Repeat(" ", barWidth)
	if most > 0 && p.Saveable() > 0 {
		n := max(int(math.Round(p.Saveable()/most*float64(barWidth))), 1)
		bar = look.Ribbon(n, look.Stretch{Value: p.Minute.Saved, Texture: look.TextureSaved, Style: l.Honey},
			look.Stretch{Value: p.Saveable() - p.Minute.Saved, Texture: look.TextureCould, Style: l.Slate}) + strings.Repeat(" ", barWidth-n)
		if n == 1 {
			style, texture := l.Slate, look.TextureCould
			if p.Minute.Saved > p.Saveable()/2 {
				style, texture = l.Honey, look.TextureSaved
			}
			bar = style.Render(string(texture)) + strings.Repeat(" ", barWidth-1)
		}
	}
	mark, text := "  ", l.Cream
	if p.ID == m.selected {
		mark, text = l.Honey.Render("▌"), l.Strong
	}
	var origin, memory float64
	if p.Origin != nil {
		origin = p.Origin.P50
	}
	if p.Memory != nil {
		memory = p.Memory.P50
	}
	calls := p.Minute.Calls()
	saveable, count := text.Render(look.Seconds(p.Saveable())), text.Render(look.Count(calls))
	decision := decide(l, p)
	if m.Drafted != nil {
		if r := m.Drafted(p.ID); r != nil {
			decision = l.Moss.Render("± draft: " + strings.TrimSpace(r.Action+" "+map[bool]string{true: r.TTL}[r.Action == "cache"]))
		}
	}
	if width < roomy {
		return []string{mark, saveable, " " + bar, count, l.Honey.Render(look.Share(float64(p.Minute.Hits), float64(calls))), "", look.Cut(decision, 1), text.Render(p.Text)}
	}
	share := ""
	if p.Rule != nil && (p.Rule.Action != "advised" || p.Minute.Hits > 0) && calls > 0 {
		n := int(math.Round(float64(p.Minute.Hits) / float64(calls) * 6))
		share = l.Honey.Render(strings.Repeat("◆", n)) + l.Dim.Render(strings.Repeat("◇", 6-n)) + " "
	}
	if p.Rule != nil || p.Minute.Hits > 0 {
		share += look.Share(float64(p.Minute.Hits), float64(calls))
	} else {
		share = "–"
	}
	return []string{mark, saveable, " " + bar, count, l.Slate.Render(look.Millis(origin)), l.Honey.Render(look.Millis(memory)), share, "", decision, text.Render(p.Text)}
}

// decide says in a few cells what has been decided, or what is advised.
func decide(l *look.Look, p *control.Pattern) string {
	switch {
	case p.Rule != nil && p.Rule.Chosen:
		return l.Honey.Render("◆ chosen " + p.Rule.TTL)
	case p.Rule != nil && p.Rule.Action == "cache":
		some := ""
		if p.Rule.When != nil {
			some = " some"
		}
		return l.Honey.Render("◆ cache " + p.Rule.TTL + some)
	case p.Rule != nil && p.Rule.Action != "advised":
		return l.Dim.Render("■ never")
	}
	style, glyph, word := advised(l, p.Advice)
	return style(glyph + " " + word)
}

type render = func(...string) string

// advised gives how an advice is drawn: its style, its glyph and a word.
func advised(l *look.Look, a *control.Advice) (style render, glyph, word string) {
	if a == nil {
		return l.Dim.Render, " ", ""
	}
	switch a.Kind {
	case "cache":
		return l.Moss.Render, "○", "cache " + a.TTL + "?"
	case "watch longer":
		return l.Slate.Render, "…", "watch on"
	case "not worth it":
		return l.Dim.Render, "·", "not worth it"
	case "not possible":
		return l.Dim.Render, "×", "cannot be"
	}
	return l.Honey.Render, "◆", "decided"
}
