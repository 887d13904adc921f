// Package guard is the station that answers: are answers fresh?
package guard

import (
	"slices"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/listing"
	"jollylarder/internal/tui/moving"
)

// KeyList is the key to the other list.
var (
	KeyList = key.NewBinding(key.WithKeys("l"), key.WithHelp("l", "the other list: tables, or statements with unknown effects"))
	keyOnly = key.NewBinding(key.WithKeys("d"), key.WithHelp("d", "all tables, or only those that cached results depend on"))
)

// Keys are the keys of the station by itself; those that drop belong to the application.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, listing.KeyOrder, listing.KeyTurn, KeyList, keyOnly}

// sorts are the columns by which tables can be sorted.
var sorts = []listing.Sort[control.GuardedTable]{
	listing.Most("writes/min", func(t *control.GuardedTable) uint64 { return t.Minute }),
	listing.Most("direct", func(t *control.GuardedTable) uint64 { return t.Around }),
	listing.Most("dropped", func(t *control.GuardedTable) uint64 { return t.Drops }),
	listing.Most("cached", func(t *control.GuardedTable) int { return t.Cached }),
	listing.Most("writes by key", func(t *control.GuardedTable) float64 { return byKey(t) }),
	listing.Most("last drop", func(t *control.GuardedTable) int64 {
		if t.LastDrop == nil {
			return 0
		}
		return t.LastDrop.UnixNano()
	}),
	listing.Text("table", func(t *control.GuardedTable) string { return t.Name }),
}

// Model is the station. Its zero value is ready.
type Model struct {
	// Unfollowed is set if there is no change feed for any of the databases.
	Unfollowed bool

	guard  control.Guard
	known  bool
	frozen bool

	table   string // selected
	moved   bool   // she has chosen
	deep    bool   // the selected table is laid out on the whole station
	from    int    // the first line that is shown of it
	unknown bool   // the effects that are not known are listed
	effect  int    // selected among them
	resting bool   // only tables are listed that something kept rests on
	rows    listing.List[control.GuardedTable]
	listed  []control.GuardedTable // those that are listed, in their order

	lags map[string][]float64 // by feed: the last measured, the oldest first
	at   map[string]time.Time // of the last
}

// mostLags is how many measured lags are drawn.
const mostLags = 30

// Set takes what is known now.
func (m *Model) Set(g control.Guard) {
	if m.frozen {
		return
	}
	m.guard, m.known = g, true
	if m.lags == nil {
		m.lags, m.at = map[string][]float64{}, map[string]time.Time{}
	}
	for _, f := range g.Feeds {
		id := f.Origin + "/" + f.Database
		if f.At == nil || f.Mode != "stream" || m.at[id].Equal(*f.At) {
			continue
		}
		m.at[id] = *f.At
		m.lags[id] = append(m.lags[id], f.LagMS)
		if n := len(m.lags[id]) - mostLags; n > 0 {
			m.lags[id] = slices.Delete(m.lags[id], 0, n)
		}
	}
	m.sort()
	if len(m.listed) > 0 && (!m.moved || m.index() < 0) {
		m.table = m.listed[0].Name
	}
	m.effect = min(m.effect, max(len(g.Unknown)-1, 0))
}

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) { m.frozen = on }

// sort works out which tables are listed, and in which order.
func (m *Model) sort() {
	m.rows.Sorts = sorts
	m.listed = slices.Clone(m.guard.Tables)
	if m.resting {
		m.listed = slices.DeleteFunc(m.listed, func(t control.GuardedTable) bool { return t.Cached == 0 })
	}
	m.rows.Sort(m.listed)
}

// Click takes a click.
func (m *Model) Click(x, y int) {
	if m.deep || m.unknown {
		return
	}
	row, sorted := m.rows.Click(x, y)
	if row >= 0 && row < len(m.listed) {
		m.table, m.moved = m.listed[row].Name, true
	}
	if sorted {
		m.sort()
	}
}

func (m *Model) index() int {
	return slices.IndexFunc(m.listed, func(t control.GuardedTable) bool { return t.Name == m.table })
}

// Selected gives the selected table, or nil.
func (m *Model) Selected() *control.GuardedTable {
	if i := m.index(); i >= 0 && !m.unknown {
		return &m.listed[i]
	}
	return nil
}

// Effects says whether the effects that are not known are listed.
func (m *Model) Effects() bool { return m.unknown }

// Effect gives the selected pattern of unknown effect, or nil where tables are listed.
func (m *Model) Effect() *control.UnknownWrite {
	if !m.unknown || m.effect >= len(m.guard.Unknown) {
		return nil
	}
	return &m.guard.Unknown[m.effect]
}

// Deep says whether the selected table is laid out on the whole station.
func (m *Model) Deep() bool { return m.deep }

// SetDeep lays the selected table out, or shows the list again. It does nothing in the list of effects.
func (m *Model) SetDeep(on bool) { m.deep, m.from = on && !m.unknown, 0 }

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	move := moving.By(k)
	switch {
	case key.Matches(k, KeyList):
		m.unknown, m.deep = !m.unknown, false
	case key.Matches(k, keyOnly):
		m.resting = !m.resting
		m.moved = false
		m.Set(m.guard)
	case !m.unknown && !m.deep && m.rows.Press(k):
		m.sort()
	case move == 0:
	case m.deep:
		m.from = max(m.from+move, 0)
	case m.unknown:
		m.effect = min(max(m.effect+move, 0), max(len(m.guard.Unknown)-1, 0))
	default:
		if list := m.listed; len(list) > 0 {
			m.table, m.moved = list[min(max(m.index()+move, 0), len(list)-1)].Name, true
		}
	}
}
