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
	Enter    = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "details"))
	Back     = key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "back"))
)

// page is how many lines a page is.
const page = 10

// First gives the first line of a list that is shown where there is room for so many, so that one of them is among
// them.
func First(at, room int) int { return max(at-room+1, 0) }

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
	}
	return 0
}
