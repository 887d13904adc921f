package catalog

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// castTo judges a cast to a type that is not one of the server's known ones.
func (r *resolver) castTo(n analysis.Name, how []string, which string) {
	found := false
	for _, t := range r.s.types[n.Name] {
		if n.Schema != "" && n.Schema != t.Schema || t.Flags == "" {
			continue
		}
		found = true
		r.checks(typeName(t.Schema, t.Name), how, which+"casts to "+n.Name+", which calls ")
		if why := r.unsteady(t); why != "" {
			r.reason(which + "casts to " + n.Name + ", " + why)
		}
	}
	if !found {
		r.reason(which + "casts to " + n.Name + ", a type that is not known")
		r.anyChecks(how, which)
	}
}

// unsteady says why a text may be read as a type in another way at another time, or nothing.
func (r *resolver) unsteady(t Row) string {
	for range 100 { // a domain over a domain
		switch kind := t.Flags[0]; {
		case kind == 'e', kind == 'b' && t.Flags[1:] == "i":
			return ""
		case kind == 'd' && t.OtherSchema == "pg_catalog" && steadyBase(t.OtherName):
			return ""
		case kind == 'd' && t.OtherSchema != "pg_catalog":
			at := slices.IndexFunc(r.s.types[t.OtherName], func(b Row) bool { return b.Schema == t.OtherSchema && b.Flags != "" })
			if at < 0 {
				return "a type that is not known"
			}
			t = r.s.types[t.OtherName][at]
		default:
			return "a type whose reading is not known"
		}
	}
	return "a type whose reading is not known"
}

// checks follows the functions that are called when a value becomes one of a type: by its checks, its default and its input, and those of the
// types that it is made of.
func (r *resolver) checks(n analysis.Name, how []string, which string) {
	if r.checked[n] || freshness.Off(freshness.TypeChecks) {
		return
	}
	r.checked[n] = true
	for _, t := range r.s.types[n.Name] {
		if t.Schema != n.Schema {
			continue
		}
		for _, fn := range r.typeCalls(t) {
			r.call(fn, how, which)
		}
		if t.OtherName != "" && t.OtherSchema != "pg_catalog" {
			r.checks(typeName(t.OtherSchema, t.OtherName), how, which)
		}
	}
	for _, part := range r.s.typed[n.String()] {
		r.checks(part, how, which)
	}
}

// anyChecks follows those of every type: one that is not known may be made of them.
func (r *resolver) anyChecks(how []string, which string) {
	for _, list := range r.s.types {
		for _, t := range list {
			r.checks(typeName(t.Schema, t.Name), how, which+"may call ")
		}
	}
}

// typeCalls gives the functions in a type's checks.
func (r *resolver) typeCalls(t Row) (out []*function) {
	for _, row := range r.s.types[t.Name+checks] {
		if row.Schema == t.Schema {
			if fn := r.s.function(row.OtherSchema, row.OtherName, false); fn != nil {
				out = append(out, fn)
			}
		}
	}
	return out
}

// variable follows what is done when something is assigned to a variable of a function.
func (r *resolver) variable(v analysis.VariableType, how []string, which string) {
	which += "has a variable of "
	dated := func(what string) {
		if v.Given {
			return
		}
		r.reason(which + "a date or time in " + what + ", and what is assigned to it " + analysis.MayMeanTime)
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
			r.checks(t, how, which+"a type of "+rel.full()+", which calls ")
		}
	}
	if v.Column != "" && found {
		return
	}
	for _, t := range r.s.types[v.Name.Name] {
		if v.Schema != "" && v.Schema != t.Schema || t.Flags == "" || v.Column != "" {
			continue
		}
		found = true
		r.checks(typeName(t.Schema, t.Name), how, which+"the type "+t.Name+", which calls ")
		if why := r.unsteady(t); why != "" && !v.Given {
			r.reason(which + "the type " + t.Name + ", " + why)
		}
	}
	if !found && v.Schema != "pg_catalog" {
		if !v.Given {
			r.reason(which + "a type that is not known")
		}
		r.anyChecks(how, which)
	}
}

// field follows a name behind a dot that may be a call.
func (r *resolver) field(x *analysis.Field, how []string, which string) {
	which += "asks for ." + x.Name + ", which may be a call of "
	if x.Ref != nil {
		m := r.meaningOf(x.Ref)
		switch {
		case !m.found: // a variable's field, which is no call, unless what it is was not understood
			for _, fn := range r.s.functions[x.Name] {
				r.call(fn, how, which)
			}
		case m.call:
			r.maybeCalled(x, how, which)
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
	r.maybeCalled(x, how, which)
}

// maybeCalled follows what a name does if it is that of a function or a type.
func (r *resolver) maybeCalled(x *analysis.Field, how []string, which string) {
	for _, fn := range r.s.functions[x.Name] {
		r.call(fn, how, which)
	}
	if len(r.s.types[x.Name]) > 0 {
		r.castTo(typeName("", x.Name), how, which)
	}
	volatility, known := r.s.builtin[x.Name]
	if !known {
		return
	}
	switch {
	case x.Function.Known && x.Function.Reason != "":
		r.reason(which + x.Name + "(), and so " + x.Function.Reason)
	case x.Function.Known:
		if x.Function.System {
			r.system(which + x.Name + "(), which reads the system catalogs")
		}
	case volatility == 's':
		r.reason(which + x.Name + "(), and what that depends on is not known")
	case volatility == 'v':
		r.reason(which + x.Name + "(), which may do anything")
		r.out.anything()
	}
}
