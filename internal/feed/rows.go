package feed

import (
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
)

// AnyWrite is every way in which a table can be written.
const AnyWrite = analysis.Insert | analysis.Update | analysis.Delete | analysis.Truncate

// MostRows bounds the rows of one transaction whose values are looked at. Of a larger one the tables alone are told.
const MostRows = 10_000

// Rows are those that one transaction has written. Their zero value is none.
type Rows struct {
	list  []engine.RowChange
	large map[string]engine.RowChange // the tables, if there are too many rows
}

// Large says whether there are too many rows, or will be with the next.
func (r *Rows) Large() bool { return r.large != nil || len(r.list) >= MostRows }

// Add adds one.
func (r *Rows) Add(c engine.RowChange) {
	if !r.Large() {
		r.list = append(r.list, c)
		return
	}
	if r.large == nil {
		r.large = map[string]engine.RowChange{}
		for _, had := range r.list {
			r.table(had)
		}
		r.list = nil
	}
	r.table(c)
}

func (r *Rows) table(c engine.RowChange) {
	r.large[c.Schema+"."+c.Table] = engine.RowChange{Schema: c.Schema, Table: c.Table, Kind: AnyWrite}
}

// All gives them, or the tables alone.
func (r *Rows) All() []engine.RowChange {
	out := r.list
	for _, c := range r.large {
		out = append(out, c)
	}
	return out
}
