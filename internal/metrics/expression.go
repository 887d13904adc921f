package metrics

import (
	"fmt"

	"github.com/prometheus/client_golang/prometheus"
)

// query is an expression in Prometheus' language, in which each %s stands for one of the metrics: one that is no more
// does not compile.
type query struct {
	format string
	of     []*prometheus.Desc
}

func ask(format string, of ...*prometheus.Desc) query { return query{format, of} }

// String gives the expression.
func (q query) String() string {
	list := make([]any, len(q.of))
	for i, d := range q.of {
		list[i] = names[d]
	}
	return fmt.Sprintf(q.format, list...)
}
