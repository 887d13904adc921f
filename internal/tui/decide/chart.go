package decide

import (
	"jollylarder/internal/chart"
	"jollylarder/internal/report"
)

// Charts gives what can be exported: the forecast.
func (m *Model) Charts() []*chart.Chart { return []*chart.Chart{report.Forecast(m.forecast)} }
