package find

import (
	"fmt"
	"math"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/minutes"
	"jollylarder/internal/tui/moving"
)

// summary draws the selected pattern beside the list.
func (m *Model) summary(l *look.Look, width, height int) []string {
	p := m.Selected()
	if p == nil {
		return look.Block(nil, width, height)
	}
	out := []string{l.Rule(p.ID, width)}
	out = append(out, sentence(l, p, width)...)
	if height < 12 || width < 90 {
		for _, s := range l.SQL(p.Text, width-2) {
			out = append(out, " "+s)
		}
		return look.Block(out, width, height)
	}
	out = append(out, "")
	leftWidth := width * 11 / 20
	left := append(l.SQL(p.Text, leftWidth-2), "")
	if room := height - len(out) - 9; len(left) > room && room > 3 {
		left = append(left[:room-1], l.Dim.Render("         … ")+l.Key(moving.Enter, "shows details"))
	}
	left = append(left, grounds(l, p, leftWidth-2, 3)...)
	left = append(left, reach(l, p, leftWidth-2)...)
	left = append(append(left, ""), callers(l, p, leftWidth-2)...)
	right := append(m.times(l, p, width-leftWidth-2, true), "")
	right = append(right, curve(l, p, width-leftWidth-2)...)
	right = append(append(right, ""), minutes.Draw(l, p.Hour, width-leftWidth-2)...)
	return look.Block(append(out, beside(left, right, leftWidth, width, height-len(out))...), width, height)
}

// laidOut draws the selected pattern on the whole station.
func (m *Model) laidOut(l *look.Look, width, height int) []string {
	p := m.Selected()
	if p == nil {
		return []string{l.Rule(m.selected, width), "", l.Dim.Render("  It is not known any more.")}
	}
	top := []string{l.Rule(p.ID+" · "+p.Verb, width)}
	top = append(top, sentence(l, p, width)...)
	var out []string
	if width < 90 {
		out = append(out, grounds(l, p, width-2, 9)...)
		out = append(append(out, ""), l.SQL(p.Text, width-2)...)
		out = append(append(out, ""), reach(l, p, width-2)...)
		out = append(append(out, ""), curve(l, p, width-2)...)
		out = append(append(out, ""), m.times(l, p, width-2, false)...)
		out = append(append(out, ""), minutes.Draw(l, p.Hour, width-2)...)
		out = append(append(out, ""), callers(l, p, width-2)...)
	} else {
		leftWidth := width * 11 / 20
		left := append([]string{""}, l.SQL(p.Text, leftWidth-2)...)
		left = append(append(left, ""), grounds(l, p, leftWidth-2, 9)...)
		left = append(append(left, ""), reach(l, p, leftWidth-2)...)
		left = append(append(left, ""), callers(l, p, leftWidth-2)...)
		right := append([]string{""}, curve(l, p, width-leftWidth-2)...)
		right = append(append(right, ""), results(l, p, width-leftWidth-2)...)
		right = append(append(right, ""), m.times(l, p, width-leftWidth-2, false)...)
		right = append(append(right, ""), minutes.Draw(l, p.Hour, width-leftWidth-2)...)
		out = append(out, beside(left, right, leftWidth, width, max(len(left), len(right)))...)
	}
	if plan := m.planLines(l, width); plan != nil {
		out = append(append(out, ""), plan...)
	}
	out = append(append(out, ""), m.recently(l, width)...)
	room := height - len(top)
	m.from = min(m.from, max(len(out)-room, 0))
	more := len(out)-m.from > room
	if out = look.Window(out, m.from, width, room); more && room > 0 {
		out[room-1] = l.Dim.Render(look.Right("↓ more", width-1))
	}
	return look.Block(append(top, out...), width, height)
}

// beside puts two columns beside each other.
func beside(left, right []string, leftWidth, width, height int) []string {
	left, right = look.Block(left, leftWidth, height), look.Block(right, width-leftWidth-2, height)
	out := make([]string, height)
	for i := range out {
		out[i] = left[i] + "  " + right[i]
	}
	return out
}

// sentence draws the advice.
func sentence(l *look.Look, p *control.Pattern, width int) (out []string) {
	if p.Advice == nil {
		return nil
	}
	style, glyph, _ := advised(l, p.Advice)
	says := p.Advice.Sentence
	if p.Rule != nil && p.NotChosen != "" {
		says += " The larder has not chosen it within " + p.Rule.Name + ": " + p.NotChosen
	}
	for i, s := range look.Wrap(says, width-5) {
		mark := "    "
		if i == 0 {
			mark = "  " + style(glyph) + " "
		}
		out = append(out, mark+l.Cream.Render(s))
	}
	return out
}

// labelled draws lines with a label before the first, as wide as the SQL's clauses.
func labelled(l *look.Look, label string, lines []string) (out []string) {
	for i, s := range lines {
		if i > 0 {
			label = ""
		}
		out = append(out, l.Dim.Render(look.Right(label, 8))+" "+s)
	}
	return out
}

// grounds draws what speaks for and against the advice, and what would change it.
func grounds(l *look.Look, p *control.Pattern, width, most int) (out []string) {
	if p.Advice == nil {
		return nil
	}
	for _, g := range []struct {
		label string
		list  []string
		style render
	}{{"for", p.Advice.For, l.Moss.Render}, {"against", p.Advice.Against, l.Plum.Render}, {"could", p.Advice.Could, l.Slate.Render}} {
		var lines []string
		for i, s := range g.list {
			if i == most {
				break
			}
			for j, part := range look.Wrap(s, width-13) {
				mark := "  "
				if j == 0 {
					mark = g.style(map[string]string{"for": "+", "against": "−", "could": "›"}[g.label]) + " "
				}
				lines = append(lines, mark+l.Cream.Render(part))
			}
		}
		out = append(out, labelled(l, g.label, lines)...)
	}
	return out
}

// callers draws who sends the pattern, and why its statements passed.
func callers(l *look.Look, p *control.Pattern, width int) (out []string) {
	var lines []string
	for _, c := range p.Callers {
		who := c.Application
		if c.User != "" {
			who += l.Dim.Render(" as " + c.User + " in " + c.Database)
		}
		lines = append(lines, l.Cream.Render(look.Right(look.Count(c.Calls)+" × ", 10))+who)
	}
	out = append(out, labelled(l, "callers", lines)...)
	out = append(out, labelled(l, "calls", passed(l, p.Lately, width))...)
	if p.Cached > 0 {
		out = append(out, labelled(l, "cached", []string{l.Honey.Render(fmt.Sprintf("%s, %s", look.Number(float64(p.Cached), "result"), look.Bytes(p.CachedBytes)))})...)
	}
	return out
}

// passed draws which share of the calls of the last hour passed, why, and what would make hits of them.
func passed(l *look.Look, lately *control.Lately, width int) (lines []string) {
	if lately == nil || lately.Calls == 0 {
		return nil
	}
	since := "since it was first seen"
	if lately.Span > 0 {
		since = "in the last " + strings.TrimPrefix(look.Number(math.Round(max(lately.Span/60_000, 1)), "minute"), "1 ")
	}
	share := func(n uint64) string { return look.Share(float64(n), float64(lately.Calls)) }
	lines = append(lines, l.Cream.Render(fmt.Sprintf("%s of %s calls %s were hits, %s misses", strings.TrimSpace(share(lately.Hits)), look.Count(lately.Calls), since, strings.TrimSpace(share(lately.Misses)))))
	for i, r := range lately.Bypassed {
		if i == 4 {
			break
		}
		for j, part := range look.Wrap(r.Reason, width-18) {
			head := strings.Repeat(" ", 13)
			if j == 0 {
				head = look.Right(look.Share(r.Share, 1), 4) + " bypass: "
			}
			lines = append(lines, l.Cream.Render(head+part))
		}
		if r.Would != "" {
			for j, part := range look.Wrap(r.Would, width-20) {
				head := strings.Repeat(" ", 15)
				if j == 0 {
					head = strings.Repeat(" ", 13) + l.Slate.Render("›") + " "
				}
				lines = append(lines, head+l.Dim.Render(part))
			}
		}
	}
	return lines
}

// planLines draws how the database runs the pattern's statements, if that was asked for.
func (m *Model) planLines(l *look.Look, width int) []string {
	p := m.Plan()
	if p == nil {
		return nil
	}
	out := []string{l.Rule(fmt.Sprintf("its plan in %s as %s, whatever the values are", p.Database, p.User), width)}
	for _, line := range p.Lines {
		out = append(out, look.Cut("  "+l.Cream.Render(line), width))
	}
	return out
}

// recently draws the pattern's last statements.
func (m *Model) recently(l *look.Look, width int) []string {
	out := []string{l.Rule("its last statements, the newest first", width)}
	if len(m.recent) == 0 {
		return append(out, l.Dim.Render("  None since you selected it."))
	}
	for i := len(m.recent) - 1; i >= 0 && len(out) < 12; i-- {
		e := &m.recent[i]
		style, glyph := l.Outcome(e.Outcome)
		line := "  " + style.Render(look.Left(glyph+" "+e.Outcome, 10)) + l.Dim.Render(e.At.Local().Format("15:04:05.000")) + "  " + style.Render(look.Millis(e.Took)) +
			l.Dim.Render(look.Right(fmt.Sprint(e.Rows), 6)+" rows  ") + l.Cream.Render(look.Left(e.Application, 14))
		if e.Failed {
			line += l.Brick.Render(" ! failed")
		}
		switch {
		case e.Statement != "":
			line += " " + l.Cream.Render(e.Statement)
			if len(e.Values) > 0 {
				line += l.Cream.Render("  ← " + strings.Join(e.Values, ", "))
			}
		case e.Reason != "":
			line += " " + l.Dim.Render(e.Reason)
		case e.Outcome == "hit":
			line += " " + l.Dim.Render(fmt.Sprintf("%s old", strings.TrimSpace(look.Millis(e.Age))))
		}
		out = append(out, look.Cut(line, width))
	}
	return out
}
