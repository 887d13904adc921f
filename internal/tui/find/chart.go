package find

import (
	"jollylarder/internal/chart"
	"jollylarder/internal/report"
)

// Charts gives what can be exported: of the selected pattern.
func (m *Model) Charts() []*chart.Chart {
	if m.detail.ID == "" || m.detail.ID != m.selected {
		return nil
	}
	out := []*chart.Chart{report.Lifetimes(&m.detail)}
	if m.detail.Memory != nil || m.detail.Origin != nil {
		out = append(out, report.Times(m.detail.Memory, m.detail.Origin))
	}
	return out
}
