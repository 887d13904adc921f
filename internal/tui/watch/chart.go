package watch

import (
	"jollylarder/internal/chart"
	"jollylarder/internal/report"
)

// Charts gives what can be exported: the lanes.
func (m *Model) Charts() []*chart.Chart { return report.Lanes(m.status) }
