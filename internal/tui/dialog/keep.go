// Package dialog asks before anything changes what traffic gets, and shows what will change.
package dialog

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// Dialog is one question. Update says whether it is over; Do is what the answer asks for, or nil.
type Dialog interface {
	Update(tea.KeyPressMsg) (over bool, do tea.Cmd)
	View(l *look.Look, width, height int) []string
	Keys() []key.Binding
}

var (
	keyApply  = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "do it"))
	keyBack   = key.NewBinding(key.WithKeys("esc", "q"), key.WithHelp("esc", "leave it as it is"))
	keyLonger = key.NewBinding(key.WithKeys("right", "l", "+"), key.WithHelp("→", "longer"))
	keyLess   = key.NewBinding(key.WithKeys("left", "h", "-"), key.WithHelp("←", "shorter"))
	keyStop   = key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "stop keeping"))
)

// lifetimes are offered as TTLs; none is until a write.
var lifetimes = []string{"1s", "5s", "15s", "30s", "1m", "5m", "15m", "1h", "none"}

// Keep asks how long results of a pattern are to be kept, or whether to stop.
type Keep struct {
	Pattern control.Pattern
	// Apply puts a rule in force; Stop takes it away.
	Apply func(control.Rule) tea.Cmd
	Stop  func(id string) tea.Cmd

	choice int
}

// NewKeep makes the question for a pattern; the TTL in force, if any, is chosen first.
func NewKeep(p control.Pattern, apply func(control.Rule) tea.Cmd, stop func(string) tea.Cmd) *Keep {
	k := &Keep{Pattern: p, Apply: apply, Stop: stop, choice: 3}
	if p.Rule != nil {
		for i, t := range lifetimes {
			if t == p.Rule.TTL {
				k.choice = i
			}
		}
	}
	return k
}

// Keys are the keys that work in the question.
func (k *Keep) Keys() []key.Binding {
	keys := []key.Binding{keyLess, keyLonger, keyApply, keyBack}
	if k.kept() {
		keys = append(keys, keyStop)
	}
	return keys
}

func (k *Keep) kept() bool { return k.Pattern.Rule != nil && k.Pattern.Rule.Verdict == "keep" }

// Update takes a key.
func (k *Keep) Update(m tea.KeyPressMsg) (bool, tea.Cmd) {
	switch {
	case key.Matches(m, keyLonger):
		k.choice = min(k.choice+1, len(lifetimes)-1)
	case key.Matches(m, keyLess):
		k.choice = max(k.choice-1, 0)
	case key.Matches(m, keyApply):
		return true, k.Apply(control.Rule{Pattern: k.Pattern.ID, Verdict: "keep", TTL: lifetimes[k.choice]})
	case key.Matches(m, keyStop) && k.kept():
		return true, k.Stop(k.Pattern.ID)
	case key.Matches(m, keyBack):
		return true, nil
	}
	return false, nil
}

// View shows the question, and what each answer will do.
func (k *Keep) View(l *look.Look, width, height int) []string {
	p := k.Pattern
	small := height < 24
	gap := func(out []string) []string {
		if small {
			return out
		}
		return append(out, "")
	}
	most := 3
	if small {
		most = 1
	}
	out := gap([]string{l.Rule("Keep "+p.ID, width)})
	for i, s := range look.Wrap(p.Text, width-4) {
		if i == most {
			out = append(out, "  "+l.Dim.Render("…"))
			break
		}
		out = append(out, "  "+l.Cream.Render(s))
	}
	var ladder []string
	for i, t := range lifetimes {
		if i == k.choice {
			ladder = append(ladder, l.Chosen.Render("‹"+t+"›"))
		} else {
			ladder = append(ladder, l.Dim.Render(" "+t+" "))
		}
	}
	out = gap(append(gap(out), "  "+l.Strong.Render("For how long  ")+strings.Join(ladder, "")))
	for _, s := range k.effects() {
		for i, part := range look.Wrap(s, width-6) {
			mark := "    "
			if i == 0 {
				mark = "  " + l.Honey.Render("◆ ")
			}
			out = append(out, mark+l.Cream.Render(part))
		}
	}
	return append(out, "")
}

// effects says what will happen, in words.
func (k *Keep) effects() []string {
	p := k.Pattern
	age := "at most " + lifetimes[k.choice] + " old"
	if lifetimes[k.choice] == "none" {
		age = "of any age"
	}
	tables := strings.Join(p.Reads, ", ")
	if tables == "" {
		tables = "no table"
	}
	out := []string{
		"Equal statements of the same user are answered from memory, " + age + ".",
		"A write through the larder to " + tables + " drops them before the writer gets its answer.",
	}
	if lifetimes[k.choice] == "none" {
		out = append(out, "Writes around the larder are not seen: without a limit such a result stays until it is dropped by hand.")
	} else {
		out = append(out, "Writes around the larder are not seen: for those, "+lifetimes[k.choice]+" is the longest an answer can be out of date.")
	}
	out = append(out, fmt.Sprintf("In the last minute its %d calls waited %s; what equal inputs repeat of that will be spared.",
		p.Minute.Calls(), strings.TrimSpace(look.Seconds(p.Minute.Waited))))
	if k.kept() {
		out = append(out, fmt.Sprintf("It is kept now for %s. s stops that, and drops its %d results.", p.Rule.TTL, p.Kept))
	}
	return out
}

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
func (s *Sure) View(l *look.Look, width, height int) []string {
	out := []string{l.Rule(s.Title, width), ""}
	for _, t := range s.Says {
		for _, part := range look.Wrap(t, width-4) {
			out = append(out, "  "+l.Cream.Render(part))
		}
	}
	return append(out, "")
}
