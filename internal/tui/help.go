package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
)

// Help is made from the keys themselves, so that it is never wrong.

// helpLines draws all of it.
func (a *App) helpLines(width int) []string {
	l := a.look
	out := []string{l.Rule("keys", width)}
	for _, g := range a.keys() {
		out = append(out, "", "  "+l.Strong.Render(g.title))
		for _, k := range g.keys {
			out = append(out, "  "+l.Honey.Render(look.Right(k.Help().Key, 8))+"  "+l.Cream.Render(k.Help().Desc))
		}
	}
	out = append(out, "", "  "+l.Strong.Render("signs"))
	if s, ok := a.at.(signed); ok {
		return append(out, s.Signs(l)...)
	}
	for _, s := range []struct{ outcome, says string }{
		{"hit", "hit: answered from memory"},
		{"miss", "miss: fetched from the origin and kept"},
		{"pass", "pass: sent to the origin and not kept, for the reason shown"},
		{"write", "write"},
		{"drop", "drop: a kept result discarded because it may no longer be true"},
	} {
		style, glyph := l.Outcome(s.outcome)
		out = append(out, "  "+style.Render(look.Right(glyph, 8))+"  "+l.Cream.Render(s.says))
	}
	out = append(out, "", "  "+l.Dim.Render("Waiting is the time clients spent waiting for replies, summed over the last minute."))
	f := a.filtered()
	if f == nil {
		return out
	}
	help := a.filterHelp(f)
	if width < 130 { // there is no room beside
		return append(out, help...)
	}
	return beside(out, help, width/2)
}

// filterHelp explains filters.
func (a *App) filterHelp(f filtered) []string {
	l := a.look
	out := []string{"", "  " + l.Strong.Render("a filter on "+f.Filters())}
	for _, x := range f.Fields() {
		how := "= !="
		if x.Number {
			how = "= != < >"
		}
		out = append(out, "  "+l.Honey.Render(look.Right(x.Name, 8))+"  "+l.Dim.Render(look.Left(how, 9))+l.Cream.Render(x.What))
	}
	return append(out, "  "+l.Dim.Render("Terms with blanks between, all of which must hold; a word alone is looked for in the text."))
}

// turnHelp shows more of it, or ends it.
func (a *App) turnHelp(k tea.KeyPressMsg) {
	a.helpFrom += a.bodyHeight() - 1
	if a.helpFrom >= len(a.helpLines(a.mainWidth()))-1 || key.Matches(k, keyBack) {
		a.help, a.helpFrom = false, 0
	}
}

// nextInHelp says which page is shown, and what leads on.
func (a *App) nextInHelp() string {
	l := a.look
	step := a.bodyHeight() - 1
	page, pages := a.helpFrom/step+1, (len(a.helpLines(a.mainWidth()))-2)/step+1
	if page < pages {
		return l.Dim.Render(fmt.Sprintf("page %d of %d: any key shows more, ", page, pages)) + l.Key(keyBack.Help().Key, "closes this")
	}
	return l.Dim.Render(fmt.Sprintf("page %d of %d: any key closes this", page, pages))
}

// beside puts two lists of lines beside each other, the second from a column on.
func beside(left, right []string, column int) []string {
	out := make([]string, max(len(left), len(right)))
	for i := range out {
		if i < len(left) {
			out[i] = left[i]
		}
		if i < len(right) {
			out[i] = look.Left(out[i], column) + right[i]
		}
	}
	return out
}
