package dialog

import (
	"errors"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// Line is one line of a Form: a text, or one of some choices.
type Line struct {
	Name, Help, Value string
	// Usual is what it is if nobody says otherwise.
	Usual   string
	Choices []string
	// Group is the heading that it stands under, if there are any. The lines of a group that are Rare are folded away
	// while all of them are as usual and nobody has been there.
	Group string
	Rare  bool
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
	was   string // what the input held when it began: it has no line breaks, and the value may
	wrong string
	enter key.Binding
	// opened are the groups that somebody has been to.
	opened map[string]bool
}

// NewForm makes a form. Do is given the values, and says what is wrong with them or what to do; tells, if it is not
// nil, says what they would come to as they are written.
func NewForm(title string, says []string, lines []Line, tells func(map[string]string) []string, do func(map[string]string) (tea.Cmd, error)) *Form {
	f := &Form{title: title, says: says, lines: lines, do: do, tells: tells, enter: keyApply, opened: map[string]bool{}}
	f.goTo(0)
	return f
}

func (f *Form) goTo(at int) {
	f.keep()
	f.at = (at + len(f.lines)) % len(f.lines)
	f.opened[f.lines[f.at].Group] = true
	f.input = textinput.New()
	f.input.Prompt = ""
	if f.lines[f.at].Choices == nil {
		f.input.SetValue(f.lines[f.at].Value)
		f.input.CursorEnd()
		f.input.Focus()
	}
	f.was = f.input.Value()
}

// goToLine goes to the line of a name, if there is one.
func (f *Form) goToLine(name string) {
	if at := slices.IndexFunc(f.lines, func(x Line) bool { return x.Name == name }); at >= 0 {
		f.goTo(at)
	}
}

// folded says whether a group's lines are left out.
func (f *Form) folded(group string) bool {
	return !f.opened[group] && !slices.ContainsFunc(f.lines, func(x Line) bool {
		return x.Group == group && (!x.Rare || x.Value != x.Usual)
	})
}

// keep takes over what is being written.
func (f *Form) keep() {
	if f.input.Focused() && f.input.Value() != f.was {
		f.lines[f.at].Value = strings.TrimSpace(f.input.Value())
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
	return append(out, f.enter, keyLeave)
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
			f.refuse(err)
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

// refuse says what is wrong, and goes to the first line that something is wrong with.
func (f *Form) refuse(err error) {
	var line *LineError
	if errors.As(err, &line) {
		f.goToLine(line.Name)
	}
	f.wrong = strings.ReplaceAll(err.Error(), "\n", "; ")
}

// Refuse implements Refusable.
func (f *Form) Refuse(why string) { f.wrong = strings.ReplaceAll(why, "\n", "; ") }

// View shows the form.
func (f *Form) View(l *look.Look, width, height int) []string {
	out := []string{l.Rule(f.title, width)}
	for _, t := range f.says {
		for _, part := range look.Wrap(t, width-4) {
			out = append(out, "  "+l.Cream.Render(part))
		}
	}
	var told []string
	if f.tells != nil {
		told = f.tells(f.values())
	}
	room := max(height-len(out)-3-2*len(told), 3) // for the lines, which may be more
	rows, at := f.rows(l, width)
	first := moving.First(at, room)
	for i := first; i < len(rows) && i < first+room; i++ {
		out = append(out, look.Cut(rows[i], width))
	}
	hint := l.Dim.Render(f.lines[f.at].Help)
	if f.beside(width) {
		hint = ""
	}
	if f.wrong != "" {
		hint = l.Brick.Render("! ") + l.Cream.Render(f.wrong)
	}
	for i, t := range append([]string{hint}, told...) {
		if t == "" {
			continue
		}
		for _, part := range look.Wrap(t, width-17) {
			if i > 0 {
				part = l.Cream.Render(part)
			}
			out = append(out, "                "+part)
		}
	}
	return out[:min(len(out), max(height, 3))]
}

// rows draws the lines under their headings, and tells which row is the one that is written.
func (f *Form) rows(l *look.Look, width int) (rows []string, at int) {
	group := ""
	for i := range f.lines {
		x := &f.lines[i]
		if x.Group != group {
			group = x.Group
			head := "  " + l.Slate.Render(group)
			if f.folded(group) {
				var names []string
				for _, y := range f.lines {
					if y.Group == group {
						names = append(names, y.Name)
					}
				}
				head += l.Dim.Render("  " + strings.Join(names, ", ") + ": default")
			}
			rows = append(rows, head)
		}
		if f.folded(x.Group) {
			continue
		}
		if i == f.at {
			at = len(rows)
		}
		line := f.line(l, i)
		if f.beside(width) {
			line = look.Left(look.Cut(line, helpColumn-2), helpColumn) + l.Dim.Render(x.Help)
		}
		rows = append(rows, line)
	}
	return rows, at
}

// helpColumn is the column in which the explanation of each line begins, where there is room for it beside what is
// written.
const helpColumn = 50

// beside says whether each line is explained beside it: else the line that is written is, below all.
func (f *Form) beside(width int) bool { return f.lines[0].Group != "" && width >= helpColumn+70 }

// labelWidth is how wide the longest name is, twelve columns at least.
func (f *Form) labelWidth() int {
	n := 12
	for _, x := range f.lines {
		n = max(n, len(x.Name))
	}
	return n
}

// line draws one line.
func (f *Form) line(l *look.Look, i int) string {
	x := &f.lines[i]
	bar, label := "  ", l.Dim
	if i == f.at {
		bar, label = l.Honey.Render("▌ "), l.Strong
	}
	line := bar + label.Render(look.Right(x.Name, f.labelWidth())) + "  "
	switch {
	case x.Choices != nil && i == f.at:
		for _, c := range x.Choices {
			if c == x.Value {
				line += l.Chosen.Render("‹" + c + "›")
			} else {
				line += l.Dim.Render(" " + c + " ")
			}
		}
		return line
	case i == f.at:
		return line + f.input.View()
	case x.Value == x.Usual:
		return line + l.Dim.Render(x.Value)
	}
	return line + l.Cream.Render(x.Value)
}
