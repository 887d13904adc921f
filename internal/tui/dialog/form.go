package dialog

import (
	"slices"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
)

// Line is one line of a Form: a text, or one of some choices.
type Line struct {
	Name, Help, Value string
	Choices           []string
}

// Form asks for a few values, and then whether to do one thing with them.
type Form struct {
	title string
	says  []string
	lines []Line
	do    func(values map[string]string) (tea.Cmd, error)
	tells func(values map[string]string) []string
	at    int
	input textinput.Model
	wrong string
}

// NewForm makes a form. Do is given the values, and says what is wrong with them or what to do; tells, if it is not nil, says what they would
// come to as they are written.
func NewForm(title string, says []string, lines []Line, tells func(map[string]string) []string, do func(map[string]string) (tea.Cmd, error)) *Form {
	f := &Form{title: title, says: says, lines: lines, do: do, tells: tells}
	f.goTo(0)
	return f
}

func (f *Form) goTo(at int) {
	f.keep()
	f.at = (at + len(f.lines)) % len(f.lines)
	f.input = textinput.New()
	f.input.Prompt = ""
	f.input.CharLimit = 1000
	if f.lines[f.at].Choices == nil {
		f.input.SetValue(f.lines[f.at].Value)
		f.input.CursorEnd()
		f.input.Focus()
	}
}

// keep takes over what is being written.
func (f *Form) keep() {
	if f.input.Focused() {
		f.lines[f.at].Value = f.input.Value()
	}
}

func (f *Form) values() map[string]string {
	f.keep()
	out := map[string]string{}
	for _, x := range f.lines {
		out[x.Name] = x.Value
	}
	return out
}

// Keys are the keys that work in the form.
func (f *Form) Keys() []key.Binding {
	out := []key.Binding{}
	if len(f.lines) > 1 {
		out = append(out, keyField)
	}
	if slices.ContainsFunc(f.lines, func(x Line) bool { return x.Choices != nil }) {
		out = append(out, keyChoice)
	}
	return append(out, keyApply, keyLeave)
}

// Update takes a key.
func (f *Form) Update(m tea.KeyPressMsg) (bool, tea.Cmd) {
	x := &f.lines[f.at]
	f.wrong = ""
	switch s := m.String(); {
	case s == "esc":
		return true, nil
	case s == "up" || s == "shift+tab":
		f.goTo(f.at - 1)
	case s == "down" || s == "tab":
		f.goTo(f.at + 1)
	case s == "enter":
		cmd, err := f.do(f.values())
		if err != nil {
			f.wrong = err.Error()
			return false, nil
		}
		return true, cmd
	case x.Choices != nil && (s == "left" || s == "right"):
		i := slices.Index(x.Choices, x.Value)
		if s == "left" {
			i = max(i-1, 0)
		} else {
			i = min(i+1, len(x.Choices)-1)
		}
		x.Value = x.Choices[i]
	case x.Choices == nil:
		f.input, _ = f.input.Update(m)
		f.keep()
	}
	return false, nil
}

// View shows the form.
func (f *Form) View(l *look.Look, width, height int) []string {
	out := []string{l.Rule(f.title, width)}
	for _, t := range f.says {
		for _, part := range look.Wrap(t, width-4) {
			out = append(out, "  "+l.Cream.Render(part))
		}
	}
	for i := range f.lines {
		x := &f.lines[i]
		bar, label := "  ", l.Dim
		if i == f.at {
			bar, label = l.Honey.Render("▌ "), l.Strong
		}
		line := bar + label.Render(look.Right(x.Name, 12)) + "  "
		switch {
		case x.Choices != nil:
			for _, c := range x.Choices {
				if c == x.Value {
					line += l.Chosen.Render("‹" + c + "›")
				} else {
					line += l.Dim.Render(" " + c + " ")
				}
			}
		case i == f.at:
			line += f.input.View()
		default:
			line += l.Cream.Render(x.Value)
		}
		out = append(out, look.Cut(line, width))
	}
	hint := l.Dim.Render(f.lines[f.at].Help)
	if f.wrong != "" {
		hint = l.Brick.Render("! ") + l.Cream.Render(f.wrong)
	}
	for _, part := range look.Wrap(hint, width-17) {
		out = append(out, "                "+part)
	}
	if f.tells != nil {
		for _, t := range f.tells(f.values()) {
			for _, part := range look.Wrap(t, width-17) {
				out = append(out, "                "+l.Cream.Render(part))
			}
		}
	}
	return out[:min(len(out), max(height, 3))]
}
