package postgres

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
)

// defines takes in the definitions that a statement changes.
func (r *resolver) defines(f *analysis.Facts, how []string) {
	if how != nil || !r.s.whole { // that of a function, which others may run at any time
		r.out.Anything()
		return
	}
	for i := range f.Defines {
		d := &f.Defines[i]
		if d.Indexes {
			r.definesIndexes(d)
			continue
		}
		def := &catalog.Defined{Quiet: d.Quiet, Same: d.Same}
		if d.Quiet == analysis.Loud {
			def.Quiet, def.Unknown = r.s.quiet(d.Names[0].Name, false), len(r.s.relations[d.Names[0].Name]) == 0
		}
		for i, n := range d.Names {
			// The triggers of a table with parts are those of its parts, too.
			if d.Part && i > 0 && r.s.quiet(n.Name, true) != analysis.QuietAll {
				def.Quiet = min(def.Quiet, analysis.QuietReads)
			}
			def.Names = append(def.Names, n.Name)
			for _, rel := range r.s.relations[n.Name] {
				r.redefines(rel, d)
			}
			if !d.Same && r.s.typedBy(n.Name) { // values of its rows' type stand elsewhere
				r.out.Anything()
			}
		}
		r.out.Defines = append(r.out.Defines, def)
	}
	r.out.System, r.out.SystemChanges = false, true
}

// quiet says what happens when the relations of a name are used: under another name, or through a part that they get,
// that is no more.
func (s *Schema) quiet(name string, asParent bool) analysis.Quiet {
	list := s.relations[name]
	if len(list) == 0 {
		return analysis.Loud
	}
	q := analysis.QuietAll
	for _, rel := range list {
		switch {
		case rel.view != nil || len(rel.rules) > 0 || len(rel.policies) > 0 || rel.flags&rowSecurity != 0:
			return analysis.Loud
		case len(rel.children) > 0 && !asParent,
			len(rel.referrers)+len(rel.triggers)+len(rel.calls)+len(rel.parts) > 0 || len(s.typed[rel.full()]) > 0:
			q = analysis.QuietReads
		}
	}
	return q
}

// loud takes into account that what a definition is made of does more than to read, which it will do again whenever
// what was defined is used.
func (r *resolver) loud() {
	if len(r.written) == 0 && !r.out.Settings {
		return
	}
	for _, d := range r.out.Defines {
		d.Quiet, d.Same = analysis.Loud, false
	}
}

// redefines takes into account that a relation that there is changes.
func (r *resolver) redefines(rel *relation, d *analysis.Definition) {
	if d.Calls {
		for _, fn := range rel.calls[byWrite] {
			if !slices.ContainsFunc(fn.bodies, func(b *body) bool { return !b.inert() }) {
				continue
			}
			r.out.Anything()
		}
	}
	if d.Same {
		return
	}
	// Whatever is known of a relation is known by the tables that it is made of.
	behind := newResolver(r.s, nil)
	behind.readRelation(rel, nil, "")
	if len(behind.out.Reads) == 0 && rel.kind != 'S' {
		r.out.Anything()
	}
	for other := range behind.read {
		if slices.Contains(behind.out.Reads, other.full()) {
			r.rewritten(other)
			r.add(&r.out.Writes, r.out.WrittenHow, other, []string{"by its definition"})
		}
	}
}

// definesIndexes takes into account that indexes go: what a unique one said of its table is not so any more.
func (r *resolver) definesIndexes(d *analysis.Definition) {
	for _, n := range d.Names {
		for _, list := range r.s.relations {
			for _, rel := range list {
				if slices.Contains(rel.keyNames, n.Name) {
					r.redefines(rel, d)
					r.out.Defines = append(r.out.Defines, &catalog.Defined{Names: []string{rel.name}, Quiet: analysis.QuietAll})
				}
			}
		}
	}
}

// typedBy says whether some relation or type has a column of the type that a relation's rows have.
func (s *Schema) typedBy(name string) bool {
	for _, list := range s.typed {
		if slices.ContainsFunc(list, func(t analysis.Name) bool { return t.Name == name }) {
			return true
		}
	}
	return false
}

// nameAll notes the names that facts hold.
func (r *resolver) nameAll(f *analysis.Facts) {
	for _, n := range f.Reads {
		r.named(n.Name)
	}
	for _, w := range f.Writes {
		r.named(w.Name.Name)
	}
	for _, list := range [][]analysis.Name{f.Functions, f.Types, f.Grants, f.Drops} {
		for _, n := range list {
			r.named(n.Name)
		}
	}
	for _, list := range [][]string{f.BuiltIns, f.CastTo} {
		for _, n := range list {
			r.named(n)
		}
	}
	for _, v := range f.Variables {
		r.named(v.Name.Name)
	}
	for i := range f.Fields { // which may be calls
		r.named(f.Fields[i].Name)
	}
}
