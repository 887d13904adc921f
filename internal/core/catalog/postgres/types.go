package postgres

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// castTo judges a cast to a type that is not one of the server's known ones.
func (r *resolver) castTo(n analysis.Name, how []string, way reason.Way) {
	found := false
	for _, t := range r.s.types[n.Name] {
		if n.Schema != "" && n.Schema != t.schema || t.kind == 0 {
			continue
		}
		found = true
		r.checks(typeName(t.schema, t.name), how, way.CastType(n.Name))
		switch r.unsteady(t) {
		case readUnknown:
			r.passes(way, reason.CastsToUnknown, n.Name)
		case readUnread:
			r.passes(way, reason.CastsToUnread, n.Name)
		}
	}
	if !found {
		r.passes(way, reason.CastsToUnknown, n.Name)
		r.anyChecks(how, way)
	}
}

// reading is how a text is read as a type.
type reading uint8

const (
	readSteady  reading = iota // always alike
	readUnread                 // in a way that is not known
	readUnknown                // what the type is is not known
)

// unsteady says whether a text may be read as a type in another way at another time.
func (r *resolver) unsteady(t typeRecord) reading {
	for range 100 { // a domain over a domain
		switch {
		case t.kind == 'e', t.kind == 'b' && t.input == 'i':
			return readSteady
		case t.kind == 'd' && t.base.schema == "pg_catalog" && steadyBase(t.base.name):
			return readSteady
		case t.kind == 'd' && t.base.schema != "pg_catalog":
			at := slices.IndexFunc(
				r.s.types[t.base.name],
				func(b typeRecord) bool { return b.fullName == t.base && b.kind != 0 },
			)
			if at < 0 {
				return readUnknown
			}
			t = r.s.types[t.base.name][at]
		default:
			return readUnread
		}
	}
	return readUnread
}

// checks follows the functions that are called when a value becomes one of a type: by its checks, its default and its
// input, and those of the types that it is made of.
func (r *resolver) checks(n analysis.Name, how []string, way reason.Way) {
	if r.checked[n] || freshness.Off(freshness.TypeChecks) {
		return
	}
	r.checked[n] = true
	for _, t := range r.s.types[n.Name] {
		if t.schema != n.Schema {
			continue
		}
		for _, name := range r.s.checks[t.fullName] {
			if fn := r.s.function(name); fn != nil {
				r.call(fn, how, way)
			}
		}
		if t.base.name != "" && t.base.schema != "pg_catalog" {
			r.checks(typeName(t.base.schema, t.base.name), how, way)
		}
	}
	for _, part := range r.s.typed[n.String()] {
		r.checks(part, how, way)
	}
}

// anyChecks follows those of every type: one that is not known may be made of them.
func (r *resolver) anyChecks(how []string, way reason.Way) {
	for _, list := range r.s.types {
		for _, t := range list {
			r.checks(typeName(t.schema, t.name), how, way.MayCall())
		}
	}
}

// variable follows what is done when something is assigned to a variable of a function.
func (r *resolver) variable(v analysis.VariableType, how []string, way reason.Way) {
	way = way.Variable()
	dated := func(what string) {
		if v.Given {
			return
		}
		r.passes(way, reason.VariableMayMeanTime, what)
	}
	found := false
	for _, rel := range r.s.meant(v.Name, nil) {
		found = true
		for _, c := range rel.columns {
			if c.Dated && (v.Column == "" || v.Column == c.Name) {
				dated(rel.full())
			}
		}
		for _, t := range r.s.typed[rel.full()] {
			r.checks(t, how, way.VariablePart(rel.full()))
		}
	}
	if v.Column != "" && found {
		return
	}
	for _, t := range r.s.types[v.Name.Name] {
		if v.Schema != "" && v.Schema != t.schema || t.kind == 0 || v.Column != "" {
			continue
		}
		found = true
		r.checks(typeName(t.schema, t.name), how, way.VariableType(t.name))
		switch how := r.unsteady(t); {
		case v.Given:
		case how == readUnknown:
			r.passes(way, reason.TypeUnknown, t.name)
		case how == readUnread:
			r.passes(way, reason.TypeUnread, t.name)
		}
	}
	if !found && v.Schema != "pg_catalog" {
		if !v.Given {
			r.passes(way, reason.UnknownType, "")
		}
		r.anyChecks(how, way)
	}
}

// field follows a name behind a dot that may be a call.
func (r *resolver) field(x *analysis.Field, how []string, way reason.Way) {
	way = way.Field(x.Name)
	if x.Ref != nil {
		m := r.meaningOf(x.Ref)
		switch {
		case !m.found: // a variable's field, which is no call, unless what it is was not understood
			for _, fn := range r.s.functions[x.Name] {
				r.call(fn, how, way)
			}
		case m.call:
			r.maybeCalled(x, how, way)
		}
		return
	}
	if x.Of != nil {
		all := true
		items := r.rowOf(x.Of)
		for _, i := range items {
			_, h := r.columnOf(i, x.Name)
			all = all && h == yes
		}
		if len(items) > 0 && all {
			return
		}
	}
	r.maybeCalled(x, how, way)
}

// maybeCalled follows what a name does if it is that of a function or a type.
func (r *resolver) maybeCalled(x *analysis.Field, how []string, way reason.Way) {
	for _, fn := range r.s.functions[x.Name] {
		r.call(fn, how, way)
	}
	if len(r.s.types[x.Name]) > 0 {
		r.castTo(typeName("", x.Name), how, way)
	}
	volatility, known := r.s.builtin[x.Name]
	if !known {
		return
	}
	switch {
	case x.Function.Known && x.Function.Reason.Some():
		r.reason(x.Function.Reason.Behind(way.Called(x.Name)))
	case x.Function.Known:
		if x.Function.System {
			r.system(reason.Of(reason.ReadsCatalog).Behind(way.Within(x.Name)))
		}
	case volatility == 's':
		r.passes(way.Function(x.Name), reason.UnknownDependence, "")
	case volatility == 'v':
		r.passes(way.Function(x.Name), reason.MayDoAnything, "")
		r.out.Anything()
	}
}
