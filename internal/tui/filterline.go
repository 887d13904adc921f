package tui

import (
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// keyComplete writes out what was begun.
var keyComplete = key.NewBinding(key.WithKeys("tab"), key.WithHelp("tab", "completes it"))

// filterLine is where a filter is written: it says at once what is wrong with it, and completes.
type filterLine struct {
	input  textinput.Model
	fields []filter.Field
	// values gives what is known of a field's values.
	values func(field string) []string
	open   bool
	err    error
}

func newFilterLine() filterLine {
	in := textinput.New()
	in.Prompt = "/ "
	in.CharLimit = 200
	return filterLine{input: in}
}

// begin opens the line on a filter.
func (f *filterLine) begin(text string, fields []filter.Field, values func(string) []string) tea.Cmd {
	f.fields, f.values, f.open, f.err = fields, values, true, nil
	f.input.SetValue(text)
	f.input.CursorEnd()
	return f.input.Focus()
}

func (f *filterLine) end() {
	f.open = false
	f.input.Blur()
}

// text is what is written, if it is a filter: an unfinished one changes nothing. A last word that may become a field's
// name is left out while it is being written.
func (f *filterLine) text(writing bool) (string, bool) {
	text := strings.TrimSpace(f.input.Value())
	_, f.err = filter.Parse(text, f.fields)
	if from, choices := filter.Complete(f.input.Value(), f.fields, f.values); writing && len(choices) > 0 && f.err == nil {
		text = strings.TrimSpace(f.input.Value()[:from])
	}
	return text, f.err == nil
}

// update takes a key.
func (f *filterLine) update(k tea.KeyPressMsg) tea.Cmd {
	if key.Matches(k, keyComplete) {
		value := f.input.Value()
		if from, choices := filter.Complete(value, f.fields, f.values); len(choices) > 0 {
			f.input.SetValue(value[:from] + common(choices))
			f.input.CursorEnd()
		}
		return nil
	}
	var cmd tea.Cmd
	f.input, cmd = f.input.Update(k)
	return cmd
}

// common gives what all choices begin with; if that is nothing new, the first of them.
func common(choices []string) string {
	begin := choices[0]
	for _, c := range choices[1:] {
		for !strings.HasPrefix(c, begin) {
			begin = begin[:len(begin)-1]
		}
	}
	if begin == "" {
		return choices[0]
	}
	return begin
}

// view draws the line, and above it what may come next or what is wrong.
func (f *filterLine) view(l *look.Look, width int) []string {
	hint := ""
	_, choices := filter.Complete(f.input.Value(), f.fields, f.values)
	switch {
	case f.err != nil && len(choices) == 0:
		hint = l.Brick.Render(" ! ") + l.Cream.Render(f.err.Error())
	case len(choices) > 0:
		shown := slices.Clone(choices)
		hint = " " + l.Key(keyComplete, "") + l.Cream.Render(strings.Join(shown, "  "))
	default:
		hint = l.Dim.Render(` words are searched for in the text; "several words" as a phrase; field=a,b  field!=a  field>5ms`)
	}
	keys := "   " + l.Key(moving.Enter, "caches it") + "   " + l.Key(moving.Back, "clears it")
	return []string{look.Left(hint, width), look.Left(" "+f.input.View()+keys, width)}
}

// filtered is the station that is shown, if a filter can show a part of it, or nil.
func (a *App) filtered() filtered {
	f, _ := a.at.(filtered)
	return f
}

// beginFilter opens the line on the station's filter.
func (a *App) beginFilter() tea.Cmd {
	f := a.filtered()
	a.at.Back() // what is picked out stands in the list
	return a.line.begin(f.Filtered(), f.Fields(), a.knownValues)
}

// knownValues gives what is known of the values of a filter's field.
func (a *App) knownValues(field string) []string {
	var out []string
	for _, x := range a.status.Applications {
		if field == "app" {
			out = append(out, x.Name)
		}
	}
	for _, d := range a.status.Databases {
		switch field {
		case "db":
			out = append(out, d.Name)
		case "table":
			out = append(out, d.Tables...)
		}
	}
	return append(out, a.watch.Seen(field)...)
}

func (a *App) pressFilter(k tea.KeyPressMsg) tea.Cmd {
	st := a.filtered()
	switch k.String() {
	case "enter":
		a.line.end()
		if text, ok := a.line.text(false); ok && text != st.Filtered() {
			return st.SetFilter(text)
		}
		return nil
	case "esc":
		a.line.end()
		return st.SetFilter("")
	}
	cmd := a.line.update(k)
	if text, ok := a.line.text(true); ok && text != st.Filtered() {
		return tea.Batch(cmd, st.SetFilter(text))
	}
	return cmd
}
