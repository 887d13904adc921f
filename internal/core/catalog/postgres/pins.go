package postgres

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
)

// pins works out by what the statement's own pins narrow what it reads.
func (r *resolver) pins(f *analysis.Facts) {
	found := map[*relation][]catalog.PinColumn{}
	if r.s.equality { // values may be compared in a way of this database's own
		f = withoutPins(f)
		clear(r.narrow)
	}
	r.out.PinTypes = make([]freshness.Type, len(f.Pins))
	for i, p := range f.Pins {
		rel, c := r.pinned(f, p)
		if c != nil {
			r.out.PinTypes[i] = c.Type
		}
		if c == nil || c.Type == freshness.NoType {
			continue
		}
		assigned := p.Of == analysis.PinOfNew && f.Kind != analysis.KindInsert
		if pin := rel.full() + "." + c.Name; !assigned && !slices.Contains(r.out.Pins, pin) {
			r.out.Pins = append(r.out.Pins, pin)
		}
		if p.Of == analysis.PinOfRead && r.alike(p, c.Type) {
			found[rel] = append(found[rel], catalog.PinColumn{Name: c.Name, Type: c.Type, Pin: i})
		}
	}
	slices.Sort(r.out.Pins)
	for rel, columns := range found {
		r.pinRead(rel, catalog.Narrowest(columns, rel.uniqueKeys), true)
	}
	r.readColumns(f)
	for rel, pin := range r.narrow {
		if !r.rewrite[rel] {
			r.out.WritePins[rel.full()] = pin
		}
	}
}

// alike says whether all columns by which a pin is known are compared as its own is.
func (r *resolver) alike(p analysis.Pin, t freshness.Type) bool {
	if freshness.Off(freshness.ViaAlike) {
		return true
	}
	for _, v := range p.Via {
		if !r.kindOf(v, func(c *column) bool { return c.Type == t }) {
			return false
		}
	}
	return true
}

func withoutPins(f *analysis.Facts) *analysis.Facts {
	out := *f
	out.Pins = nil
	return &out
}

// systemColumns change with every update of their row.
var systemColumns = []string{"ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"}

// readColumns works out which columns of the tables that a statement names it needs to know.
func (r *resolver) readColumns(f *analysis.Facts) {
	if !r.s.whole {
		return
	}
	need := r.needs(f)
	if need.all {
		return
	}
	whole, columns := map[*relation]bool{}, map[*relation]map[string]bool{}
	for i := range need.whole {
		for _, rel := range r.tablesOf(i) {
			whole[rel] = true
		}
	}
	for i, names := range need.columns {
		for _, rel := range r.tablesOf(i) {
			if columns[rel] == nil {
				columns[rel] = map[string]bool{}
			}
			for name := range names {
				columns[rel][name] = true
			}
		}
	}
	for _, n := range f.Reads {
		if r.s.isSystem(n) {
			continue
		}
		for _, rel := range r.s.meant(n, r.path) {
			_, pinned := r.out.ReadPins[rel.full()]
			if pinned || whole[rel] || rel.kind != 'r' || r.again[rel] || !r.read[rel] || len(rel.children) > 0 ||
				rel.part ||
				rel.flags&rowSecurity != 0 {
				continue
			}
			names := []string{}
			for _, c := range rel.columns {
				if columns[rel][c.Name] {
					names = append(names, c.Name)
				}
			}
			r.out.ReadColumns[rel.full()] = names
		}
	}
}

// pinRead narrows the reading of a table, and that of its parts.
func (r *resolver) pinRead(rel *relation, pin catalog.ReadPin, alone bool) {
	if r.again[rel] || !r.read[rel] {
		return
	}
	if !alone || len(rel.children) > 0 {
		pin.Unique = false // among several tables none sees to it
	}
	for i := range pin.Columns {
		if c := rel.column(pin.Columns[i].Name); c == nil || c.Type != pin.Columns[i].Type {
			return
		}
	}
	r.out.ReadPins[rel.full()] = pin
	for _, child := range rel.children {
		r.pinRead(child, pin, false)
	}
}

// pinned finds the table and the column that a pin means: a table that is mentioned but once.
func (r *resolver) pinned(f *analysis.Facts, p analysis.Pin) (*relation, *column) {
	table, column := p.Table, p.Column
	if p.Ref != nil {
		item, name := r.pinColumn(p.Ref)
		if freshness.Off(freshness.NamesInScope) && item == nil {
			item, name = r.anyColumn(f, p.Ref)
		}
		if item == nil || p.Of == analysis.PinOfOld && !item.Target {
			return nil, nil
		}
		table, column = item.Table, name
	}
	if slices.Contains(f.Again, table) || r.s.isSystem(table) {
		return nil, nil
	}
	tables := r.s.meant(table, r.path)
	if len(tables) != 1 || tables[0].kind != 'r' && tables[0].kind != 'p' {
		return nil, nil
	}
	return tables[0], tables[0].column(column)
}

// anyColumn takes a name for a column of whichever table has one. It is what is done where a safeguard is switched off.
func (r *resolver) anyColumn(f *analysis.Facts, ref *analysis.Ref) (*analysis.Item, string) {
	name := ref.Path[len(ref.Path)-1]
	for _, n := range f.Reads {
		for _, rel := range r.s.meant(n, r.path) {
			if rel.column(name) != nil {
				return &analysis.Item{Table: n}, name
			}
		}
	}
	return nil, ""
}

// narrowed gives what a statement's pins say of the rows that it writes, or nil where they say nothing: of a table that
// it writes in more ways than one, or that a name may not mean alone.
func (r *resolver) narrowed(f *analysis.Facts, w analysis.Write, rel *relation) *catalog.WritePin {
	if slices.Contains(f.Rewritten, w.Name) || w.Events&analysis.Truncate != 0 || len(rel.rules) > 0 {
		return nil
	}
	pin := &catalog.WritePin{Adds: w.Events == analysis.Insert}
	if w.Events == analysis.Update && len(rel.children) == 0 && !rel.part { // or a row may go to another part
		pin.Sets = slices.Clone(w.Sets)
		for _, c := range rel.columns {
			if c.Generated && len(pin.Sets) > 0 {
				pin.Sets = append(pin.Sets, c.Name)
			}
		}
	}
	for _, c := range rel.columns {
		written := catalog.WrittenColumn{Name: c.Name, Type: c.Type}
		assigned := w.Events&analysis.Update != 0 && slices.Contains(w.Sets, c.Name)
		known, new := false, false
		for i, p := range f.Pins {
			table, column := p.Table, p.Column
			if p.Ref != nil {
				item, name := r.pinColumn(p.Ref)
				if item == nil || !item.Target {
					continue
				}
				table, column = item.Table, name
			}
			if column != c.Name || table != w.Name || !r.alike(p, c.Type) || p.Of == analysis.PinOfConflict && c.Odd {
				continue
			}
			switch p.Of {
			case analysis.PinOfOld, analysis.PinOfConflict:
				known = true
			case analysis.PinOfNew:
				new = true
			default:
				continue
			}
			written.Pins = append(written.Pins, i)
		}
		if freshness.Off(freshness.Assigned) {
			assigned = false
		}
		switch {
		case c.Type == freshness.NoType, c.Generated && w.Events != analysis.Delete:
		case w.Events == analysis.Insert && new, known && (!assigned || new):
			pin.Columns = append(pin.Columns, written)
		}
	}
	return pin
}

// pinOf gives what holds of the rows of one table on the way: a trigger may write others than the statement says.
func pinOf(p *catalog.WritePin, rel *relation, events analysis.Events) catalog.WritePin {
	for _, t := range rel.triggers {
		if t.rewrites && t.events&events != 0 {
			return catalog.WritePin{Adds: p.Adds}
		}
	}
	out := catalog.WritePin{Adds: p.Adds, Sets: p.Sets}
	for _, w := range p.Columns {
		if c := rel.column(w.Name); c != nil && c.Type == w.Type {
			out.Columns = append(out.Columns, w)
		}
	}
	return out
}

func (r *relation) column(name string) *column {
	for i := range r.columns {
		if r.columns[i].Name == name {
			return &r.columns[i]
		}
	}
	return nil
}

// Told implements catalog.Schema.
func (s *Schema) Told(string, string) catalog.Told { return catalog.ToldRows }

// PinColumns gives the columns of a table whose values are told apart.
func (s *Schema) PinColumns(schema, table string) (out []catalog.Column) {
	if rel := s.find(fullName{schema, table}); rel != nil {
		for _, c := range rel.columns {
			if c.Type != freshness.NoType {
				out = append(out, catalog.Column{Name: c.Name, Type: c.Type})
			}
		}
	}
	return out
}

// Assigned gives the columns of a table that an update may have changed, of which a stream told that it changed some;
// nil where it does not tell of all columns. Of generated ones it never tells.
func (s *Schema) Assigned(schema, table string, sets, told []string) []string {
	rel := s.find(fullName{schema, table})
	if rel == nil {
		return nil
	}
	out := slices.Clone(sets)
	for _, c := range rel.columns {
		switch {
		case c.Generated:
			out = append(out, c.Name)
		case !slices.Contains(told, c.Name):
			return nil
		}
	}
	return out
}
