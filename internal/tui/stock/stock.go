// Package stock is the station that answers: is the memory well used?
package stock

import (
	"math"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
	"jollylarder/internal/report"
	"jollylarder/internal/tui/listing"
	"jollylarder/internal/tui/moving"
)

var (
	KeyCurve = key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "forecast the hit rate at other memory sizes; again stops it"))
)

// Keys are the keys of the station by itself.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, listing.KeyOrder, listing.KeyTurn}

// sorts are the columns by which patterns can be sorted.
var sorts = []listing.Sort[control.Stocked]{
	listing.Most("bytes", func(s *control.Stocked) int64 { return s.Bytes }),
	listing.Most("never used", func(s *control.Stocked) uint64 { return s.Unused }),
	listing.Most("hits/MiB", worth),
	listing.Most("evicted", func(s *control.Stocked) uint64 { return s.Evicted }),
	listing.Most("expired", func(s *control.Stocked) uint64 { return s.Expired }),
	listing.Most("dropped", func(s *control.Stocked) uint64 { return s.Dropped }),
	listing.Most("results", func(s *control.Stocked) int { return s.Results }),
	listing.Most("hits/min", func(s *control.Stocked) uint64 { return s.Minute }),
	listing.Text("pattern", func(s *control.Stocked) string { return s.ID }),
	listing.Text("statement", func(s *control.Stocked) string { return s.Text }),
}

// Model is the station. Its zero value is ready.
type Model struct {
	stock  control.Stock
	known  bool
	frozen bool
	rows   listing.List[control.Stocked]

	pattern string // selected
	moved   bool   // she has chosen

	curve   *control.MemoryCurve
	done    float64 // of the curve that is being made
	making  bool
	problem string
}

// Set takes what is known now.
func (m *Model) Set(s control.Stock) {
	if m.frozen {
		return
	}
	m.stock, m.known = s, true
	m.sort()
	if len(s.Patterns) > 0 && (!m.moved || m.index() < 0) {
		m.pattern = m.stock.Patterns[0].ID
	}
}

func (m *Model) sort() {
	m.rows.Sorts = sorts
	m.rows.Sort(m.stock.Patterns)
}

// Click takes a click.
func (m *Model) Click(x, y int) {
	if row, _ := m.rows.Click(x, y); row >= 0 && row < len(m.stock.Patterns) {
		m.pattern, m.moved = m.stock.Patterns[row].ID, true
	}
	m.sort()
}

// worth is how many hits of the last minute there were for each MiB; none where nothing is kept.
func worth(s *control.Stocked) float64 {
	if s.Bytes == 0 {
		return 0
	}
	return float64(s.Minute) / (float64(s.Bytes) / (1 << 20))
}

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) { m.frozen = on }

// BeginCurve notes that a curve is being made.
func (m *Model) BeginCurve() { m.making, m.done, m.problem = true, 0, "" }

// Progress notes how far that is, from 0 to 1.
func (m *Model) Progress(done float64) { m.done = done }

// EndCurve takes the curve, or why there is none.
func (m *Model) EndCurve(c *control.MemoryCurve, err error) {
	m.making = false
	if err != nil {
		m.problem = err.Error()
		return
	}
	m.curve = c
}

// Making says whether a curve is being made.
func (m *Model) Making() bool { return m.making }

// Curve gives the last curve, or nil.
func (m *Model) Curve() *control.MemoryCurve { return m.curve }

// Stock gives what is shown.
func (m *Model) Stock() *control.Stock { return &m.stock }

func (m *Model) index() int {
	return slices.IndexFunc(m.stock.Patterns, func(s control.Stocked) bool { return s.ID == m.pattern })
}

// Selected gives the selected pattern, or nil.
func (m *Model) Selected() *control.Stocked {
	if i := m.index(); i >= 0 {
		return &m.stock.Patterns[i]
	}
	return nil
}

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	move := moving.By(k)
	switch {
	case m.rows.Press(k):
		m.sort()
	case move != 0 && len(m.stock.Patterns) > 0:
		m.pattern, m.moved = m.stock.Patterns[min(max(m.index()+move, 0), len(m.stock.Patterns)-1)].ID, true
	}
}

// At foretells the share of hits at a limit, between the sizes that were replayed; known is false without a curve.
func (m *Model) At(limit int64) (share, saved float64, known bool) {
	if m.curve == nil || len(m.curve.Points) == 0 {
		return 0, 0, false
	}
	list := m.curve.Points
	switch last := list[len(list)-1]; {
	case limit <= list[0].Limit:
		return list[0].Share, list[0].Saved, true
	case limit >= last.Limit:
		return last.Share, last.Saved, true
	}
	i := slices.IndexFunc(list, func(p control.MemoryPoint) bool { return p.Limit >= limit })
	a, b := list[i-1], list[i]
	part := math.Log(float64(limit)/float64(a.Limit)) / math.Log(float64(b.Limit)/float64(a.Limit))
	return a.Share + part*(b.Share-a.Share), a.Saved + part*(b.Saved-a.Saved), true
}

// Charts gives what can be exported.
func (m *Model) Charts() []*chart.Chart {
	var out []*chart.Chart
	if m.curve != nil {
		out = append(out, report.Memory(m.curve))
	}
	fills := &chart.Chart{Title: "What fills the memory", Kind: chart.Bars, X: chart.Axis{Label: "MiB"}}
	s := chart.Series{Name: "cached", Ink: chart.Saved}
	for _, p := range m.stock.Patterns {
		if len(fills.Names) == 12 || p.Bytes == 0 {
			break
		}
		s.Points = append(s.Points, chart.Point{X: float64(len(fills.Names)), Y: float64(p.Bytes) / (1 << 20)})
		fills.Names = append(fills.Names, p.ID)
	}
	fills.Series = []chart.Series{s}
	return append(out, fills)
}
