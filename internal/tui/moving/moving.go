// Package moving holds the keys by which one goes through a list, and into what is in it and back.
package moving

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// The keys.
var (
	Up       = key.NewBinding(key.WithKeys("up"), key.WithHelp("↑", "the one above"))
	Down     = key.NewBinding(key.WithKeys("down"), key.WithHelp("↓", "the one below"))
	PageUp   = key.NewBinding(key.WithKeys("pgup"), key.WithHelp("pgup", "a page up"))
	PageDown = key.NewBinding(key.WithKeys("pgdown"), key.WithHelp("pgdn", "a page down"))
	Home     = key.NewBinding(key.WithKeys("home"), key.WithHelp("home", "the first"))
	End      = key.NewBinding(key.WithKeys("end"), key.WithHelp("end", "the last"))
	Enter    = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "details"))
	Back     = key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "back"))
)

// page is how many lines a page is.
const page = 10

// whole is more lines than any list has.
const whole = 1 << 20

// First gives the first line of a list that is shown where there is room for so many, so that one of them is among
// them.
func First(at, room int) int { return max(at-room+1, 0) }

// Wheel gives the key that a turn of the mouse's wheel stands for.
func Wheel(m tea.MouseWheelMsg) (tea.KeyPressMsg, bool) {
	switch m.Button {
	case tea.MouseWheelUp:
		return tea.KeyPressMsg{Code: tea.KeyUp}, true
	case tea.MouseWheelDown:
		return tea.KeyPressMsg{Code: tea.KeyDown}, true
	}
	return tea.KeyPressMsg{}, false
}

// By gives by how many places a key moves, up if it is negative; 0 if it is none of these.
func By(k tea.KeyPressMsg) int {
	switch {
	case key.Matches(k, Up):
		return -1
	case key.Matches(k, Down):
		return 1
	case key.Matches(k, PageUp):
		return -page
	case key.Matches(k, PageDown):
		return page
	case key.Matches(k, Home):
		return -whole
	case key.Matches(k, End):
		return whole
	}
	return 0
}
