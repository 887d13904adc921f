package moving

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
)

// Each key goes so far, to the ends of whatever list there is, and other keys go nowhere.
func TestHowFarKeysMove(t *testing.T) {
	at := func(from, length int, k tea.KeyPressMsg) int { return min(max(from+By(k), 0), length-1) }
	for code, want := range map[rune]int{tea.KeyUp: 49, tea.KeyDown: 51, tea.KeyPgUp: 40, tea.KeyPgDown: 60, tea.KeyHome: 0, tea.KeyEnd: 99_999, tea.KeyTab: 50} {
		assert.Equal(t, want, at(50, 100_000, tea.KeyPressMsg{Code: code}), "%v", code)
	}
}

// The wheel moves like the arrows, one at a time; sideways it does nothing.
func TestTheWheelMovesLikeTheArrows(t *testing.T) {
	for button, want := range map[tea.MouseButton]int{tea.MouseWheelUp: -1, tea.MouseWheelDown: 1} {
		k, ok := Wheel(tea.MouseWheelMsg{Button: button})
		assert.True(t, ok)
		assert.Equal(t, want, By(k))
	}
	_, ok := Wheel(tea.MouseWheelMsg{Button: tea.MouseWheelLeft})
	assert.False(t, ok)
}

// The selected line is always among those that are shown.
func TestTheSelectedLineIsShown(t *testing.T) {
	for room := 1; room < 8; room++ {
		for at := range 30 {
			first := First(at, room)
			assert.LessOrEqual(t, first, at)
			assert.Less(t, at, first+room)
		}
	}
}
