package guard

import (
	"jollylarder/internal/chart"
	"jollylarder/internal/report"
)

// Charts gives what can be exported: the tables.
func (m *Model) Charts() []*chart.Chart { return []*chart.Chart{report.Writes(&m.guard)} }
