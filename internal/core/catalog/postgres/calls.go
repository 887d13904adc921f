package postgres

import (
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
)

// callName follows a call of a function that is named.
func (r *resolver) callName(n analysis.Name, how []string, way reason.Way) {
	found := false
	for _, fn := range r.s.functions[n.Name] {
		if n.Schema == "" || n.Schema == fn.schema || fn.schema == "" {
			found = true
			r.call(fn, how, way.Calls())
		}
	}
	if n.Schema != "" && n.Schema != "pg_catalog" || found && r.s.builtin[n.Name] == 0 {
		if !found {
			r.unknownFunction(n, way)
		}
		return
	}
	switch r.s.builtin[n.Name] {
	case 'i':
	case 's':
		r.passes(way.Calls().Function(n.Name), reason.UnknownDependence, "")
	case 'v':
		r.passes(way.Calls().Function(n.Name), reason.MayDoAnything, "")
		r.out.Anything()
	default:
		r.unknownFunction(n, way)
	}
}

func (r *resolver) unknownFunction(n analysis.Name, way reason.Way) {
	if d, ok := r.s.declared[n.String()]; ok {
		r.declared(d, []string{"as declared for the function " + n.String()})
		return
	}
	r.passes(way.Calls().Function(n.Name), reason.UnknownTables, "")
	r.out.Anything()
}

// call follows a function of the database.
func (r *resolver) call(fn *function, how []string, way reason.Way) {
	r.named(fn.name)
	if r.called[fn] {
		r.readings += r.readBy[fn]
		return
	}
	r.called[fn] = true
	readings := r.readings
	defer func() { r.readBy[fn] = r.readings - readings }()
	for _, name := range []string{fn.full(), fn.name} {
		if d, ok := r.s.declared[name]; ok {
			r.declared(d, then(how, "as declared for the function "+name))
			for _, b := range fn.bodies {
				r.mayBeFixed(b, r.readings > readings, way.Function(fn.name))
			}
			return
		}
	}
	if fn.schema == "pg_catalog" && len(fn.bodies) == 0 && rowTriggers[fn.name] {
		return
	}
	through := then(how, "through the function "+fn.name+"()")
	if len(fn.bodies) == 0 {
		r.passes(way.Function(fn.name), reason.UnknownTables, "")
		r.out.Anything()
	}
	for _, b := range fn.bodies {
		switch {
		case b.kind == 'a': // made of others
		case b.language == "sql" || b.language == "plpgsql":
			f, err := b.definition()
			if err != nil {
				r.passes(way.Function(fn.name), reason.UnknownBody, err.Error())
				r.mayWrite(b.volatility)
				break
			}
			back := func() {}
			if b.ownPath || f.Effect&analysis.Settings != 0 {
				back = r.anyPath()
			}
			before := r.readings
			r.facts(f, through, way.Within(fn.name))
			back()
			r.mayBeFixed(b, r.readings > before, way.Function(fn.name))
		case b.language == "c" && reviewed(b.sql):
			switch b.volatility {
			case 's':
				r.passes(way.Function(fn.name), reason.UnknownDependence, "")
			case 'v':
				r.passes(way.Function(fn.name), reason.MayDiffer, "")
			}
		case b.volatility == 'i' && (b.language == "c" || b.language == "internal"):
			// The server itself relies on it: such a function may stand in an index.
		case b.language == "internal" && binaryTexts[strings.TrimSpace(b.sql)]:
		case b.language == "":
			r.passes(way.Function(fn.name), reason.UnknownTables, "")
			r.mayWrite(b.volatility)
		default:
			r.passes(way.Function(fn.name), reason.UnknownLanguage, b.language)
			r.mayWrite(b.volatility)
		}
	}
	for _, made := range fn.made {
		r.call(made, through, way)
	}
}

// mayBeFixed takes in that the server works out an immutable function when it plans a statement: where it reads tables, a
// statement that was prepared may repeat what it gave then.
func (r *resolver) mayBeFixed(b *body, reads bool, way reason.Way) {
	if b.volatility == 'i' && reads {
		r.passes(way, reason.FixedReads, "")
	}
}

// binaryTexts are the server's own functions by which texts are read and written in binary, as they are called in the
// server: types of extensions have them, too. What they give depends on the client's encoding alone, which is in the key.
// Source: varlena.c and varchar.c of the server's sources.
var binaryTexts = map[string]bool{
	"textrecv": true, "varcharrecv": true, "bpcharrecv": true, "textsend": true, "varcharsend": true, "bpcharsend": true,
}

// rowTriggers are the server's own trigger functions that do no more than to change the row that is written, or to
// leave it as it is. Source: the server's manual, "Trigger Functions" and "Triggers for Automatic Updates".
var rowTriggers = map[string]bool{
	"tsvector_update_trigger":            true,
	"tsvector_update_trigger_column":     true,
	"suppress_redundant_updates_trigger": true,
}

// declared takes in what the DBA said.
func (r *resolver) declared(d catalog.Declaration, how []string) {
	for _, name := range d.Reads {
		for _, rel := range r.declaredTables(name) {
			r.readRelation(rel, how, "")
		}
	}
	for _, name := range d.Writes {
		r.passes("", reason.Writes, "")
		for _, rel := range r.declaredTables(name) {
			r.write(rel, change{events: analysis.Insert | analysis.Update | analysis.Delete | analysis.Truncate}, how)
		}
	}
}

func (r *resolver) declaredTables(name string) []*relation {
	n := analysis.Name{Name: name}
	if schema, rest, ok := strings.Cut(name, "."); ok {
		n = analysis.Name{Schema: schema, Name: rest}
	}
	meant := r.s.meant(n, nil)
	if len(meant) == 0 {
		r.passes("", reason.DeclaredNotNamed, name)
		r.out.Anything()
	}
	return meant
}

// castTo begins the name under which the functions of casts to a type stand among the operators, if only who asks for
// such a cast gets it.
const castTo = "cast to "

// operator follows the functions of an operator or a cast that this database defines.
func (r *resolver) operator(op string, how []string, way reason.Way) {
	for _, row := range r.s.operators[op] {
		if row.function.name == "" { // only its volatility is known
			if row.volatility != 'i' {
				r.passes(way, reason.UnknownTables, "")
				r.mayWrite(row.volatility)
			}
			continue
		}
		if fn := r.s.function(row.function); fn != nil {
			r.call(fn, how, way)
		}
	}
}

// steadyBase says whether a domain over a type reads its values by nothing but them and the settings in the key.
func steadyBase(name string) bool {
	switch name {
	case "bool",
		"int2",
		"int4",
		"int8",
		"float4",
		"float8",
		"numeric",
		"text",
		"varchar",
		"bpchar",
		"uuid",
		"bytea",
		"json",
		"jsonb":
		return true
	}
	return false
}
