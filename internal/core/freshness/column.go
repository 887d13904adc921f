package freshness

import (
	"slices"
	"sync/atomic"
)

// Column counts the changes of one column of a table by updates that say which columns they assign. A reading that
// needs to know some columns only rests on theirs, and on all changes that do not say that: rows that come or go, or
// any others.
type Column struct {
	Name string

	Counter
	table *Clock
	ripe  atomic.Bool // as that of cells
}

// mostColumns bounds the columns of a table that are told apart.
const mostColumns = 128

// unsaid is the name of what counts the changes that do not say which columns they are of. No column is named so.
const unsaid = ""

// Column gives the one of a name, the same at every call; nil if there are too many.
func (c *Clock) Column(name string) *Column {
	if x := c.column(name); x != nil {
		return x
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if x := c.column(name); x != nil {
		return x
	}
	var list []*Column
	if have := c.columns.Load(); have != nil {
		list = slices.Clone(*have)
	} else if name != unsaid {
		list = append(list, &Column{Name: unsaid, table: c})
	}
	if len(list) >= mostColumns {
		return nil
	}
	x := &Column{Name: name, table: c}
	list = append(list, x)
	c.columns.Store(&list)
	return x
}

func (c *Clock) column(name string) *Column {
	if have := c.columns.Load(); have != nil {
		for _, x := range *have {
			if x.Name == name {
				return x
			}
		}
	}
	return nil
}

// ready says whether all changes under way know of it.
func (x *Column) ready() bool {
	if x.ripe.Load() {
		return true
	}
	if x.table.pending.Load() != 0 && !Off(NewKeysWait) {
		return false
	}
	x.ripe.Store(true)
	return true
}

// moveColumns calls f with the counters of the columns that a part of a change is of.
func (p *Part) moveColumns(f func(*Counter)) {
	have := p.Clock.columns.Load()
	if have == nil {
		return
	}
	for _, x := range *have {
		switch {
		case x.Name == unsaid:
			if len(p.Sets) == 0 && !Off(OtherColumns) {
				f(&x.Counter)
			}
		case slices.Contains(p.Sets, x.Name):
			f(&x.Counter)
		}
	}
}
