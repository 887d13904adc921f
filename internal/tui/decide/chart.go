package decide

import (
	"jollylarder/internal/chart"
	"jollylarder/internal/report"
)

// Charts gives what can be exported: the draft's forecast, and what came true of the last changes.
func (m *Model) Charts() []*chart.Chart {
	return []*chart.Chart{report.Forecast(m.Forecast()), report.Actual(m.history)}
}
