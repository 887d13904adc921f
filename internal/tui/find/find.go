// Package find is the station that answers: what is worth keeping?
package find

import (
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/listing"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

var (
	KeyCache = key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "cache: put the pattern into the draft, as advised"))
	KeyPlan  = key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "the plan of its statements, from the database; again hides it"))
)

// Keys are the keys of the station by itself; those that change traffic belong to the application.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, listing.KeyOrder, listing.KeyTurn}

// orders are the ways to rank: by the column of a title, or by what has none, as the larder names them, and as they are
// said.
var orders = []struct{ title, name, says string }{
	{"saveable", "saveable", "time that could be saved"},
	{"calls", "calls", "calls"},
	{"origin", "slowest", "time at the database"},
	{"memory", "memory", "time from memory"},
	{"hit rate", "hits", "hit rate"},
	{"decision, or advice", "decision", "what is decided"},
	{"statement", "statement", "statement"},
	{"all time waited", "waited", "all time waited"},
	{"rows", "rows", "rows"},
	{"drops", "drops", "drops"},
}

// sorts are the same for the list, which the larder sorts.
var sorts = func() (out []listing.Sort[control.Pattern]) {
	for _, o := range orders {
		out = append(out, listing.Sort[control.Pattern]{Title: o.title, Ascends: o.name == "statement"})
	}
	return out
}()

// mostRecent is how many of the selected pattern's statements are remembered.
const mostRecent = 50

// Model is the station. Its zero value is ready.
type Model struct {
	Filter string
	// Drafted gives the rule that the draft has for a pattern, if it changes that; nil if there is none.
	Drafted func(pattern string) *control.Rule

	list     control.PatternList
	selected string
	detail   control.Pattern
	recent   []control.Event // of the selected pattern, the oldest first
	rows     listing.List[control.Pattern]
	plan     *control.Plan // of the pattern planned
	planned  string
	frozen   bool
	moved    bool // she has chosen: until then the first is selected
	deep     bool // the selected pattern is laid out on the whole station
	from     int  // the first line that is shown of it
}

// SetPatterns takes the patterns as they are now.
func (m *Model) SetPatterns(list control.PatternList) {
	if m.frozen {
		return
	}
	m.list = list
	if (m.index() < 0 && !m.deep || !m.moved) && len(m.list.Patterns) > 0 {
		m.choose(m.list.Patterns[0].ID)
	}
}

// SetDetail takes the selected pattern in full.
func (m *Model) SetDetail(p control.Pattern) {
	if !m.frozen {
		m.detail = p
	}
}

// Add takes events that have come.
func (m *Model) Add(events []control.Event) {
	if m.frozen {
		return
	}
	for _, e := range events {
		if e.Kind == "statement" && e.Pattern == m.selected {
			m.recent = append(m.recent, e)
		}
	}
	if n := len(m.recent) - mostRecent; n > 0 {
		m.recent = slices.Delete(m.recent, 0, n)
	}
}

// Forget forgets the values of statements that were shown.
func (m *Model) Forget() {
	for i := range m.recent {
		m.recent[i].Statement, m.recent[i].Values = "", nil
	}
}

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) { m.frozen = on }

// Order is the order that patterns are to be asked for in, and reversed whether it is turned round.
func (m *Model) Order() (name string, reversed bool) {
	i, reversed := m.ordered()
	return orders[i].name, reversed
}

// ordered gives the present one of orders.
func (m *Model) ordered() (i int, reversed bool) {
	m.rows.Sorts = sorts
	by, reversed := m.rows.By()
	return slices.IndexFunc(sorts, func(s listing.Sort[control.Pattern]) bool { return s.Title == by.Title }), reversed
}

// SetPlan takes how the database runs a pattern's statements.
func (m *Model) SetPlan(id string, p *control.Plan) { m.planned, m.plan = id, p }

// Plan gives that of the selected pattern, or nil.
func (m *Model) Plan() *control.Plan {
	if m.planned != m.selected {
		return nil
	}
	return m.plan
}

// Click takes a click, and says whether patterns are to be asked for in another order.
func (m *Model) Click(x, y int) (sorted bool) {
	if m.deep {
		return false
	}
	row, sorted := m.rows.Click(x, y)
	if row >= 0 && row < len(m.list.Patterns) {
		m.moved = true
		m.choose(m.list.Patterns[row].ID)
	}
	return sorted
}

// SetFilter shows only patterns that a filter picks; a text that is none changes nothing.
func (m *Model) SetFilter(text string) {
	if _, err := filter.Parse(text, filter.OfPatterns); err == nil {
		m.Filter = text
	}
}

// Select goes to a pattern.
func (m *Model) Select(id string) {
	m.choose(id)
	m.moved = true
}

func (m *Model) choose(id string) {
	if m.selected != id {
		m.selected, m.recent, m.from = id, nil, 0
	}
}

// Deep says whether the selected pattern is laid out on the whole station.
func (m *Model) Deep() bool { return m.deep }

// SetDeep lays the selected pattern out, if there is one, or shows the list again.
func (m *Model) SetDeep(on bool) {
	m.deep, m.from = on && m.selected != "", 0
	m.moved = m.moved || on
}

// Selected gives the selected pattern, or nil.
func (m *Model) Selected() *control.Pattern {
	if m.detail.ID == m.selected && m.selected != "" {
		return &m.detail
	}
	if i := m.index(); i >= 0 {
		return &m.list.Patterns[i]
	}
	return nil
}

// SelectedID gives the selected pattern's ID, or "".
func (m *Model) SelectedID() string { return m.selected }

func (m *Model) index() int {
	return slices.IndexFunc(m.list.Patterns, func(p control.Pattern) bool { return p.ID == m.selected })
}

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	move := moving.By(k)
	m.rows.Sorts = sorts
	if m.rows.Press(k) {
		return
	}
	switch {
	case move == 0:
	case m.deep:
		m.from = max(m.from+move, 0)
	case len(m.list.Patterns) > 0:
		m.moved = true
		m.choose(m.list.Patterns[min(max(m.index()+move, 0), len(m.list.Patterns)-1)].ID)
	}
}

// Suggestions counts the patterns that it is advised to keep.
func (m *Model) Suggestions() int {
	n := 0
	for i := range m.list.Patterns {
		if a := m.list.Patterns[i].Advice; a != nil && a.Kind == "cache" {
			n++
		}
	}
	return n
}

// View draws the station. A question, if there is one, stands where the selected pattern otherwise does.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	if m.list.All == 0 {
		return []string{"", l.Dim.Render("  No statement has come yet. Point an application at the larder's address.")}
	}
	if m.deep && question == nil {
		return m.laidOut(l, width, height)
	}
	detailHeight := min(24, height*12/20)
	if height < 24 {
		detailHeight = min(9, height/2)
	}
	if question != nil {
		detailHeight = min(max(len(question), detailHeight), height-6)
	}
	out := m.ranking(l, width, height-detailHeight)
	if question != nil {
		return append(out, question...)
	}
	return append(out, m.summary(l, width, detailHeight)...)
}
