package mysql

import (
	"fmt"
	"time"

	"jollylarder/internal/core/engine"
)

// reportOf gives the columns and values of the answer to who asks what became of the last statement.
func reportOf(last engine.Report) (columns, values []string) {
	columns = []string{"outcome", "reason", "pattern", "took_ms", "age_ms", "saved_ms"}
	if last.Pattern == "" {
		return columns, make([]string, len(columns))
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.3f", float64(d)/float64(time.Millisecond)) }
	return columns, []string{last.Outcome.String(), last.Reason.String(), string(last.Pattern), ms(last.Took), ms(last.Age), ms(last.Saved)}
}
