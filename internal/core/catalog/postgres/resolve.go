package postgres

import (
	"maps"
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// Resolve widens facts by the schema.
func (s *Schema) Resolve(f *analysis.Facts, h catalog.Hints) *catalog.Resolved {
	r := newResolver(s, h.Path)
	r.facts(f, nil, "")
	r.out.Names = slices.Sorted(maps.Keys(r.names))
	r.loud()
	if r.out.Settings && h.Path != nil { // the search path may be another by the time that a name is looked up
		h.Path = nil
		return s.Resolve(f, h)
	}
	r.declared(h.Declared, []string{"as declared for the pattern"})
	r.pins(f)
	slices.Sort(r.out.Reads)
	slices.Sort(r.out.Writes)
	r.out.OfTime = len(r.out.Reasons) > 0 &&
		!slices.ContainsFunc(r.out.Reasons, func(x reason.Reason) bool { return !x.OfTime() })
	r.private = r.private || len(r.called) > 0 // a function may ask who calls it
	r.out.UsesOwn = r.private
	if len(r.out.Missing) > 0 {
		without := *r.out
		if !without.Everything {
			r.out.IfOwn = &without
		}
		r.out.Anything()
	}
	r.out.Beyond = r.out.Beyond || r.out.SchemaChanges && (r.s.reaches || !r.s.whole)
	if asks, read := r.private || r.s.restricted, r.read; !r.out.System && len(read) > 0 {
		r.out.MayShare = func(role string) bool {
			return !(asks && !freshness.Off(freshness.AllPrivileges)) && readableBy(read, role)
		}
	}
	return r.out
}

// readableBy says whether a role, by its number, may read all of some relations, and gets the same rows as others.
func readableBy(read map[*relation]bool, role string) bool {
	for rel := range read {
		if role == "" || !rel.readers[role] || rel.flags&rowSecurity != 0 {
			return false
		}
	}
	return true
}

func newResolver(s *Schema, path []string) *resolver {
	return &resolver{
		s: s, path: path, out: &catalog.Resolved{ReadHow: map[string][]string{}, WrittenHow: map[string][]string{}, ReadPins: map[string]catalog.ReadPin{}, ReadColumns: map[string][]string{}, WritePins: map[string]catalog.WritePin{}},
		read: map[*relation]bool{}, again: map[*relation]bool{}, written: map[*relation]change{}, rewrite: map[*relation]bool{},
		narrow: map[*relation]catalog.WritePin{}, called: map[*function]bool{}, readBy: map[*function]int{}, checked: map[analysis.Name]bool{}, names: map[string]bool{},
	}
}

// resolver follows one statement through a schema.
type resolver struct {
	s    *Schema
	path []string
	out  *catalog.Resolved

	read    map[*relation]bool
	again   map[*relation]bool // reached in more ways than one
	written map[*relation]change
	rewrite map[*relation]bool // likewise
	narrow  map[*relation]catalog.WritePin
	called  map[*function]bool
	readBy  map[*function]int      // of readings, by what each function calls as well
	checked map[analysis.Name]bool // types
	names   map[string]bool        // of all that was looked up or come to
	// readings is how often a relation was come to, and those of the system.
	readings int
	private  bool // the result may depend on who asks, whatever he may read
}

// named notes a name that was looked up or come to.
func (r *resolver) named(name string) { r.names[name] = true }

func (r *resolver) reason(why reason.Reason) { r.out.Reasons = reason.Add(r.out.Reasons, why) }

// passes notes a reason of what a way leads to, with what it speaks of.
func (r *resolver) passes(way reason.Way, c reason.Code, detail string) {
	r.reason(reason.About(c, detail).Behind(way))
}

// mayWrite takes into account a function of the given volatility of which nothing else is known: only a volatile one
// can write, any can change a setting.
func (r *resolver) mayWrite(volatility byte) {
	r.out.Settings = true
	if volatility != 'i' && volatility != 's' {
		r.out.Anything()
	}
}

// then adds a step to the way to a table.
func then(how []string, step string) []string { return append(slices.Clone(how), step) }

// facts takes in what a statement, or a part of the schema that it came to, does.
func (r *resolver) facts(f *analysis.Facts, how []string, way reason.Way) {
	for _, why := range f.Reasons {
		r.reason(why.Behind(way))
	}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 {
		r.out.Anything()
	}
	if f.Effect&analysis.Settings != 0 {
		r.out.Settings = true
	}
	r.out.Beyond = r.out.Beyond || f.Effect&analysis.Shared != 0
	if f.Effect&analysis.System != 0 {
		r.definition()
		r.out.SystemChanges = true
	}
	r.private = r.private || f.NamesUser
	if len(f.Defines) > 0 {
		r.defines(f, how)
	}
	r.nameAll(f)
	if f.System {
		r.system(reason.Of(reason.ReadsCatalog).Behind(way))
	}
	for _, n := range f.Reads {
		r.readName(f, n, how, way)
	}
	r.changes(f, how)
	r.calls(f, how, way)
	r.times(f, way)
	r.out.AnyRows = r.out.AnyRows || f.AnyRows
	r.out.Remembers = r.out.Remembers || f.Remembers && !freshness.Off(freshness.ParsedUnder)
	r.private = r.private || f.Private || len(f.Types) > 0
}

// changes takes in what a statement writes, and to what it gives privileges.
func (r *resolver) changes(f *analysis.Facts, how []string) {
	for _, w := range f.Writes {
		meant := r.s.meant(w.Name, r.path)
		if len(meant) == 0 {
			// A system table, a temporary one, or one made since the catalog was read.
			if how != nil || r.s.isSystem(w.Name) || w.Schema != "" && w.Schema != "pg_temp" || !r.s.whole {
				r.out.Anything()
			} else {
				r.out.Missing = append(r.out.Missing, w.Name.Name)
			}
		}
		for _, rel := range meant {
			c := change{events: w.Events, sets: w.Sets, cascade: f.Cascade}
			if how == nil {
				c.narrow = r.narrowed(f, w, rel)
			}
			r.write(rel, c, how)
		}
	}
	for _, n := range f.Grants {
		meant := r.s.meant(n, r.path)
		if len(meant) == 0 || !r.s.whole {
			r.out.Anything()
		}
		for _, rel := range meant {
			r.granted(rel, map[*relation]bool{})
		}
	}
}

// calls takes in the functions that a statement calls, or may call: by their names, and by operators, casts and types.
func (r *resolver) calls(f *analysis.Facts, how []string, way reason.Way) {
	for _, n := range f.Functions {
		r.callName(n, how, way)
	}
	for _, name := range f.BuiltIns {
		for _, fn := range r.s.functions[name] { // one of this database's may be meant
			r.call(fn, how, way.Calls())
		}
	}
	for i := range f.Fields {
		r.field(&f.Fields[i], how, way)
	}
	for _, op := range f.Operators {
		r.operator(op, how, way.Operator(op))
	}
	for _, name := range f.CastTo {
		r.operator(castTo+name, how, way.Cast(name))
	}
	r.operator("cast", how, way.Cast(""))
	for _, t := range f.Types {
		r.castTo(t, how, way)
	}
	for _, v := range f.Variables {
		r.variable(v, how, way)
	}
}

// times takes in what may depend on the present time, where that is a question of what kind a column is.
func (r *resolver) times(f *analysis.Facts, way reason.Way) {
	for _, c := range f.DateCasts {
		if !r.kindOf(c, func(c *column) bool { return c.Dated }) {
			r.passes(way, reason.ColumnMayMeanTime, c.Path[len(c.Path)-1])
		}
	}
	for _, c := range f.Shifted {
		if !r.kindOf(c, func(c *column) bool { return c.Stamp }) {
			r.passes(way, reason.ColumnZoneOfToday, c.Path[len(c.Path)-1])
		}
	}
}

// granted takes into account that others may read a relation afterwards: results that come from it, and what is known
// of who may read it, are not what they were.
func (r *resolver) granted(rel *relation, seen map[*relation]bool) {
	if seen[rel] {
		return
	}
	seen[rel] = true
	r.out.Granted = true
	r.rewritten(rel)
	r.add(&r.out.Writes, r.out.WrittenHow, rel, nil)
	for _, part := range slices.Concat(rel.parts[byView], rel.children) {
		r.granted(part, seen)
	}
}

// definition takes into account that the functions that are called by definitions may do anything.
func (r *resolver) definition() {
	if r.s.events || !r.s.whole {
		r.out.Anything()
	}
}

// system notes that a result rests on the system catalogs.
func (r *resolver) system(why reason.Reason) {
	if !r.s.whole {
		r.reason(why)
		return
	}
	r.out.System = true
}

func (r *resolver) readName(f *analysis.Facts, n analysis.Name, how []string, way reason.Way) {
	if r.s.isSystem(n) {
		r.readings++
		if why := shifting(f, n); why.Some() {
			r.reason(why.Behind(way))
		} else {
			r.system(reason.About(reason.ReadsSystemTable, n.Name).Behind(way))
		}
		return
	}
	meant := r.s.meant(n, r.path)
	if len(meant) == 0 {
		r.passes(way, reason.NotNamed, n.String())
		return
	}
	for _, rel := range meant {
		r.readRelation(rel, how, way)
	}
}

// readRelation follows what a relation's rows come from.
func (r *resolver) readRelation(rel *relation, how []string, way reason.Way) {
	r.named(rel.name)
	r.readings++
	if r.read[rel] {
		r.again[rel] = true
		return
	}
	r.read[rel] = true
	say := func(c reason.Code) { r.passes(way, c, rel.full()) }
	switch rel.kind {
	case 'r', 'm', 'p':
		r.add(&r.out.Reads, r.out.ReadHow, rel, how)
		if rel.kind == 'p' && !r.s.whole {
			say(reason.UnknownParts)
		}
	case 'v':
		if rel.view == nil {
			r.add(&r.out.Reads, r.out.ReadHow, rel, how)
			say(reason.UnknownView)
		}
	case 'f':
		say(reason.ForeignTable)
	case 'S':
		say(reason.Sequence)
	default:
		say(reason.NoPlainTable)
	}
	if rel.flags&rowSecurity != 0 && len(rel.policies) == 0 && !r.s.whole {
		say(reason.UnknownRowSecurity)
	}
	if rel.flags&timeTZ != 0 {
		say(reason.ReadByToday)
	}
	if rel.flags&inherits != 0 {
		say(reason.SharesRows)
	}
	if rel.flags&hasRules != 0 && !r.s.whole {
		say(reason.HasRewriteRules)
	}
	if !r.s.whole && (rel.kind == 'v' || rel.flags&rowSecurity != 0) {
		r.out.Settings = r.out.Settings || r.s.readChanges
		if r.s.readWrites {
			r.out.Anything()
		}
	}
	for _, child := range rel.children {
		r.readRelation(child, then(how, "a part of "+rel.full()), way)
	}
	if rel.view != nil && rel.kind == 'v' {
		r.recorded(
			rel,
			byView,
			rel.view.query(),
			then(how, "through the view "+rel.full()),
			way.View(rel.full()),
		)
	}
	if rel.flags&rowSecurity != 0 {
		way = way.RowSecurity(rel.full())
		for _, t := range rel.policies {
			r.recorded(rel, byPolicy, t.query(), then(how, "through the row security of "+rel.full()), way)
		}
	}
}

// recorded follows what the schema says of a part of a relation: a view's query, a condition of its row security. The
// server's record of what that depends on says which tables are meant, however the text names them: it names them by
// the search path of the session that asked. The record is silent on the system's own.
func (r *resolver) recorded(rel *relation, by partOf, text *analysis.Facts, how []string, way reason.Way) {
	for _, part := range rel.parts[by] {
		r.readRelation(part, how, way)
	}
	for _, fn := range rel.calls[by] {
		r.call(fn, how, way.Calls())
	}
	f := *text
	f.Reads = slices.DeleteFunc(slices.Clone(f.Reads), func(n analysis.Name) bool {
		return slices.ContainsFunc(rel.parts[by], func(p *relation) bool { return p.name == n.Name })
	})
	defer r.anyPath()()
	r.facts(&f, how, way)
}

// anyPath has names without schema stand for every table so named, until what it gives is called.
func (r *resolver) anyPath() (back func()) {
	path := r.path
	r.path = nil
	return func() { r.path = path }
}

func (r *resolver) add(list *[]string, how map[string][]string, rel *relation, steps []string) {
	name := rel.full()
	if !slices.Contains(*list, name) {
		*list = append(*list, name)
		how[name] = steps
	}
}
