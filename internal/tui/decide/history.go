package decide

import (
	"fmt"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// kinds are how the kinds of entries are drawn.
var kinds = map[string]string{"apply": "applied", "undo": "undone", "redo": "redone", "file": "from the file", "start": "at the start", "choice": "chosen"}

// entries draws the history.
func (m *Model) entries(l *look.Look, width, height int) []string {
	out := []string{l.Rule("history of the rules, the latest first"+m.forgetful(), width)}
	if len(m.history) == 0 {
		return append(out, "", l.Dim.Render("  Nothing was changed yet."), "")
	}
	room := height - 2
	at := 0
	for i := range m.history {
		if m.history[i].ID == m.entry {
			at = i
		}
	}
	first := moving.First(at, room)
	m.drawn = drawn{len(out), first, min(max(len(m.history)-first, 0), room)}
	for i := first; i < len(m.history) && i < first+room; i++ {
		out = append(out, m.entryRow(l, &m.history[i], m.history[i].ID == m.entry, width))
	}
	return append(out, "")
}

// forgetful says that the history ends with the larder, if it does.
func (m *Model) forgetful() string {
	if m.status.Forgetful {
		return " · lost when the larder stops: it was started without --state"
	}
	return ""
}

// lately draws the last entries under the rules.
func (m *Model) lately(l *look.Look, width, height int) []string {
	out := []string{l.Rule("lately"+m.forgetful(), width)}
	for i := range m.history {
		if len(out) == height {
			break
		}
		out = append(out, m.entryRow(l, &m.history[i], false, width))
	}
	if len(m.history) == 0 {
		out = append(out, l.Dim.Render("  Nothing was changed yet."))
	}
	return out
}

func (m *Model) entryRow(l *look.Look, e *control.Entry, selected bool, width int) string {
	bar, text := "  ", l.Cream
	if selected {
		bar, text = l.Honey.Render("▌ "), l.Strong
	}
	when := e.At.Local().Format("02 Jan 15:04:05")
	if time.Since(e.At) > 300*24*time.Hour {
		when = e.At.Local().Format("2006-01-02 15:04")
	}
	number, kind := fmt.Sprint(e.ID), kinds[e.Kind]
	if e.Choice != nil { // no undo goes to it
		number, kind = "", e.Choice.Kind
	}
	line := bar + l.Dim.Render(fmt.Sprintf("%4s  %-16s  ", number, when)) + l.Slate.Render(look.Left(kind, 14)) + text.Render(look.Left(e.Who, 14)) + " "
	if width >= 100 {
		line += l.Honey.Render(look.Left(came(e), 26)) + " "
	}
	why := e.Why
	if e.Choice != nil {
		why = e.Choice.Text + " · " + why
	}
	return look.Cut(line+text.Render(why), width)
}

// came says in a few cells what was foretold of an entry and what came true.
func came(e *control.Entry) string {
	share := func(part float64) string { return fmt.Sprintf("%.0f%%", 100*part) }
	if c := e.Choice; c != nil {
		return cameOfChoice(c)
	}
	measured := e.Day
	if !measured.Some() {
		measured = e.Hour
	}
	switch {
	case !measured.Some() && e.Forecast == nil:
		return ""
	case !measured.Some():
		return "forecast " + share(e.Forecast.Draft.OfAll)
	case e.Forecast == nil:
		return "actual " + share(measured.OfAll)
	}
	return "forecast " + share(e.Forecast.Draft.OfAll) + ", actual " + share(measured.OfAll)
}

// laidOutEntry draws the selected entry: what it changed, and what was foretold of it and came true.
func (m *Model) laidOutEntry(l *look.Look, width, height int) []string {
	e := m.Entry()
	if e == nil {
		return look.Block(nil, width, height)
	}
	if e.Choice != nil {
		return look.Block(m.decision(l, e, width), width, height)
	}
	out := []string{l.Rule(fmt.Sprintf("%d · %s by %s", e.ID, kinds[e.Kind], e.Who), width)}
	if e.Why != "" {
		for _, part := range look.Wrap(e.Why, width-4) {
			out = append(out, "  "+l.Cream.Render(part))
		}
	}
	out = append(out, "")
	for _, c := range e.Changes {
		for i, part := range look.Wrap(c, width-6) {
			sign := "·"
			if i > 0 {
				sign = " "
			}
			out = append(out, "  "+l.Honey.Render(sign)+" "+l.Cream.Render(part))
		}
	}
	if len(e.Changes) == 0 {
		out = append(out, l.Dim.Render("  It changed no rule."))
	}
	columns := m.true(e)
	until := ""
	for _, x := range []*control.Measured{e.Hour, e.Day} {
		switch {
		case x == nil || x.Until == "":
		case !x.Some():
			until = "it was in force for less than a minute before " + x.Until + "; nothing was measured"
		default:
			until = fmt.Sprintf("%d minutes were measured, up to %s", x.Minutes, x.Until)
		}
	}
	if len(columns) > 0 {
		table := m.compare(l, "forecast and actual", columns, width)
		if until != "" {
			table = append(table, l.Dim.Render("  "+until))
		}
		out = out[:min(len(out), max(height-len(table)-1, 1))]
		out = append(append(out, ""), table...)
	}
	return look.Block(out, width, height)
}
