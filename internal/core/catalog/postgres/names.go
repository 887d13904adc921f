package postgres

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// What a name in a statement means, by the server's rules: the columns of the items beside it come first, then those of
// the queries around it, and last the items themselves, whose name stands for a whole row. Source: transformColumnRef
// and colNameToVar in the server's parse_expr.c and parse_relation.c. Where the schema does not say enough, everything
// that a name could mean counts, and nothing is certain.

// meaning is what a name can mean.
type meaning struct {
	columns []itemColumn
	whole   []*analysis.Item // of which a whole row is asked for
	// certain is set when it is one column, and nothing else.
	certain bool
	// call is set when it may be a call of a function, or a cast, as if that were a column.
	call bool
	// found is false for a name that means nothing that is known.
	found bool
}

// itemColumn is a column of an item.
type itemColumn struct {
	item   *analysis.Item
	column string           // of its table, if it is one
	output *analysis.Output // or of what it is
}

// has is whether an item has a column.
type has uint8

const (
	no has = iota
	maybe
	yes
)

// tablesOf gives the relations that an item can be.
func (r *resolver) tablesOf(i *analysis.Item) []*relation {
	if i.Table.Name == "" || r.s.isSystem(i.Table) {
		return nil
	}
	return r.s.meant(i.Table, r.path)
}

// columnOf says whether an item has a column of a name, and which that is.
func (r *resolver) columnOf(i *analysis.Item, name string) (c itemColumn, h has) {
	c.item = i
	if at := slices.Index(i.Renamed, name); at >= 0 && i.Table.Name != "" {
		tables := r.tablesOf(i)
		if len(tables) == 1 && at < len(tables[0].columns) {
			c.column = tables[0].columns[at].Name
			return c, yes
		}
		return c, maybe
	}
	switch {
	case i.Joined != nil:
		if len(i.Renamed) > 0 {
			return c, maybe
		}
		h = no
		for _, j := range i.Joined {
			if _, here := r.columnOf(j, name); here != no {
				h = maybe // which of them is not told apart
			}
		}
		return c, h
	case i.Table.Name == "":
		for at := range i.Columns {
			if i.Columns[at].Name == name {
				c.output = &i.Columns[at]
				return c, yes
			}
		}
		if i.Open {
			return c, maybe
		}
		return c, no
	}
	tables := r.tablesOf(i)
	if len(tables) == 0 {
		return c, maybe // a system table, a temporary one, or one made since
	}
	have := 0
	for _, rel := range tables {
		if rel.columns == nil {
			return c, maybe
		}
		at := slices.IndexFunc(rel.columns, func(x column) bool { return x.Name == name })
		if at >= len(i.Renamed) && at >= 0 { // the first ones have other names here
			have++
		}
	}
	c.column = name
	switch have {
	case 0:
		return c, no
	case len(tables):
		return c, yes
	}
	return c, maybe
}

// itemsNamed finds the items of a name in the nearest scope that has some; those with a name of their own may be left
// aside.
func itemsNamed(s *analysis.Scope, name string, unaliased bool) (out []*analysis.Item) {
	for ; s != nil; s = s.Outer {
		for _, i := range s.Items {
			if i.Name == name && !(unaliased && i.Aliased) {
				out = append(out, i)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// meaningOf says what a name can mean.
func (r *resolver) meaningOf(ref *analysis.Ref) (m meaning) {
	switch {
	case ref.All && len(ref.Path) == 0:
		if ref.Scope != nil {
			m.whole, m.found = ref.Scope.Items, true
		}
	case ref.All:
		m.whole = itemsNamed(ref.Scope, ref.Path[len(ref.Path)-1], len(ref.Path) > 1)
		m.found = len(m.whole) == 1
	case len(ref.Path) == 1:
		r.alone(ref, &m)
	default:
		r.qualified(ref, &m)
	}
	return m
}

// alone finds out about a name that stands alone.
func (r *resolver) alone(ref *analysis.Ref, m *meaning) {
	name := ref.Path[0]
	doubt := false
	for s := ref.Scope; s != nil; s = s.Outer {
		var sure, unsure []itemColumn
		for _, i := range s.Items {
			if i.Hidden {
				continue
			}
			switch c, h := r.columnOf(i, name); h {
			case yes:
				sure = append(sure, c)
			case maybe:
				unsure = append(unsure, c)
			}
		}
		m.columns = append(m.columns, sure...)
		if len(sure) > 0 && !s.Merges { // if another had it too, the server would refuse it
			m.found, m.certain = true, len(sure) == 1 && !doubt
			return
		}
		for _, c := range unsure {
			m.whole = append(m.whole, c.item)
			doubt = true
		}
		if len(sure) > 0 { // several are those of USING, which are one
			m.found, m.certain = true, len(sure) == 1 && !doubt
			return
		}
	}
	items := itemsNamed(ref.Scope, name, false)
	m.whole = append(m.whole, items...)
	m.found = len(items) > 0 || doubt || slices.Contains(systemColumns, name)
	for s := ref.Scope; s != nil && !m.found; s = s.Outer {
		m.found = slices.Contains(s.Results, name)
	}
	if slices.Contains(systemColumns, name) && ref.Scope != nil {
		for s := ref.Scope; s != nil; s = s.Outer {
			m.whole = append(m.whole, s.Items...)
		}
	}
}

// qualified finds out about a name with what it is asked of before it.
func (r *resolver) qualified(ref *analysis.Ref, m *meaning) {
	n := len(ref.Path)
	name := ref.Path[n-1]
	items := itemsNamed(ref.Scope, ref.Path[n-2], n > 2)
	m.found = len(items) > 0
	for _, i := range items {
		switch c, h := r.columnOf(i, name); h {
		case yes:
			m.columns = append(m.columns, c)
			m.certain = len(items) == 1
		case maybe:
			m.whole = append(m.whole, i)
			m.call = true
		default:
			m.whole = append(m.whole, i)
			m.call = m.call || !slices.Contains(systemColumns, name)
		}
	}
}

// tableColumn gives the column of a table that a name certainly means, following results of queries to what they are
// made of.
func (r *resolver) tableColumn(ref *analysis.Ref) (*analysis.Item, string) {
	for range 100 { // a query within a query within a query
		if ref == nil || ref.All {
			return nil, ""
		}
		m := r.meaningOf(ref)
		if !m.certain {
			return nil, ""
		}
		c := m.columns[0]
		if c.output == nil {
			return c.item, c.column
		}
		ref = c.output.Ref
	}
	return nil, ""
}

// pinColumn gives the column of a table beside a condition that a name in it certainly means.
func (r *resolver) pinColumn(ref *analysis.Ref) (*analysis.Item, string) {
	m := r.meaningOf(ref)
	if !m.certain || m.columns[0].output != nil {
		return nil, ""
	}
	c := m.columns[0]
	if !slices.Contains(ref.Scope.Items, c.item) { // of a query around it
		return nil, ""
	}
	return c.item, c.column
}

// kindOf says whether all columns that a name can mean are, in every table that can be meant, of a kind.
func (r *resolver) kindOf(ref *analysis.Ref, is func(*column) bool) bool {
	item, name := r.tableColumn(ref)
	if item == nil {
		return false
	}
	tables := r.tablesOf(item)
	for _, rel := range tables {
		if c := rel.column(name); c == nil || !is(c) {
			return false
		}
	}
	return len(tables) > 0
}

// rowOf says which items a name certainly stands for as whole rows, or nil.
func (r *resolver) rowOf(ref *analysis.Ref) []*analysis.Item {
	m := r.meaningOf(ref)
	if len(m.columns) > 0 {
		return nil
	}
	return m.whole
}

// need is what is needed of the tables that a statement names.
type need struct {
	all     bool // everything
	whole   map[*analysis.Item]bool
	columns map[*analysis.Item]map[string]bool
}

// needs works out which columns of which items a statement needs to know.
func (r *resolver) needs(f *analysis.Facts) need {
	n := need{whole: map[*analysis.Item]bool{}, columns: map[*analysis.Item]map[string]bool{}}
	var whole func(i *analysis.Item)
	whole = func(i *analysis.Item) {
		n.whole[i] = true
		for _, j := range i.Joined {
			whole(j)
		}
	}
	if f.Whole {
		n.all = true
		return n
	}
	for _, ref := range f.Refs {
		m := r.meaningOf(ref)
		if !m.found {
			n.all = true
			return n
		}
		for _, i := range m.whole {
			if !freshness.Off(freshness.WholeRows) || ref.All {
				whole(i)
			}
		}
		for _, c := range m.columns {
			if n.columns[c.item] == nil {
				n.columns[c.item] = map[string]bool{}
			}
			n.columns[c.item][c.column] = true
		}
	}
	return n
}
