// Package dialog asks before anything changes what traffic gets, and shows what will change.
package dialog

import (
	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
)

// Dialog is one question. Update says whether it is over; Do is what the answer asks for, or nil.
type Dialog interface {
	Update(tea.KeyPressMsg) (over bool, do tea.Cmd)
	View(l *look.Look, width, height int) []string
	Keys() []key.Binding
}

// Refusable is a dialog that is shown again, as it was left, when what was asked for is refused.
type Refusable interface {
	Dialog
	// Refuse shows why.
	Refuse(why string)
}

// LineError is what is wrong with one line of a form.
type LineError struct {
	Name string
	Err  error
}

func (e *LineError) Error() string { return e.Name + ": " + e.Err.Error() }

// Unwrap gives what is wrong.
func (e *LineError) Unwrap() error { return e.Err }

var (
	keyApply = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "confirm"))
	keyBack  = key.NewBinding(key.WithKeys("esc", "q"), key.WithHelp("esc", "cancel"))
)

// Sure asks whether to do one thing.
type Sure struct {
	Title string
	Says  []string
	Do    tea.Cmd
}

// Keys are the keys that work in the question.
func (s *Sure) Keys() []key.Binding { return []key.Binding{keyApply, keyBack} }

// Update takes a key.
func (s *Sure) Update(m tea.KeyPressMsg) (bool, tea.Cmd) {
	switch {
	case key.Matches(m, keyApply):
		return true, s.Do
	case key.Matches(m, keyBack):
		return true, nil
	}
	return false, nil
}

// View shows the question.
func (s *Sure) View(l *look.Look, width, _ int) []string {
	out := []string{l.Rule(s.Title, width), ""}
	for _, t := range s.Says {
		for _, part := range look.Wrap(t, width-4) {
			out = append(out, "  "+l.Cream.Render(part))
		}
	}
	return append(out, "")
}
