package catalog

import (
	"fmt"
	"strings"

	"jollylarder/internal/core/analysis"
)

// callName follows a call of a function that is named.
func (r *resolver) callName(n analysis.Name, how []string, which string) {
	found := false
	for _, fn := range r.s.functions[n.Name] {
		if n.Schema == "" || n.Schema == fn.schema || fn.schema == "" {
			found = true
			r.call(fn, how, which+"calls ")
		}
	}
	if n.Schema != "" && n.Schema != "pg_catalog" || found && r.s.builtin[n.Name] == 0 {
		if !found {
			r.unknownFunction(n, which)
		}
		return
	}
	switch r.s.builtin[n.Name] {
	case 'i':
	case 's':
		r.reason(which + "calls " + n.Name + "(), and what that depends on is not known")
	case 'v':
		r.reason(which + "calls " + n.Name + "(), which may do anything")
		r.out.anything()
	default:
		r.unknownFunction(n, which)
	}
}

func (r *resolver) unknownFunction(n analysis.Name, which string) {
	if d, ok := r.s.declared[n.String()]; ok {
		r.declared(d, []string{"as declared for the function " + n.String()})
		return
	}
	r.reason(which + "calls " + n.Name + "(), a function whose tables are not known")
	r.out.anything()
}

// call follows a function of the database.
func (r *resolver) call(fn *function, how []string, which string) {
	r.named(fn.name)
	if r.called[fn] {
		return
	}
	r.called[fn] = true
	for _, name := range []string{fn.full(), fn.name} {
		if d, ok := r.s.declared[name]; ok {
			r.declared(d, then(how, "as declared for the function "+name))
			return
		}
	}
	if fn.schema == "pg_catalog" && len(fn.bodies) == 0 && rowTriggers[fn.name] {
		return
	}
	through := then(how, "through the function "+fn.name+"()")
	if len(fn.bodies) == 0 {
		r.reason(which + fn.name + "(), a function whose tables are not known")
		r.out.anything()
	}
	for _, b := range fn.bodies {
		switch {
		case b.kind == 'a': // made of others
		case b.language == "sql" || b.language == "plpgsql":
			f, err := b.definition(r.s.parse)
			if err != nil {
				r.reason(which + fn.name + "(), whose tables are not known: " + err.Error())
				r.mayWrite(b.volatility)
				break
			}
			back := func() {}
			if b.ownPath || f.Effect&analysis.Settings != 0 {
				back = r.anyPath()
			}
			r.facts(f, through, which+fn.name+"(), which ")
			back()
		case b.language == "c" && reviewed(b.sql):
			switch b.volatility {
			case 's':
				r.reason(which + fn.name + "(), and what that depends on is not known")
			case 'v':
				r.reason(which + fn.name + "(), which may give another value at every call")
			}
		case b.volatility == 'i' && (b.language == "c" || b.language == "internal"):
			// The server itself relies on it: such a function may stand in an index.
		case b.language == "":
			r.reason(which + fn.name + "(), a function whose tables are not known")
			r.mayWrite(b.volatility)
		default:
			r.reason(fmt.Sprintf("%s%s(), whose tables are not known: it is written in %s", which, fn.name, b.language))
			r.mayWrite(b.volatility)
		}
	}
	for _, made := range fn.made {
		r.call(made, through, which)
	}
}

// rowTriggers are the server's own trigger functions that do no more than to change the row that is written, or to leave it as it is. Source: the
// server's manual, "Trigger Functions" and "Triggers for Automatic Updates".
var rowTriggers = map[string]bool{"tsvector_update_trigger": true, "tsvector_update_trigger_column": true, "suppress_redundant_updates_trigger": true}

// declared takes in what the DBA said.
func (r *resolver) declared(d Declaration, how []string) {
	for _, name := range d.Reads {
		for _, rel := range r.declaredTables(name) {
			r.readRelation(rel, how, "")
		}
	}
	for _, name := range d.Writes {
		r.reason("writes")
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
		r.reason("is declared to use " + name + ", which the catalog does not name")
		r.out.anything()
	}
	return meant
}

// castTo begins the name under which the functions of casts to a type stand among the operators, if only who asks for such a cast gets it.
const castTo = "cast to "

// operator follows the functions of an operator or a cast that this database defines.
func (r *resolver) operator(op, what string, how []string, which string) {
	for _, row := range r.s.operators[op] {
		if row.OtherName == "" { // only its volatility is known
			if row.Flags != "i" {
				r.reason(which + what + "a function whose tables are not known")
				r.mayWrite(worst(row.Flags))
			}
			continue
		}
		for _, fn := range r.s.functions[row.OtherName] {
			if fn.schema == row.OtherSchema {
				r.call(fn, how, which+what)
			}
		}
	}
}

func worst(volatility string) byte {
	if volatility == "s" {
		return 's'
	}
	return 'v'
}

// steadyBase says whether a domain over a type reads its values by nothing but them and the settings in the key.
func steadyBase(name string) bool {
	switch name {
	case "bool", "int2", "int4", "int8", "float4", "float8", "numeric", "text", "varchar", "bpchar", "uuid", "bytea", "json", "jsonb":
		return true
	}
	return false
}
