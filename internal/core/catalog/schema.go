// Package catalog holds what is known of one database's schema, and widens a pattern's facts by it: which tables a
// name can mean, what a write does beyond the table it names, what a function may do.
//
// It knows tables of the plain sort. Anything that could read or write more than its name says (a view, a partition,
// a trigger, a function of the database) is named as the reason to pass, or makes a write count for every table.
package catalog

import (
	"fmt"
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
)

// Row is one row of a schema's description:
//
//	relation  schema name flags             flags are letters, see Flag*
//	cascade   schema name - schema name     a change of the first table changes the second
//	function  schema name volatility        i, s or v, of a function outside the system's schemas
//	operator  schema name volatility        likewise; name "cast" for a cast
type Row struct {
	What, Schema, Name, Flags, OtherSchema, OtherName string
}

// The letters of a relation's flags. The first is the server's kind of relation: r for a table, v for a view, and so on.
const (
	flagTable       = 'r'
	FlagRowSecurity = 'S'
	FlagInherits    = 'I' // has child tables or is one
	FlagRules       = 'U'
	FlagTriggers    = 'T'
	FlagDefines     = 'X' // a trigger's function may change the schema: it runs SQL made at run time, or is no SQL
	FlagCalls       = 'D' // a default, check, view body or policy calls a function that may write
	FlagFunctions   = 'F' // such a thing calls a function of the database at all, or one that changes settings
	FlagTimeTZ      = 'Z' // has a column whose reading depends on today's date
)

// Schema is one database's schema. It does not change once made.
type Schema struct {
	relations   map[string][]*relation // by name
	functions   map[string]byte        // by name, the worst volatility
	operators   map[string]byte
	readWrites  bool // some view or policy calls a function that may write
	readChanges bool // or one that may change settings
}

type relation struct {
	schema, name string
	flags        string
	cascades     []*relation
}

func (r *relation) full() string { return r.schema + "." + r.name }

// New makes a Schema of its description.
func New(rows []Row) *Schema {
	s := &Schema{relations: map[string][]*relation{}, functions: map[string]byte{}, operators: map[string]byte{}}
	for _, r := range rows {
		switch r.What {
		case "relation":
			s.relations[r.Name] = append(s.relations[r.Name], &relation{schema: r.Schema, name: r.Name, flags: r.Flags})
			if strings.HasPrefix(r.Flags, "v") || strings.ContainsRune(r.Flags, FlagRowSecurity) {
				s.readWrites = s.readWrites || strings.ContainsRune(r.Flags, FlagCalls)
				s.readChanges = s.readChanges || strings.ContainsRune(r.Flags, FlagFunctions)
			}
		case "function":
			s.functions[r.Name] = worse(s.functions[r.Name], r.Flags)
		case "operator":
			s.operators[r.Name] = worse(s.operators[r.Name], r.Flags)
		}
	}
	for _, r := range rows {
		if r.What != "cascade" {
			continue
		}
		from, to := s.find(r.Schema, r.Name), s.find(r.OtherSchema, r.OtherName)
		if from != nil && to != nil {
			from.cascades = append(from.cascades, to)
		}
	}
	return s
}

func worse(have byte, volatility string) byte {
	order := "isv"
	if len(volatility) != 1 || !strings.Contains(order, volatility) {
		return 'v'
	}
	if have == 0 || strings.IndexByte(order, volatility[0]) > strings.IndexByte(order, have) {
		return volatility[0]
	}
	return have
}

func (s *Schema) find(schema, name string) *relation {
	for _, r := range s.relations[name] {
		if r.schema == schema {
			return r
		}
	}
	return nil
}

// Tables gives the full names of all tables, sorted.
func (s *Schema) Tables() []string {
	var all []string
	for _, list := range s.relations {
		for _, r := range list {
			all = append(all, r.full())
		}
	}
	slices.Sort(all)
	return all
}

// Resolved is what a pattern does to one database. Tables are named in full: schema, dot, name.
type Resolved struct {
	// Reads are the tables whose change may change the result.
	Reads []string
	// Writes are the tables that the statement may change; when Everything is set it may change any.
	Writes     []string
	Everything bool
	// SchemaChanges is set when the schema itself may be another afterwards.
	SchemaChanges bool
	// Settings is set when settings of the session may be others afterwards.
	Settings bool
	// Reasons says why the result is not kept; empty when it may be.
	Reasons []string
}

// Resolve widens facts by the schema. A name without schema stands for every table so named, since which of them is
// meant depends on the session's search path: that drops too much at worst.
func (s *Schema) Resolve(f *analysis.Facts) *Resolved {
	out := &Resolved{Reasons: slices.Clone(f.Reasons)}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 {
		out.anything()
	}
	if f.Effect&analysis.Settings != 0 {
		out.Settings = true
	}
	for _, n := range f.Reads {
		s.resolveRead(out, f, n)
	}
	for _, n := range f.Writes {
		s.resolveWrite(out, n)
	}
	s.resolveFunctions(out, f)
	for _, op := range f.Operators {
		if v := s.operators[op]; v == 's' || v == 'v' {
			out.reason(fmt.Sprintf("uses the operator %s, which this database defines by a function whose tables are not known", op))
			out.mayWrite(v)
		}
	}
	if v := s.operators["cast"]; v == 's' || v == 'v' {
		out.reason("this database defines a cast by a function whose tables are not known")
		out.mayWrite(v)
	}
	slices.Sort(out.Reads)
	slices.Sort(out.Writes)
	out.Reads, out.Writes = slices.Compact(out.Reads), slices.Compact(out.Writes)
	return out
}

func (o *Resolved) reason(text string) {
	if !slices.Contains(o.Reasons, text) {
		o.Reasons = append(o.Reasons, text)
	}
}

// anything takes into account what is not known at all.
func (o *Resolved) anything() {
	o.Everything, o.SchemaChanges, o.Settings = true, true, true
}

// mayWrite takes into account a function of the given volatility: only a volatile one can write, any can change a
// setting.
func (o *Resolved) mayWrite(volatility byte) {
	o.Settings = true
	if volatility == 'v' {
		o.anything()
	}
}

// Meant gives the relations a name can mean.
func (s *Schema) meant(n analysis.Name) []*relation {
	if n.Schema == "" {
		return s.relations[n.Name]
	}
	if r := s.find(n.Schema, n.Name); r != nil {
		return []*relation{r}
	}
	return nil
}

func (s *Schema) resolveRead(out *Resolved, f *analysis.Facts, n analysis.Name) {
	if n.Schema == "pg_catalog" || n.Schema == "information_schema" || n.Schema == "" && strings.HasPrefix(n.Name, "pg_") {
		out.reason("reads the system table " + n.Name)
		return
	}
	meant := s.meant(n)
	if len(meant) == 0 {
		if n.Schema != "" || !slices.Contains(f.Locals, n.Name) {
			out.reason("reads " + n.String() + ", which the catalog does not name")
		}
		return
	}
	for _, r := range meant {
		out.Reads = append(out.Reads, r.full())
		if why := r.notPlain(); why != "" {
			out.reason("reads " + r.full() + ", " + why)
			out.Settings = out.Settings || s.readChanges
			if s.readWrites {
				out.anything()
			}
		}
	}
}

// notPlain says why a relation's rows may depend on more than writes to its name, or "".
func (r *relation) notPlain() string {
	for _, flag := range r.flags {
		switch flag {
		case flagTable, FlagTriggers, FlagDefines, FlagCalls, FlagFunctions:
		case 'v':
			return "a view: the tables behind it are not followed yet"
		case 'm':
			return "a materialised view"
		case 'p':
			return "a partitioned table"
		case 'f':
			return "a table of another server"
		case FlagRowSecurity:
			return "which has row security"
		case FlagInherits:
			return "which shares rows with another table by inheritance or partitioning"
		case FlagTimeTZ:
			return "which has a column of a time with time zone, read by today's date"
		case FlagRules:
			return "which has rewrite rules"
		default:
			return "which is no plain table"
		}
	}
	return ""
}

// writesMore says whether a write to a relation may change tables that are not found by its cascades.
func (r *relation) writesMore() bool {
	return strings.ContainsAny(r.flags, string([]rune{FlagTriggers, FlagCalls, FlagRules, FlagInherits})) ||
		!strings.HasPrefix(r.flags, string(flagTable))
}

func (s *Schema) resolveWrite(out *Resolved, n analysis.Name) {
	meant := s.meant(n)
	if len(meant) == 0 {
		out.anything() // a system table, a temporary one, or one made since the catalog was read
		return
	}
	seen := map[*relation]bool{}
	for len(meant) > 0 {
		r := meant[0]
		meant = meant[1:]
		if seen[r] {
			continue
		}
		seen[r] = true
		out.Writes = append(out.Writes, r.full())
		switch {
		case !r.writesMore():
		case r.flags == string([]rune{flagTable, FlagTriggers}), r.flags == string([]rune{flagTable, FlagTriggers, FlagFunctions}):
			out.Everything, out.Settings = true, true // its triggers write, but define nothing
		default:
			out.anything()
		}
		meant = append(meant, r.cascades...)
	}
}

func (s *Schema) resolveFunctions(out *Resolved, f *analysis.Facts) {
	for _, name := range f.BuiltIns {
		if v, ok := s.functions[name]; ok { // one of this database's may be meant
			out.reason("calls " + name + "(), which this database defines too: what that reads is not known")
			out.mayWrite(v)
		}
	}
	for _, name := range f.Attributes {
		if v, ok := s.functions[name]; ok {
			out.reason("asks for ." + name + ", which may be a call of the function " + name + "()")
			out.mayWrite(v)
		}
	}
	for _, n := range f.Functions {
		out.reason("calls " + n.Name + "(), a function whose tables are not known")
		v, ok := s.functions[n.Name]
		if !ok {
			v = 'v'
		}
		out.mayWrite(v)
	}
}

// Unread gives what a pattern does to a database whose catalog has not been read: nothing is kept, and a write may
// change any table; whether it may have changed the schema is to be asked of the catalog when that has been read. A statement that only reads the tables it names, through functions known to be harmless, still
// changes nothing.
func Unread(f *analysis.Facts) *Resolved {
	out := &Resolved{Reasons: slices.Clone(f.Reasons)}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 || len(f.Functions) > 0 {
		out.anything()
	}
	if len(f.Writes) > 0 {
		out.Everything = true
	}
	out.Settings = true // a table read may be a view, and that may call anything
	out.reason("the database's catalog has not been read yet")
	return out
}
