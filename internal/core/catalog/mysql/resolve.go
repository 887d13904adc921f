package mysql

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// Resolve implements catalog.Schema.
func (s *Schema) Resolve(f *analysis.Facts, h catalog.Hints) *catalog.Resolved {
	r := &resolver{
		s: s, schema: first(h.Path), out: &catalog.Resolved{ReadHow: map[string][]string{}, WrittenHow: map[string][]string{}, AnyRows: f.AnyRows},
		viewed: map[*table]bool{}, written: map[*table]analysis.Events{}, called: map[*routine]bool{}, mentions: map[string]int{}, writtenHow: map[string]int{},
	}
	r.out.ReadPins, r.out.WritePins = map[string]catalog.ReadPin{}, map[string]catalog.WritePin{}
	r.facts(f, nil, "")
	r.declared(h.Declared, []string{"as declared for the pattern"})
	for _, n := range f.Again {
		for _, t := range r.tables(n) {
			r.mentions[t.String()]++
		}
	}
	r.pins(f)
	if f.Kind == analysis.KindSelect && len(r.out.Reads)+len(r.out.Reasons) == 0 {
		r.reason(reason.Of(reason.ReadsNoTable))
	}
	r.out.Enters = r.out.Enters && !r.out.Settings && !r.out.Everything && len(r.called) == 0 && !r.promised
	r.out.Snaps = f.FromEach && len(f.Reads) > 0 && r.versioned(f.Reads)
	slices.Sort(r.out.Reads)
	slices.Sort(r.out.Writes)
	r.out.OfTime = len(r.out.Reasons) > 0 && !slices.ContainsFunc(r.out.Reasons, func(x reason.Reason) bool { return !x.OfTime() })
	if len(r.out.Missing) > 0 {
		own := *r.out
		r.out.IfOwn = &own
		r.out.Anything()
		r.out.AtOnce = true
	}
	return r.out
}

// versioned says whether all of some tables have rows of which a transaction sees those of its snapshot.
func (r *resolver) versioned(names []analysis.Name) bool {
	return !slices.ContainsFunc(names, func(n analysis.Name) bool {
		list := r.tables(n)
		return len(list) == 0 || slices.ContainsFunc(list, func(t *table) bool { return !t.versioned })
	})
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// named reads a name that may have a schema before it.
func named(text string) analysis.Name {
	if schema, name, ok := strings.Cut(text, "."); ok {
		return analysis.Name{Schema: schema, Name: name}
	}
	return analysis.Name{Name: text}
}

// resolver follows one statement through a schema.
type resolver struct {
	s      *Schema
	schema string // in which names without one are looked up; empty if that is not known
	out    *catalog.Resolved

	viewed  map[*table]bool
	written map[*table]analysis.Events
	called  map[*routine]bool
	// promised is set when it calls a function of which the DBA has declared what that reads and writes.
	promised bool
	// mentions counts the ways by which each table is read, and writtenHow those by which it is written.
	mentions, writtenHow map[string]int
}

func then(how []string, step string) []string { return append(slices.Clone(how), step) }

func (r *resolver) reason(why reason.Reason) { r.out.Reasons = reason.Add(r.out.Reasons, why) }

func (r *resolver) reads(name string, how []string) {
	if _, is := r.out.ReadHow[name]; !is {
		r.out.Reads = append(r.out.Reads, name)
		r.out.ReadHow[name] = how
	}
}

func (r *resolver) writes(name string, how []string) {
	if _, is := r.out.WrittenHow[name]; !is {
		r.out.Writes = append(r.out.Writes, name)
		r.out.WrittenHow[name] = how
	}
}

// declared takes in what the DBA has declared, of which it is not known which rows it is.
func (r *resolver) declared(d catalog.Declaration, how []string) {
	for _, t := range d.Reads {
		name := r.full(named(t))
		r.mentions[name]++
		r.reads(name, how)
	}
	for _, t := range d.Writes {
		name := r.full(named(t))
		r.writtenHow[name]++
		r.writes(name, how)
	}
}

// full gives a name with its schema, as far as that is known.
func (r *resolver) full(n analysis.Name) string {
	if n.Schema == "" {
		n.Schema = r.schema
	}
	return n.String()
}

// tables gives those that a name means: one, or all of the name where it is not known which schema is in use.
func (r *resolver) tables(n analysis.Name) []*table {
	if n.Schema == "" {
		if r.schema == "" {
			return r.s.byName[r.s.fold(n).Name]
		}
		n.Schema = r.schema
	}
	if t := r.s.tables[r.s.fold(n)]; t != nil {
		return []*table{t}
	}
	return nil
}

// facts takes in what a statement does, or the query of a view.
func (r *resolver) facts(f *analysis.Facts, how []string, way reason.Way) {
	for _, why := range f.Reasons {
		r.reason(why.Behind(way))
	}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 {
		r.out.Anything()
	}
	r.out.Settings = r.out.Settings || f.Effect&analysis.Settings != 0
	r.out.Beyond = r.out.Beyond || f.Effect&(analysis.Unknown|analysis.Shared) != 0
	r.out.System = r.out.System || f.System
	r.out.AnyRows = r.out.AnyRows || f.AnyRows
	for _, n := range f.Reads {
		list := r.tables(n)
		if len(list) == 0 {
			r.reason(reason.About(reason.NotNamed, r.full(n)).Behind(way))
			r.reads(r.full(n), how)
		}
		for _, t := range list {
			r.readTable(t, f.Computed, how, way)
		}
	}
	for _, n := range f.Functions {
		r.call(n, f.Kind == analysis.KindCall && f.Definition == "", how, way)
	}
	for _, n := range f.BuiltIns {
		if len(r.routines(analysis.Name{Name: n}, false)) > 0 || r.s.natives[n] {
			r.call(analysis.Name{Name: n}, false, how, way)
		}
	}
	for _, w := range f.Writes {
		list := r.tables(w.Name)
		if len(list) == 0 {
			r.writes(r.full(w.Name), how)
			r.out.Missing = append(r.out.Missing, w.String()) // as the session would have made it, if it is its own
		}
		for _, t := range list {
			r.writeTable(t, w.Events, w.Sets, how)
		}
	}
}

// readTable notes that a table is read, or what is used as one.
func (r *resolver) readTable(t *table, computed, how []string, way reason.Way) {
	name := t.String()
	r.mentions[name]++
	about := func(c reason.Code) { r.reason(reason.About(c, name).Behind(way)) }
	switch t.kind {
	case view:
		switch {
		case r.viewed[t]:
		case t.view == nil:
			about(reason.UnknownView)
		default:
			r.viewed[t] = true
			r.out.Enters = r.out.Enters || t.Schema != r.schema
			r.facts(t.view, then(how, "through the view "+name), way.View(name))
		}
		return
	case system:
		r.out.System = true
		about(reason.ReadsSystemTable)
	case sequence:
		about(reason.Sequence)
	case shares:
		about(reason.SharesRows)
	case foreign:
		about(reason.ForeignTable)
	case unknown:
		about(reason.NoPlainTable)
	}
	for _, why := range t.drifts {
		r.reason(why.Behind(way))
	}
	for _, c := range t.times {
		if slices.Contains(computed, c) {
			r.reason(reason.About(reason.TimeOfToday, name+"."+c).Behind(way))
		}
	}
	r.reads(name, how)
}

// keysChange is set beside an update that may change what references of other tables refer to.
const keysChange analysis.Events = 1 << 7

// keysMayChange says whether an update of some columns may change one that another table refers to; none stands for any.
func (t *table) keysMayChange(sets []string) bool {
	if len(sets) == 0 {
		return true
	}
	for _, x := range t.triggers {
		if x.before && x.events&analysis.Update != 0 {
			return true
		}
	}
	return slices.ContainsFunc(t.referrers, func(x referrer) bool {
		return len(x.columns) == 0 || slices.ContainsFunc(sets, func(c string) bool { return slices.Contains(x.columns, strings.ToLower(c)) })
	})
}

// writeTable notes that a table is written, and what that does to others. Servers of today do not fire a table's triggers
// for what a reference does to it, but lock what these need; so they count.
func (r *resolver) writeTable(t *table, events analysis.Events, sets, how []string) {
	name := t.String()
	r.writtenHow[name]++
	if events&analysis.Update != 0 && t.keysMayChange(sets) {
		events |= keysChange
	}
	fresh := events &^ r.written[t]
	if fresh == 0 {
		return
	}
	r.written[t] |= events
	switch t.kind {
	case view:
		if t.view == nil {
			r.out.Everything = true
			return
		}
		for _, n := range t.view.Reads {
			for _, base := range r.tables(n) {
				r.writeTable(base, fresh&^keysChange, nil, then(how, "through the view "+name))
			}
		}
		return
	case shares, foreign, unknown:
		r.out.Everything = true
	case system:
		r.out.Anything()
		r.out.Beyond = true
	}
	r.writes(name, how)
	r.out.AtOnce = r.out.AtOnce || !t.versioned
	if freshness.Off(freshness.Hidden) {
		return
	}
	for _, x := range t.triggers {
		if x.events&fresh != 0 {
			r.body(x.body, then(how, "through a trigger of "+name))
		}
	}
	if freshness.Off(freshness.Cascades) {
		return
	}
	for _, x := range t.referrers {
		var what analysis.Events
		if fresh&keysChange != 0 {
			what |= x.onUpdate
		}
		if fresh&analysis.Delete != 0 {
			what |= x.onDelete
		}
		if what != 0 {
			r.writeTable(x.from, what, nil, then(how, "by its reference to "+name))
		}
	}
}

// routines gives the functions or procedures that a name means.
func (r *resolver) routines(n analysis.Name, procedure bool) (list []*routine) {
	n.Name = strings.ToLower(n.Name)
	if n.Schema == "" {
		n.Schema = r.schema
	}
	all := r.s.routines[analysis.Name{Schema: r.s.schema(n.Schema), Name: n.Name}]
	if n.Schema == "" {
		all = r.s.named[n.Name]
	}
	for _, x := range all {
		if x.procedure == procedure {
			list = append(list, x)
		}
	}
	return list
}

// call takes in a call of a function or procedure. Its result is not cached: what it gives may be another at every call.
func (r *resolver) call(n analysis.Name, procedure bool, how []string, way reason.Way) {
	if d, ok := r.s.declared[r.full(n)]; ok {
		r.promised = true
		r.declared(d, then(how, "as declared for the function "+r.full(n)))
		return
	}
	list := r.routines(n, procedure)
	if len(list) == 0 {
		r.reason(reason.Of(reason.UnknownTables).Behind(way.Calls().Function(n.String())))
		if !r.s.natives[strings.ToLower(n.Name)] { // which have no way to run SQL
			r.out.Everything, r.out.AtOnce, r.out.AsksOfLast, r.out.Temporary = true, true, true, true
		}
		return
	}
	for _, x := range list {
		if !procedure {
			r.reason(reason.Of(reason.MayDiffer).Behind(way.Calls().Function(x.String())))
		}
		if r.called[x] {
			continue
		}
		r.called[x] = true
		r.out.Settings = true
		what := "through the function " + x.String() + "()"
		if procedure {
			what = "through the procedure " + x.String() + "()"
		}
		r.body(x.body, then(how, what))
	}
}

// anyWrite is every way in which a table can be written.
const anyWrite = analysis.Insert | analysis.Update | analysis.Delete

// body takes in what a body does, as far as its words tell: each that names a table counts as read, and as written if
// anything in the body writes; each that names a routine counts as a call of it.
func (r *resolver) body(b body, how []string) {
	r.out.MayGrant = r.out.MayGrant || b.grants
	if b.defines && !freshness.Off(freshness.DefiningBodies) {
		r.out.Anything()
		r.out.Beyond = r.out.Beyond || b.grants
	}
	if !b.known || b.any {
		r.out.Anything()
		r.out.AtOnce, r.out.AsksOfLast, r.out.Temporary = true, true, true
		return
	}
	r.out.AsksOfLast, r.out.Temporary = r.out.AsksOfLast || b.asks, r.out.Temporary || b.temporary
	outer := r.schema
	r.schema = b.schema
	defer func() { r.schema = outer }()
	for _, n := range b.names {
		for _, t := range r.tables(n) {
			switch {
			case facts.System(t.Schema) && b.writes && strings.EqualFold(t.Schema, "mysql"): // privileges and definitions
				r.out.Anything()
				r.out.Beyond = true
			case facts.System(t.Schema):
			case b.writes:
				r.writeTable(t, anyWrite, nil, how)
			default:
				r.mentions[t.String()]++
				r.reads(t.String(), how)
			}
		}
		for _, procedure := range []bool{false, true} {
			for _, x := range r.routines(n, procedure) {
				if !r.called[x] {
					r.called[x] = true
					r.body(x.body, then(how, "through "+x.String()+"()"))
				}
			}
		}
	}
}
