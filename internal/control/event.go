package control

import (
	"maps"
	"slices"
	"strings"
)

// Texts and Number hold a statement against a filter; see filter.Subject.
func (e *Event) Texts(field string) []string {
	switch field {
	case "text":
		return []string{e.Text, e.Pattern, e.Statement}
	case "app":
		return []string{e.Application}
	case "user":
		return []string{e.User}
	case "db":
		return []string{e.Database}
	case "client":
		return []string{e.Client}
	case "pattern":
		return []string{e.Pattern}
	case "outcome":
		return []string{e.Outcome}
	case "reason":
		return []string{e.Reason}
	}
	if key, ok := strings.CutPrefix(field, "label."); ok {
		if key == "" {
			return slices.Sorted(maps.Keys(e.Labels))
		}
		if v, ok := e.Labels[key]; ok {
			return []string{v}
		}
	}
	return nil
}

// Number implements filter.Subject.
func (e *Event) Number(field string) (float64, bool) {
	switch field {
	case "took":
		return e.Took, true
	case "rows":
		return float64(e.Rows), true
	case "bytes":
		return float64(e.Bytes), true
	}
	return 0, false
}
