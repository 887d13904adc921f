// Package decide is the station that answers: what shall be kept, and what will it do?
package decide

import (
	"slices"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// KeyRecord is the key to the history.
var (
	KeyRecord   = key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "the history of the rules, or the rules again"))
	KeyChosen   = key.NewBinding(key.WithKeys("l"), key.WithHelp("l", "what the larder chose within an advised rule, or the rules again"))
	KeyLeave    = key.NewBinding(key.WithKeys("A"), key.WithHelp("A", "let the larder choose for one application, within bounds"))
	KeyForecast = key.NewBinding(key.WithKeys("f"), key.WithHelp("f", "make the forecast again"))
	KeyStop     = key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "stop the forecast"))
)

// Keys are the keys of the station by itself; those that change something belong to the application.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, KeyRecord, KeyChosen}

// Model is the station. Its zero value is ready.
type Model struct {
	draft   control.Draft
	book    control.RuleBook
	history []control.Entry
	status  control.Status
	known   bool

	forecast *control.Forecast
	of       string  // the text that it was made of, and a mark of when
	running  bool    // one is being made
	done     float64 // so much of it
	stopped  bool    // she stopped it, or it failed
	problem  string

	selected  string // a rule's name
	record    bool   // the history is shown
	entry     int64  // the selected entry
	drawn     drawn
	keepEntry bool // she has chosen one

	choices control.Choices // of all advised rules
	chosen  bool            // those of the selected rule are shown
	choice  string          // the selected one's pattern
}

// Row is a rule of the draft, or one that it takes away.
type Row struct {
	control.Rule
	// Kind is what the draft does to it: added, removed, changed, moved, or nothing.
	Kind   string
	Before *control.Rule
	Keys   []control.KeyChange
}

// Set takes the rules, the draft and the history as they are now.
func (m *Model) Set(book control.RuleBook, draft control.Draft, history []control.Entry) {
	m.book, m.draft, m.history, m.known = book, draft, history, true
	rows := m.rows()
	if !slices.ContainsFunc(rows, func(r Row) bool { return r.Name == m.selected }) {
		m.selected = ""
		for _, r := range rows {
			if m.selected == "" || r.Kind != "" {
				m.selected = r.Name
			}
			if r.Kind != "" {
				break
			}
		}
	}
	if r := m.Selected(); r == nil || r.Action != "advised" { // the one whose choices were shown may be gone
		m.chosen = false
	}
	if len(history) > 0 && (!m.keepEntry || !slices.ContainsFunc(history, func(e control.Entry) bool { return e.ID == m.entry })) {
		m.entry = history[0].ID
	}
}

// SetDraft takes the draft as an edit left it, and goes to the rule that it has anew.
func (m *Model) SetDraft(d control.Draft) {
	for _, r := range d.Rules {
		if !slices.ContainsFunc(m.draft.Rules, func(o control.Rule) bool { return o.Name == r.Name }) {
			m.selected = r.Name
		}
	}
	m.draft = d
}

// SetChoices takes what the larder has chosen.
func (m *Model) SetChoices(x control.Choices) { m.choices = x }

// SetStatus takes how the larder is now.
func (m *Model) SetStatus(s control.Status) { m.status = s }

// rows gives the rules of the draft in their order, with those it takes away at the end.
func (m *Model) rows() (out []Row) {
	for _, r := range m.draft.Rules {
		row := Row{Rule: r}
		for _, c := range m.draft.Changes {
			if c.Rule == r.Name && (row.Kind == "" || row.Kind == "moved") {
				row.Kind, row.Before, row.Keys = c.Kind, c.Before, c.Keys
			}
		}
		out = append(out, row)
	}
	for _, c := range m.draft.Changes {
		if c.Kind == "removed" && c.Before != nil {
			out = append(out, Row{Rule: *c.Before, Kind: c.Kind, Before: c.Before})
		}
	}
	return out
}

// Selected gives the selected rule, or nil.
func (m *Model) Selected() *Row {
	for _, r := range m.rows() {
		if r.Name == m.selected {
			return &r
		}
	}
	return nil
}

// Select goes to a rule.
func (m *Model) Select(name string) { m.selected, m.record, m.chosen = name, false, false }

// History says whether the history is shown.
func (m *Model) History() bool { return m.record }

// ShowHistory shows the history, or the rules again.
func (m *Model) ShowHistory(on bool) { m.record, m.chosen = on, m.chosen && !on }

// Entry gives the selected entry of the history, or nil.
func (m *Model) Entry() *control.Entry {
	for i := range m.history {
		if m.history[i].ID == m.entry {
			return &m.history[i]
		}
	}
	return nil
}

// Before gives the entry whose rules an undo would put in force, or nil.
func (m *Model) Before() *control.Entry { return m.book.Undo }

// Undone gives the entry whose rules a redo would put in force, or nil.
func (m *Model) Undone() *control.Entry { return m.book.Redo }

// Drafted gives the rule that the draft adds or changes for one pattern, or nil.
func (m *Model) Drafted(pattern string) *control.Rule {
	if !m.draft.Open {
		return nil
	}
	for i := range m.draft.Changes {
		if r := m.draft.Changes[i].After; r != nil && r.Pattern == pattern {
			return r
		}
	}
	return nil
}

// Draft gives the draft.
func (m *Model) Draft() *control.Draft { return &m.draft }

// Advised says whether a rule in force leaves something to the larder.
func (m *Model) Advised() bool {
	return slices.ContainsFunc(m.book.Rules, func(r control.Rule) bool { return r.Action == "advised" })
}

// Outside gives what somebody made of the rules file, or nil.
func (m *Model) Outside() *control.Outside { return m.book.Outside }

// Forecast gives the forecast of the draft, if it is made.
func (m *Model) Forecast() *control.Forecast {
	if m.of == m.text() {
		return m.forecast
	}
	return nil
}

func (m *Model) text() string {
	if m.draft.Open {
		return "draft " + m.draft.Text
	}
	return "book " + m.book.Revision
}

// forecastAge is how old a forecast becomes before it is made anew: traffic changes while a draft stands.
const forecastAge = 5 * time.Minute

// WantsForecast says whether a forecast is to be made: of a draft that has none yet, or an old one.
func (m *Model) WantsForecast() bool {
	old := m.of != m.text() || m.forecast != nil && m.status.Now.Sub(m.forecast.At) > forecastAge
	return m.known && m.draft.Open && len(m.draft.Checked.Problems) == 0 && old && !m.running
}

// BeginForecast notes that one is being made, and gives what it is of.
func (m *Model) BeginForecast() (of string) {
	m.running, m.stopped, m.problem, m.done = true, false, "", 0
	m.of, m.forecast = m.text(), nil
	return m.of
}

// Progress notes how much of it is done.
func (m *Model) Progress(done float64) { m.done = done }

// Running says whether a forecast is being made.
func (m *Model) Running() bool { return m.running }

// EndForecast takes it, or why there is none.
func (m *Model) EndForecast(of string, f *control.Forecast, err error) {
	m.running = false
	if of != m.of {
		return
	}
	m.forecast = f
	if err != nil {
		m.stopped, m.problem = true, err.Error()
	}
}

// Again has the forecast made anew.
func (m *Model) Again() { m.of, m.forecast = "", nil }

// drawn is where the rows of the list were drawn last: the line of the first one that is shown, which one that is, and
// how many there are.
type drawn struct{ line, first, rows int }

// Click takes a click at a line of the station.
func (m *Model) Click(y int) {
	i := y - m.drawn.line
	if i < 0 || i >= m.drawn.rows {
		return
	}
	i += m.drawn.first
	if list := m.within(); m.chosen && i < len(list) {
		m.choice = list[i].Pattern
		return
	}
	if m.record && i < len(m.history) {
		m.entry, m.keepEntry = m.history[i].ID, true
	}
	if rows := m.rows(); !m.record && i < len(rows) {
		m.selected = rows[i].Name
	}
}

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	switch {
	case key.Matches(k, KeyRecord):
		m.record, m.chosen = !m.record, false
	case key.Matches(k, KeyChosen):
		m.ShowChosen(!m.chosen)
	}
	move := moving.By(k)
	if move == 0 {
		return
	}
	if m.chosen {
		list := m.within()
		if at := slices.IndexFunc(list, func(c control.Choice) bool { return c.Pattern == m.choice }); len(list) > 0 {
			m.choice = list[min(max(at+move, 0), len(list)-1)].Pattern
		}
		return
	}
	if m.record {
		if at := slices.IndexFunc(m.history, func(e control.Entry) bool { return e.ID == m.entry }); len(m.history) > 0 {
			m.entry, m.keepEntry = m.history[min(max(at+move, 0), len(m.history)-1)].ID, true
		}
		return
	}
	rows := m.rows()
	if at := slices.IndexFunc(rows, func(r Row) bool { return r.Name == m.selected }); len(rows) > 0 {
		m.selected = rows[min(max(at+move, 0), len(rows)-1)].Name
	}
}

// View draws the station. A question, if there is one, stands where the selected rule otherwise does.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	m.drawn = drawn{}
	if !m.known {
		return []string{l.Rule("Decide", width), "", l.Dim.Render("  Asking for the rules …")}
	}
	var top []string
	switch {
	case m.record:
		top = m.entries(l, width, max(height*2/5, 5))
	case m.chosen:
		top = m.chosenList(l, width, max(height*2/5, 5))
	default:
		top = m.rules(l, width, max(height*2/5, 5))
	}
	room := height - len(top)
	switch {
	case question != nil:
		if len(question) > room {
			top = top[:max(len(top)-(len(question)-room), 0)]
		}
		out := append(top, question...)
		if table := m.forecastTable(l, width); !m.record && !m.chosen && height-len(out) > len(table) {
			out = append(append(out, ""), table...) // what will come of it is in sight while she answers
		}
		return out
	case m.record:
		return append(top, m.laidOutEntry(l, width, room)...)
	case m.chosen:
		return append(top, m.laidOutChoice(l, width, room)...)
	}
	table := m.forecastTable(l, width)
	rule := m.laidOut(l, width, min(room-len(table), ruleHeight))
	out := append(append(top, rule...), table...)
	if room = height - len(out) - 1; room >= 3 {
		out = append(append(out, ""), m.lately(l, width, room)...)
	}
	return out
}

// ruleHeight is how much room the selected rule has: what is below it is not to move with the selection.
const ruleHeight = 12
