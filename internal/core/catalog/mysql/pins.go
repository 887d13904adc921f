package mysql

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
)

// pins works out by what the statement's own pins narrow what it reads and writes.
func (r *resolver) pins(f *analysis.Facts) {
	found := map[*table][]catalog.PinColumn{}
	r.out.PinTypes = make([]freshness.Type, len(f.Pins))
	for i, p := range f.Pins {
		t, c := r.pinned(p)
		if c == nil || c.is == freshness.NoType {
			continue
		}
		r.out.PinTypes[i] = c.is
		assigned := p.Of == analysis.PinOfNew && f.Kind != analysis.KindInsert
		if pin := t.String() + "." + c.name; !assigned && !slices.Contains(r.out.Pins, pin) {
			r.out.Pins = append(r.out.Pins, pin)
		}
		if p.Of == analysis.PinOfRead && r.mentions[t.String()] == 1 && r.alike(p, c.is) && len(f.Writes) == 0 {
			found[t] = append(found[t], catalog.PinColumn{Name: c.name, Type: c.is, Pin: i})
		}
	}
	slices.Sort(r.out.Pins)
	for t, columns := range found {
		r.out.ReadPins[t.String()] = catalog.Narrowest(columns, t.unique())
	}
	for _, w := range f.Writes {
		for _, t := range r.tables(w.Name) {
			if pin := r.narrowed(f, w, t); pin != nil {
				r.out.WritePins[t.String()] = *pin
			}
		}
	}
}

// pinned finds the table and the column that a pin means; nil for what is none of a plain table, or not certain.
func (r *resolver) pinned(p analysis.Pin) (*table, *column) {
	if p.Ref == nil {
		return r.only(p.Table, p.Column)
	}
	item, column := r.meant(p.Ref)
	if item == nil || p.Of == analysis.PinOfOld && !item.Target {
		return nil, nil
	}
	return r.only(item.Table, column)
}

// only gives a plain table and its column where a name means no other.
func (r *resolver) only(n analysis.Name, name string) (*table, *column) {
	list := r.tables(n)
	if len(list) != 1 || list[0].kind != plain {
		return nil, nil
	}
	return list[0], list[0].column(name)
}

// meant gives the item whose column is meant, of those that stand beside each other.
func (r *resolver) meant(ref *analysis.Ref) (item *analysis.Item, column string) {
	column = ref.Path[len(ref.Path)-1]
	switch len(ref.Path) {
	case 1:
		if ref.Scope.Merges {
			return nil, ""
		}
		for _, x := range ref.Scope.Items {
			_, c := r.only(x.Table, column)
			switch tables := r.tables(x.Table); {
			case x.Open, len(tables) != 1 || tables[0].kind != plain: // whose columns are not known
				return nil, ""
			case c == nil:
			case item != nil: // which the server refuses
				return nil, ""
			default:
				item = x
			}
		}
	case 2:
		for _, x := range ref.Scope.Items {
			if !strings.EqualFold(x.Name, ref.Path[0]) {
				continue
			}
			if item != nil || x.Open || x.Name != ref.Path[0] && !r.s.folds {
				return nil, "" // of several, or of one that differs in case alone
			}
			item = x
		}
	}
	return item, column
}

// alike says whether all columns by which a pin is known are compared as its own is.
func (r *resolver) alike(p analysis.Pin, t freshness.Type) bool {
	for _, v := range p.Via {
		item, name := r.meant(v)
		if item == nil {
			return false
		}
		if _, c := r.only(item.Table, name); c == nil || c.is != t {
			return freshness.Off(freshness.ViaAlike)
		}
	}
	return true
}

// narrowed gives what a statement's pins say of the rows of a table that it writes, or nil where they say nothing: of one
// that it writes in more ways than one, or that others are written with.
func (r *resolver) narrowed(f *analysis.Facts, w analysis.Write, t *table) *catalog.WritePin {
	if t.kind != plain || r.s.shared || r.writtenHow[t.String()] != 1 || slices.Contains(f.Rewritten, w.Name) || w.Events&analysis.Truncate != 0 {
		return nil
	}
	pin := &catalog.WritePin{Adds: w.Events == analysis.Insert}
	for _, x := range t.triggers {
		if x.before && x.events&w.Events != 0 && !freshness.Off(freshness.BeforeTriggers) { // it may change what is written
			return pin
		}
	}
	for i := range t.columns {
		c := &t.columns[i]
		if c.is == freshness.NoType || c.generated && w.Events != analysis.Delete {
			continue
		}
		written := catalog.WrittenColumn{Name: c.name, Type: c.is, Room: c.room}
		assigned := w.Events&analysis.Update != 0 && slices.ContainsFunc(w.Sets, func(s string) bool { return strings.EqualFold(s, c.name) })
		known, new := false, false
		for i, p := range f.Pins {
			if of, column := r.pinned(p); of != t || column != c || !r.alike(p, c.is) {
				continue
			}
			switch p.Of {
			case analysis.PinOfOld:
				known = true
			case analysis.PinOfConflict:
				if !t.sole(c) && !freshness.Off(freshness.SoleKeys) {
					continue
				}
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
		if w.Events == analysis.Insert && new || known && (!assigned || new) {
			pin.Columns = append(pin.Columns, written)
		}
	}
	return pin
}
