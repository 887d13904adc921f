package decide

import (
	"fmt"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// Chosen says whether what the larder has chosen is shown.
func (m *Model) Chosen() bool { return m.chosen }

// ShowChosen shows what the larder has chosen within the selected rule, or the rules again. It shows nothing of a rule that is
// not advised.
func (m *Model) ShowChosen(on bool) {
	r := m.Selected()
	m.chosen = on && r != nil && r.Action == "advised" && !m.record
	m.chooseFirst()
}

// SelectChoice goes to what the larder has chosen of a pattern within a rule.
func (m *Model) SelectChoice(rule, pattern string) {
	m.Select(rule)
	m.chosen, m.choice = true, pattern
}

// chooseFirst selects a choice if none is.
func (m *Model) chooseFirst() {
	list := m.within()
	for i := range list {
		if list[i].Pattern == m.choice {
			return
		}
	}
	if m.choice = ""; len(list) > 0 {
		m.choice = list[0].Pattern
	}
}

// within gives what is chosen within the selected rule, and what rests.
func (m *Model) within() (out []control.Choice) {
	for _, c := range m.choices.Chosen {
		if c.Rule == m.selected {
			out = append(out, c)
		}
	}
	return out
}

// Choice gives the selected choice, or nil.
func (m *Model) Choice() *control.Choice {
	for _, c := range m.within() {
		if c.Pattern == m.choice {
			return &c
		}
	}
	return nil
}

// aMinute writes what is saved in a minute.
func aMinute(r *control.Rate) string {
	if r == nil {
		return "–"
	}
	return seconds(r.Saved) + "/min"
}

// shareOf writes a hit rate.
func shareOf(r *control.Rate) string {
	if r == nil || r.Calls == 0 {
		return "–"
	}
	return fmt.Sprintf("%.0f%%", 100*r.Share())
}

// chosenList draws what is chosen within the selected rule.
func (m *Model) chosenList(l *look.Look, width, height int) []string {
	list := m.within()
	chosen := 0
	for i := range list {
		if list[i].TTL != "" {
			chosen++
		}
	}
	out := []string{l.Rule(fmt.Sprintf("%s: %s chosen by the larder", m.selected, look.Number(float64(chosen), "pattern")), width)}
	if len(list) == 0 {
		return append(out, "", l.Dim.Render("  Nothing is chosen yet: a pattern is observed for a minute or two before it is."), "")
	}
	m.chooseFirst()
	line := "   " + look.Left("does", 22)
	if width >= 100 {
		line += look.Left("since", 10) + look.Left("forecast", 14) + look.Left("actual", 14) + look.Left("hit rate", 10)
	} else {
		line += look.Left("actual", 14)
	}
	out = append(out, look.Cut(l.Dim.Render(line+"statement"), width))
	room := max(height-len(out)-1, 2)
	at := 0
	for i := range list {
		if list[i].Pattern == m.choice {
			at = i
		}
	}
	first := moving.First(at, room)
	m.drawn = drawn{len(out), first, min(max(len(list)-first, 0), room)}
	for i := first; i < len(list) && i < first+room; i++ {
		out = append(out, m.choiceRow(l, &list[i], width))
	}
	return append(out, "")
}

func (m *Model) choiceRow(l *look.Look, c *control.Choice, width int) string {
	bar, text := "   ", l.Cream
	if c.Pattern == m.choice {
		bar, text = l.Honey.Render("▌ ")+" ", l.Strong
	}
	does, style := "◆ cache "+c.TTL, l.Honey
	if c.TTL == "" {
		does, style = "■ back "+c.Until.Local().Format("15:04")+" or later", l.Dim
	}
	line := bar + style.Render(look.Left(does, 22))
	if width >= 100 {
		line += l.Dim.Render(look.Left(when(c.Changed), 10)) + l.Slate.Render(look.Left(aMinute(c.Forecast), 14)) +
			l.Honey.Render(look.Left(aMinute(c.Actual), 14)) + l.Honey.Render(look.Left(shareOf(c.Actual), 10))
	} else {
		line += l.Honey.Render(look.Left(aMinute(c.Actual), 14))
	}
	return look.Cut(line+text.Render(c.Text), width)
}

// when writes a moment: its time of day, or its date if that was long ago.
func when(at time.Time) string {
	if time.Since(at) > 20*time.Hour {
		return at.Local().Format("02 Jan")
	}
	return at.Local().Format("15:04:05")
}

// laidOutChoice draws the selected choice: what it brings, and what was decided about its pattern so far.
func (m *Model) laidOutChoice(l *look.Look, width, height int) []string {
	c := m.Choice()
	if c == nil {
		return look.Block(nil, width, height)
	}
	out := []string{l.Rule(c.Pattern, width)}
	for _, part := range look.Wrap(c.Text, width-4) {
		out = append(out, "  "+l.Strong.Render(part))
	}
	out = append(out, "")
	if c.TTL != "" {
		out = append(out, l.Dim.Render("  "+look.Left("", 14)+look.Left("saved", 16)+look.Left("hit rate", 12)+look.Left("calls", 14)+"memory"))
		row := func(label string, r *control.Rate, style interface{ Render(...string) string }, memory string) {
			if r != nil {
				out = append(out, l.Dim.Render("  "+look.Left(label, 14))+style.Render(look.Left(aMinute(r), 16)+look.Left(shareOf(r), 12)+look.Left(fmt.Sprintf("%.0f/min", r.Calls), 14)+memory))
			}
		}
		if c.Forecast != nil {
			row("forecast", c.Forecast, l.Slate, look.Bytes(int64(c.Forecast.Memory)))
		}
		row("actual", c.Actual, l.Honey, look.Bytes(c.Bytes)+", "+look.Number(float64(c.Cached), "result"))
	} else {
		out = append(out, l.Cream.Render("  It may be chosen again from "+c.Until.Local().Format("15:04")+" on, if it pays by then."))
	}
	out = append(out, "", l.Rule("what the larder decided about it, the latest first", width))
	for i := range m.choices.Lately {
		if e := &m.choices.Lately[i]; e.Choice.Pattern == c.Pattern && e.Choice.Rule == c.Rule {
			out = append(out, m.decisionRow(l, e, width)...)
		}
	}
	return look.Block(out, width, height)
}

// decisionRow draws one decision in a line or two.
func (m *Model) decisionRow(l *look.Look, e *control.Entry, width int) (out []string) {
	c := e.Choice
	head := l.Dim.Render("  "+look.Left(when(e.At), 10)) + l.Slate.Render(look.Left(c.Kind, 12)) + l.Honey.Render(look.Left(strings.Trim(c.Before+" → "+c.After, " →"), 12))
	indent := 36
	for i, part := range look.Wrap(strings.TrimSpace(e.Why+" "+sentence(cameOfChoice(c))), max(width-indent-2, 20)) {
		if i == 0 {
			out = append(out, look.Cut(head+l.Cream.Render(part), width))
		} else {
			out = append(out, look.Cut(strings.Repeat(" ", indent)+l.Cream.Render(part), width))
		}
	}
	return out
}

func sentence(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// cameOfChoice says in a few cells what was foretold of a decision and what came of it.
func cameOfChoice(c *control.ChoiceChange) string {
	switch {
	case c.Kind == choices.Withdrawn || c.Forecast == nil:
		return ""
	case c.Actual == nil:
		return "forecast " + aMinute(c.Forecast)
	}
	return "forecast " + seconds(c.Forecast.Saved) + ", actual " + aMinute(c.Actual)
}

// decision draws a decision of the larder as an entry of the history.
func (m *Model) decision(l *look.Look, e *control.Entry, width int) []string {
	c := e.Choice
	out := []string{l.Rule(fmt.Sprintf("%s within %s by %s", c.Kind, c.Rule, e.Who), width)}
	for _, part := range look.Wrap(e.Why, width-4) {
		out = append(out, "  "+l.Cream.Render(part))
	}
	out = append(out, "")
	for _, part := range look.Wrap(c.Pattern+": "+c.Text, width-4) {
		out = append(out, "  "+l.Dim.Render(part))
	}
	if ttl := strings.Trim(c.Before+" → "+c.After, " →"); ttl != "" {
		out = append(out, "  "+l.Honey.Render("·")+l.Cream.Render(" ttl "+ttl))
	}
	if c.Forecast != nil && c.Kind != choices.Withdrawn {
		out = append(out, "", l.Dim.Render("  forecast  ")+l.Slate.Render(fmt.Sprintf("%s saved, hit rate %s of %.0f calls/min", aMinute(c.Forecast), shareOf(c.Forecast), c.Forecast.Calls)))
	}
	if c.Actual != nil {
		out = append(out, l.Dim.Render("  actual    ")+l.Honey.Render(fmt.Sprintf("%s saved, hit rate %s of %.0f calls/min, in %.0f min", aMinute(c.Actual), shareOf(c.Actual), c.Actual.Calls, c.Actual.Minutes)))
	}
	return out
}
