package tui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// Help is made from the keys themselves, so that it is never wrong.

// keyMove stands for the keys by which help is gone through, as the footer names them.
var keyMove = key.NewBinding(key.WithKeys("up", "down", "pgup", "pgdown"), key.WithHelp("↑ ↓", "more"))

// newHelp gives the page of help, which moves as lists do.
func newHelp() viewport.Model {
	v := viewport.New()
	v.KeyMap = viewport.KeyMap{Up: moving.Up, Down: moving.Down, PageUp: moving.PageUp, PageDown: moving.PageDown}
	v.MouseWheelEnabled = false
	return v
}

// layHelp lays the page out for what is shown, and the room there is.
func (a *App) layHelp() {
	a.page.SetWidth(a.mainWidth())
	a.page.SetHeight(max(a.bodyHeight(), 1))
	a.page.SetContentLines(a.helpLines(a.mainWidth()))
}

// helpLines draws all of it.
func (a *App) helpLines(width int) []string {
	l := a.look
	out := []string{l.Rule("keys", width)}
	for _, g := range a.keys() {
		out = append(out, "", "  "+l.Strong.Render(g.title))
		for line := range strings.SplitSeq(l.KeyList(together(g.keys)), "\n") {
			out = append(out, "    "+line)
		}
	}
	out = append(out, "", "  "+l.Strong.Render("signs"))
	if s, ok := a.at.(signed); ok {
		return append(out, s.Signs(l)...)
	}
	for _, s := range []struct{ outcome, says string }{
		{"hit", "hit: answered from memory"},
		{"miss", "miss: fetched from the database and cached"},
		{"bypass", "bypass: sent to the database and not cached, for the reason shown"},
		{"write", "write"},
		{"drop", "drop: a cached result discarded because a write may have changed it"},
	} {
		style, glyph := l.Outcome(s.outcome)
		out = append(out, "    "+style.Render(look.Left(glyph, 8))+l.Cream.Render(s.says))
	}
	out = append(out, "")
	for _, s := range []string{
		"Waited is the time that clients waited for replies, summed over the last minute.",
		"Could be cached is the time waited at the database for statements whose results can be cached.",
		"Saveable is what a forecast says caching would save of it, and what it saves already.",
	} {
		for _, line := range look.Wrap(s, width-4) {
			out = append(out, "  "+l.Dim.Render(line))
		}
	}
	f := a.filtered()
	if f == nil {
		return out
	}
	help := a.filterHelp(f)
	if width < 130 { // there is no room beside
		return append(out, help...)
	}
	return strings.Split(lipgloss.JoinHorizontal(lipgloss.Top, strings.Join(look.Block(out, width/2, len(out)), "\n"), strings.Join(help, "\n")), "\n")
}

// keyThrough stands for the keys by which one goes through a list, which everybody tries first.
var keyThrough = key.NewBinding(key.WithKeys("up", "down"), key.WithHelp("↑ ↓", "go through the list; also pgup, pgdn, home and end"))

// together gives keys with those by which one goes through a list in one line.
func together(list []key.Binding) (out []key.Binding) {
	through := []key.Binding{moving.Up, moving.Down, moving.PageUp, moving.PageDown, moving.Home, moving.End}
	is := func(k key.Binding) bool {
		return slices.ContainsFunc(through, func(o key.Binding) bool { return slices.Equal(o.Keys(), k.Keys()) })
	}
	if !slices.ContainsFunc(list, func(k key.Binding) bool { return slices.Equal(k.Keys(), moving.PageDown.Keys()) }) {
		return list
	}
	for _, k := range list {
		switch {
		case !is(k):
			out = append(out, k)
		case slices.Equal(k.Keys(), moving.Up.Keys()):
			out = append(out, keyThrough)
		}
	}
	return out
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
	return append(out, "  "+l.Dim.Render("Terms separated by blanks; all must match. A word by itself is searched for in the text."))
}

// pressHelp goes through it; any other key ends it.
func (a *App) pressHelp(k tea.KeyPressMsg) {
	if !key.Matches(k, keyMove) {
		a.help = false
		return
	}
	a.layHelp()
	a.page, _ = a.page.Update(k)
}

// nextInHelp says how much is shown, and what leads on.
func (a *App) nextInHelp() string {
	closes := key.NewBinding(key.WithKeys("esc"), key.WithHelp(keyBack.Help().Key, "closes this"))
	if a.layHelp(); a.page.AtTop() && a.page.AtBottom() {
		return a.look.Keys(closes)
	}
	return a.look.Dim.Render(fmt.Sprintf("%3.0f%%   ", 100*a.page.ScrollPercent())) + a.look.Keys(keyMove, closes)
}
