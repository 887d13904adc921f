package tui

import (
	"strings"
	"testing"

	"jollylarder/internal/control"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

// A click on a station's name in the rail goes to it, wide or narrow; a click elsewhere goes nowhere.
func TestAClickGoesToAStation(t *testing.T) {
	for _, width := range []int{80, 120} {
		a := shown(t, width, 40)
		for _, st := range a.stations {
			row := -1
			for i, line := range strings.Split(a.View().Content, "\n") {
				if at := strings.Index(ansi.Strip(line), a.keyTo(st).Help().Key); i >= bandHeight && at >= 0 && at < 5 {
					row = i
					break
				}
			}
			assert.GreaterOrEqual(t, row, 0, st.Name())
			a.Update(tea.MouseClickMsg{X: 1, Y: row, Button: tea.MouseLeft})
			assert.Equal(t, st.Name(), a.at.Name(), "at width %d", width)
			for _, m := range []tea.MouseClickMsg{{X: a.railWidth() + 5, Y: bandHeight, Button: tea.MouseLeft}, {X: 1, Y: 1, Button: tea.MouseLeft}, {X: 1, Y: 39, Button: tea.MouseLeft}, {X: 1, Y: bandHeight, Button: tea.MouseRight}} {
				a.Update(m)
				assert.Equal(t, st.Name(), a.at.Name(), "%v", m)
			}
		}
	}
}

// While a filter is written, a click neither leaves the station nor writes into the filter.
func TestAClickLeavesAFilterAlone(t *testing.T) {
	a := shown(t, 120, 40)
	a.goTo(a.find)
	a.Update(tea.KeyPressMsg{Code: '/', Text: "/"})
	a.Update(tea.KeyPressMsg{Code: 'x', Text: "x"})
	a.Update(tea.MouseClickMsg{X: 1, Y: bandHeight + 4, Button: tea.MouseLeft})
	assert.Equal(t, "Find", a.at.Name())
	a.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Equal(t, "x", a.filtered().Filtered())
}

// A click on a line of a list selects what stands there, and one on the head of a column sorts by it.
func TestAClickInAList(t *testing.T) {
	a := shown(t, 160, 45)
	a.goTo(a.find)
	a.find.SetPatterns(control.PatternList{All: 2, Matching: 2, Patterns: []control.Pattern{{ID: "bado-kife-ruma", Text: "select * from fares"}, {ID: "lomu-vike-sano", Text: "select now()"}}})
	click := func(text string) {
		for y, line := range strings.Split(a.View().Content, "\n") {
			plain := ansi.Strip(line)
			if at := strings.LastIndex(plain, text); at >= 0 && y >= bandHeight {
				a.Update(tea.MouseClickMsg{X: ansi.StringWidth(plain[:at]), Y: y, Button: tea.MouseLeft})
				return
			}
		}
		assert.Fail(t, "nothing to click on", text)
	}
	click("select now()")
	assert.Equal(t, "lomu-vike-sano", a.find.SelectedID())
	click("calls ")
	order, reversed := a.find.Order()
	assert.Equal(t, []any{"calls", false}, []any{order, reversed})
	click("calls▾")
	_, reversed = a.find.Order()
	assert.True(t, reversed)

	a.goTo(a.guard)
	a.Update(guardMsg{guard: control.Guard{Tables: []control.GuardedTable{{Table: control.Table{Name: "public.fares", Minute: 9}}, {Table: control.Table{Name: "public.ports", Drops: 4}}}}})
	click("ports ")
	assert.Equal(t, "public.ports", a.guard.Selected().Name)
	click("dropped")
	assert.Contains(t, ansi.Strip(a.View().Content), "dropped▾")

	a.goTo(a.decide)
	a.Update(booksMsg{draft: control.Draft{Rules: []control.Rule{{Name: "fares", Action: "cache", TTL: "30s"}, {Name: "ports", Action: "bypass"}}}})
	click("ports")
	assert.Equal(t, "ports", a.decide.Selected().Name)
	a.help = true
	a.Update(tea.MouseClickMsg{X: 30, Y: bandHeight + 2, Button: tea.MouseLeft})
	assert.Equal(t, "ports", a.decide.Selected().Name, "help covers the list")
}
