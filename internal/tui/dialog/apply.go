package dialog

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
)

// Reason asks whether to do one thing, and why: the reason goes into the history.
type Reason struct {
	Title string
	// Says is what will happen, and Changes what will be changed, a line for each.
	Says, Changes []string
	// Foretold, if there is one, says what is expected of it, as far as that is known by the time that it is shown.
	Foretold func() string
	Do       func(why string) tea.Cmd

	input   textinput.Model
	missing bool
	refused string
}

// NewReason makes the question. Why is what is offered as the reason.
func NewReason(title, why string, says, changes []string, do func(why string) tea.Cmd) *Reason {
	in := textinput.New()
	in.Prompt = ""
	in.CharLimit = 300
	in.SetValue(why)
	in.CursorEnd()
	in.Focus()
	return &Reason{Title: title, Says: says, Changes: changes, Do: do, input: in}
}

var keyLeave = key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "cancel"))

// Keys are the keys that work in the question.
func (r *Reason) Keys() []key.Binding { return []key.Binding{keyApply, keyLeave} }

// Update takes a key.
func (r *Reason) Update(m tea.KeyPressMsg) (bool, tea.Cmd) {
	switch {
	case key.Matches(m, keyLeave):
		return true, nil
	case key.Matches(m, keyApply):
		why := strings.TrimSpace(r.input.Value())
		if r.missing = why == ""; r.missing {
			return false, nil
		}
		return true, r.Do(why)
	}
	r.input, _ = r.input.Update(m)
	r.refused = ""
	return false, nil
}

// Refuse implements Refusable.
func (r *Reason) Refuse(why string) { r.refused = strings.ReplaceAll(why, "\n", "; ") }

// View shows the question.
func (r *Reason) View(l *look.Look, width, height int) []string {
	out := []string{l.Rule(r.Title, width)}
	says := r.Says
	if r.Foretold != nil {
		says = append(slices.Clone(says), r.Foretold())
	}
	for _, t := range says {
		for i, part := range look.Wrap(t, width-6) {
			mark := "    "
			if i == 0 {
				mark = "  " + l.Honey.Render("◆ ")
			}
			out = append(out, mark+l.Cream.Render(part))
		}
	}
	room := max(height-len(out)-4, 2)
	for i, c := range r.Changes {
		if i == room-1 && len(r.Changes) > room {
			out = append(out, l.Dim.Render("    … and "+look.Number(float64(len(r.Changes)-i), "more change")))
			break
		}
		out = append(out, "    "+look.Cut(l.Dim.Render(c), width-6))
	}
	out = append(out, "", "  "+l.Strong.Render("Why?  ")+r.input.View())
	hint := l.Dim.Render("        why; shown in the history")
	if r.missing {
		hint = l.Brick.Render("      ! ") + l.Cream.Render("write a few words for the history")
	}
	if r.refused == "" {
		return append(out, hint)
	}
	for _, part := range look.Wrap(r.refused, width-10) {
		out = append(out, l.Brick.Render("      ! ")+l.Cream.Render(part))
	}
	return out
}
