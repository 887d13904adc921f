package engine

import (
	"slices"
	"sync/atomic"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/statement"
)

// shaped is what is known of statements of one shape.
type shaped struct {
	pattern *Pattern
	places  atomic.Pointer[places]
}

// places says for each of the pattern's pins where, in statements of one shape, its values stand. Numbers are those of
// the parameters in the statement of the shape that was parsed, and mixed those of them that are mentioned elsewhere,
// too; of says of each of the others in which pins it is mentioned.
type places struct {
	pins    [][]place
	numbers []int32
	mixed   []int
	of      map[int][]int
}

// place is that of one value: the number of its placeholder, and what the statement makes of what stands there.
type place struct {
	number int32
	analysis.PinValue
}

// narrowRead is a table of which only some rows are read.
type narrowRead struct {
	clock   *freshness.Clock
	key     *freshness.Key
	columns []catalog.PinColumn
}

// someColumns gives the reading of a table of which only some columns need to be known.
func someColumns(clock *freshness.Clock, names []string) (p freshness.Pinned, ok bool) {
	p.Table = clock
	for _, name := range append([]string{""}, names...) {
		c := clock.Column(name)
		if c == nil {
			return p, false
		}
		p.Columns = append(p.Columns, c)
	}
	return p, true
}

// narrowWrite is a table of which it is known which rows are written.
type narrowWrite struct {
	clock *freshness.Clock
	catalog.WritePin
}

// narrow takes over what the catalog says of rows that are read and written.
func (r *resolution) narrow(p *Pattern) {
	if len(r.Reasons) == 0 || r.OfTime {
		for _, t := range r.Reads { // in an order that is always the same
			clock := r.db.clocks.Table(t)
			if clock == r.db.clocks.Every {
				continue // it has none of its own
			}
			pin, ok := r.ReadPins[t]
			if !ok {
				if names, some := r.ReadColumns[t]; some {
					if p, ok := someColumns(clock, names); ok {
						r.columns = append(r.columns, p)
					}
				}
				continue
			}
			var names []string
			for _, c := range pin.Columns {
				names = append(names, c.Name)
			}
			if key := clock.Key(names, pin.Unique); key != nil {
				r.reads = append(r.reads, narrowRead{clock, key, pin.Columns})
			}
		}
	}
	if r.Everything {
		return
	}
	for _, t := range r.Writes {
		if pin, ok := r.WritePins[t]; ok && r.db.clocks.Table(t) != r.db.clocks.Every &&
			(len(pin.Columns) > 0 || pin.Adds || len(pin.Sets) > 0) {
			r.writes = append(r.writes, narrowWrite{r.db.clocks.Table(t), pin})
		}
	}
}

// values reads the values of a statement's pins.
type values struct {
	read         *dialect.Values
	scan         *statement.Scan
	text         []byte
	at           *places
	types, bound []byte
	utf8         bool
	pinTypes     []freshness.Type // of the pattern's pins
	alike        bool             // its parameters have the numbers that they have in the statement that was parsed
}

// numbers appends the numbers of a statement's parameters, in the order they stand.
func numbers(out []int32, scan *statement.Scan) []int32 {
	for _, l := range scan.Literals {
		if l.Kind == statement.Parameter {
			out = append(out, l.Number)
		}
	}
	return out
}

// values prepares for reading those of a statement; it is nil where they are not known.
func (s *Session) values(r *Request, pins []freshness.Type) *values {
	if len(r.Pattern.Facts.Pins) == 0 || len(r.Exact) == 0 || len(r.Exact) > long {
		return nil
	}
	s.again.Read(r.Exact)
	at := s.e.placesOf(r.Pattern, s.db.dialect, &s.again, r.Exact)
	if at == nil {
		return nil
	}
	var few [16]int32
	alike := slices.Equal(numbers(few[:0], &s.again), at.numbers)
	return &values{&s.db.dialect.Values, &s.again, r.Exact, at, r.Types, r.Bound, s.utf8 && !s.setting, pins, alike}
}

// placesOf gives the places of a pattern's pins in statements of the shape that was just read. The first statement of a
// shape is parsed for it.
func (e *Engine) placesOf(p *Pattern, d *dialect.Dialect, scan *statement.Scan, text []byte) *places {
	x := e.patterns.shaped(scan.Syntax, scan.Shape)
	if x == nil || x.pattern != p {
		return nil
	}
	if at := x.places.Load(); at != nil {
		if at.pins == nil {
			return nil
		}
		return at
	}
	at := &places{}
	x.places.Store(at)
	f := d.Facts(scan.Syntax, string(text))
	if len(f.Pins) != len(p.Facts.Pins) {
		return nil
	}
	pins := make([][]place, len(f.Pins))
	for i, pin := range f.Pins {
		if !pin.Same(p.Facts.Pins[i]) {
			return nil
		}
		for _, v := range pin.Values {
			to := place{-1, v} // a value that is no literal is not known
			// The grammar takes the sign for the number's.
			if !v.Negative && v.At >= 0 && v.At+1 < len(text) && text[v.At] == '-' {
				v.At, to.Negative = v.At+2, true
			}
			if l := slices.IndexFunc(scan.Literals, func(l statement.Literal) bool { return l.Start == v.At }); l >= 0 {
				to.number = scan.Literals[l].Place
			}
			to.At = 0
			if !slices.Contains(pins[i], to) {
				pins[i] = append(pins[i], to)
			}
		}
	}
	at = &places{pins, numbers(nil, scan), f.Mixed, map[int][]int{}}
	for i, pin := range f.Pins {
		for _, v := range pin.Values {
			if v.Parameter > 0 {
				at.of[v.Parameter] = append(at.of[v.Parameter], i)
			}
		}
	}
	x.places.Store(at)
	return at
}

// mostValues bounds the values of one pin that are told apart.
const mostValues = 16

// of gives the hashes of a pin's values, and how many values these are. It is false if one of them is not known, or beyond a column's room.
func (v *values) of(pin int, t freshness.Type, room catalog.Room) (hashes []uint64, count int, ok bool) {
	for _, at := range v.at.pins[pin] {
		found := false
		for i, l := range v.scan.Literals {
			if l.Place != at.number || l.Joined {
				continue
			}
			if i+1 < len(v.scan.Literals) && v.scan.Literals[i+1].Joined {
				return nil, 0, false
			}
			here, ok := v.literal(l, &at, t, room)
			if !ok || len(hashes)+len(here) > mostValues {
				return nil, 0, false
			}
			hashes, found = append(hashes, here...), true
		}
		if !found {
			return nil, 0, false
		}
	}
	slices.Sort(hashes)
	return slices.Compact(hashes), len(hashes), true
}

func (v *values) literal(l statement.Literal, at *place, t freshness.Type, room catalog.Room) ([]uint64, bool) {
	array := at.Array
	if at.Cast != "" {
		if v.read.Casts[at.Cast] != t {
			return nil, false
		}
	}
	token := v.text[l.Start:l.End]
	switch l.Kind {
	case statement.Parameter:
		if v.read.Argument == nil || at.Negative || l.Number == 0 {
			return nil, false
		}
		p, ok := v.read.Argument(v.types, v.bound, int(l.Number))
		if ok && p.Type == freshness.NoType && v.mixed(l.Number, at, t) && !freshness.Off(freshness.MixedTypes) {
			return nil, false
		}
		if !ok || p.Other || p.Type != freshness.NoType && p.Type != t || p.Array && !array {
			return nil, false
		}
		if p.Null {
			return nil, true // which nothing is equal to
		}
		p.UTF8 = v.utf8
		return v.hash(p.Written, array, t, room)
	case statement.Number:
		if t != freshness.Integer || array {
			return nil, false
		}
		if at.Negative {
			token = append([]byte("-"), token...)
		}
		return v.hash(dialect.Written{Bytes: token, UTF8: v.utf8}, false, t, room)
	default:
		text, ok := v.read.Unquote(token)
		if !ok || at.Negative {
			return nil, false // in another notation
		}
		return v.hash(dialect.Written{Bytes: text, UTF8: v.utf8}, array, t, room)
	}
}

// mixed says whether it is not certain that a parameter whose type is not declared is taken for one that is compared as
// t: another mention may decide. Statements of one shape may mention their parameters in other places, or more often.
func (v *values) mixed(parameter int32, at *place, t freshness.Type) bool {
	if !v.alike {
		mentions := 0
		for _, l := range v.scan.Literals {
			if l.Number == parameter {
				mentions++
			}
		}
		return mentions != 1 || slices.Contains(v.at.mixed, at.Parameter)
	}
	return slices.Contains(v.at.mixed, int(parameter)) ||
		slices.ContainsFunc(v.at.of[int(parameter)], func(pin int) bool { return v.pinTypes[pin] != t })
}

func (v *values) hash(w dialect.Written, array bool, t freshness.Type, room catalog.Room) (hashes []uint64, ok bool) {
	each := [][]byte{w.Bytes}
	if array {
		if each, ok = v.read.Elements(w, mostValues); !ok {
			return nil, false
		}
	}
	for _, w.Bytes = range each {
		value, ok := v.read.Read(w, t)
		if !ok || !room.Holds(value) && !freshness.Off(freshness.StoredAsGiven) {
			return nil, false
		}
		hashes = append(hashes, value.Hash())
	}
	return hashes, true
}

// pinned gives how the reading of tables is narrowed for one statement.
func (s *Session) pinned(res *resolution, r *Request) (pins []freshness.Pinned) {
	if len(res.reads) == 0 {
		return res.columns
	}
	v := s.values(r, res.PinTypes)
	if v == nil {
		return res.columns
	}
	pins = slices.Clone(res.columns)
	for _, n := range res.reads {
		if hashes, single, ok := v.together(n.columns); ok {
			pins = append(pins, freshness.Pinned{Table: n.clock, Key: n.key, Hashes: hashes, Single: single})
		}
	}
	return pins
}

// together gives the hashes of the combinations of several columns' values, and whether there is but one.
func (v *values) together(columns []catalog.PinColumn) (all []uint64, single, ok bool) {
	single = true
	for i, c := range columns {
		here, count, ok := v.of(c.Pin, c.Type, catalog.Room{})
		if !ok || i > 0 && len(all)*len(here) > mostValues {
			return nil, false, false
		}
		single = single && count == 1
		if i == 0 {
			all = here
			continue
		}
		var both []uint64
		for _, a := range all {
			for _, b := range here {
				both = append(both, freshness.Together(a, b))
			}
		}
		all = both
	}
	return all, single, true
}

// changeOf gives what a statement may alter.
func (s *Session) changeOf(res *resolution, r *Request) freshness.Change {
	if len(res.writes) == 0 {
		return res.change
	}
	var c freshness.Change
	v := s.values(r, res.PinTypes)
	for _, p := range res.change.Parts() {
		for _, n := range res.writes {
			if n.clock != p.Clock {
				continue
			}
			p.Adds, p.Sets = n.Adds, n.Sets
			for _, w := range n.Columns {
				hashes, ok := v.written(w)
				if ok {
					p.Values = append(p.Values, freshness.Values{Column: w.Name, Hashes: hashes})
				}
			}
		}
		c.AddPart(p)
	}
	return c
}

// written gives the hashes of a column's values before and after.
func (v *values) written(w catalog.WrittenColumn) (all []uint64, ok bool) {
	if v == nil {
		return nil, false
	}
	for _, pin := range w.Pins {
		here, _, ok := v.of(pin, w.Type, w.Room)
		if !ok {
			return nil, false
		}
		all = append(all, here...)
	}
	return all, true
}
