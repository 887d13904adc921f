// Package catalog holds what is known of one database's schema, and widens a pattern's facts by it: which tables a
// name can mean, what stands behind a view or a function, what a write does beyond the table it names.
//
// What it cannot follow (a function in a language it does not read, SQL made at run time, a table of another server) is
// named as the reason to pass, or makes a write count for every table.
package catalog

import (
	"slices"
	"strconv"
	"strings"
	"sync"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// Row is one row of a schema's description. Its meaning depends on What:
//
//	relation   Schema.Name has Flags: its kind, then letters, see Flag*
//	child      Schema.Name has the child Other by inheritance or partitioning
//	reference  Schema.Name is referred to by Other; Flags are the letters of ON UPDATE and ON DELETE, and behind a blank
//	           the columns referred to, a line for each
//	trigger    on Schema.Name; Flags is the server's number for its kind; Other is its function
//	part       Schema.Name reads Other: Flags is v for a view, r for a rewrite rule, p for row security
//	call       Schema.Name calls the function Other: Flags as above, or w for what a write does; or t for a type's check
//	view       Schema.Name is defined by the query in OtherName
//	policy     a condition of Schema.Name's row security stands in OtherName
//	rule       Schema.Name has the rewrite rule in OtherName; Flags is the server's number for what it is on
//	columns    of Schema.Name, in OtherName: a line for each, its flags and its name: n, t, u or y
//	           for how it is compared, d for a date with or without a time, h for a time alone, c for a value with fields, o where a
//	           unique index compares otherwise, g for a generated and i for an identity column
//	key        a unique key of Schema.Name: its columns, a line for each, in OtherName, and its index in Flags
//	function   Schema.Name; Flags are its volatility, its kind, and p if it has a search path of its own; OtherSchema is
//	           its language, OtherName its definition, or of one in C the library and its name there
//	granted    Schema.Name may be read by the roles in the readers row named Flags
//	readers    the roles that may read what is granted as Name is: a line with its number for each, in OtherName
//	event      functions are called by definitions
//	aggregate  Schema.Name is made of the function Other
//	           or what it is a range of
//	operator   Name has the function Other, or only the volatility in Flags; Name "cast" stands for casts that nobody has to ask for, and
//	           "cast to" with a type's name for those that somebody has to
//	type       Schema.Name; Flags are its kind and its input's volatility; Other is what a domain is made of
//	typed      the relation or type Schema.Name has a column of the type Other, which is no system type, or an array of it
//	system     the server's own tables and views, in OtherName: a line for each, with its schema
//	schemas    the names and privileges of all schemas, in OtherName
//	reach      there are ways to other databases
//	equality   there is an operator = by which values that are told apart may be compared
//	restricted not everybody may use all of the server's own functions, types and schemas
//	number     the number of the function Schema.Name is Flags
//	numbers    the numbers of the server's own functions, in OtherName: a line for each, with its name
//	builtin    the server's own functions, in OtherName: a line for each, its volatility and its name
//
// A description may lack whatever its server could not say; the first kind of relation row then carries more flags.
type Row struct {
	What, Schema, Name, Flags, OtherSchema, OtherName string
}

// The letters of a relation's flags, after the server's kind of relation: r for a table, v for a view, and so on.
const (
	FlagRowSecurity = 'S'
	FlagTimeTZ      = 'Z' // has a column whose reading depends on today's date

	// These are given where the description does not say the rest.
	FlagInherits  = 'I' // has child tables or is one
	FlagRules     = 'U'
	FlagTriggers  = 'T'
	FlagDefines   = 'X' // a trigger's function may change the schema: it runs SQL made at run time, or is no SQL
	FlagCalls     = 'D' // a default, check, view body or policy calls a function that may write
	FlagFunctions = 'F' // such a thing calls a function of the database at all, or one that changes settings
)

// Schema is one database's schema. It does not change once made.
type Schema struct {
	// Whole says whether the description was one that allows views, functions and the like to be followed.
	Whole bool

	parse     Parse
	relations map[string][]*relation // by name
	functions map[string][]*function // by name
	types     map[string][]Row
	typed     map[string][]analysis.Name // the types of the columns of a relation or type, as far as they are the database's own
	operators map[string][]Row
	builtin   map[string]byte // volatility
	numbers   map[uint32]string

	readers   map[string]map[string]bool // the roles that may read, by the name that granted rows give them
	declared  map[string]Declaration
	ambiguous bool
	events    bool // functions are called by definitions

	system     map[string]bool // the names, with their schemas, of the server's own tables and views; nil where they are not known
	restricted bool            // not everybody may use all of the server's own functions and types
	equality   bool            // values may be compared by an operator of this database's own

	checksTypes bool // something is called when a value becomes one of some type

	reaches bool // what may do anything may do it in other databases, too

	readWrites  bool // some view or policy calls a function that may write
	readChanges bool // or one that may change settings
}

// checks stands behind a domain's name for the functions in its checks. No type is named so.
const checks = " (checks)"

// Parse reads SQL, for what stands in a schema.
type Parse struct {
	// Facts reads a query, and Body the definition of a function or a rule.
	Facts func(sql string) *analysis.Facts
	Body  func(definition string) (*analysis.Facts, error)
}

// Declaration is what the DBA says that a function reads and writes: tables, named in full or by name alone.
type Declaration struct {
	Reads, Writes []string
}

type relation struct {
	schema, name string
	kind         byte
	flags        string

	children   []*relation
	part       bool // it is a child itself
	referrers  []referrer
	triggers   []trigger
	view       *text
	policies   []*text
	rules      []rule
	parts      map[byte][]*relation // by the letter of what reads them
	calls      map[byte][]*function
	columns    []Column
	uniqueKeys [][]string
	keyNames   []string        // those of the indexes that make them
	readers    map[string]bool // the roles that may read it; nil where that is not known
}

// Column is a column of a table.
type Column struct {
	Name string
	// Dated is set for dates and times, Stamp for those of them that have a date, and Composite for what has fields, or may have some.
	Dated, Stamp, Composite bool
	// Type is how its values are compared, or NoType where equal ones may be written in several ways that are not known.
	Type freshness.Type
	// Odd is set when a unique index compares its values in another way than the column does.
	Odd bool
	// Generated is set when the server makes its values from the row's others, Identity when it counts them.
	Generated, Identity bool
}

type rule struct {
	on analysis.Events
	*text
}

type referrer struct {
	*relation
	onUpdate, onDelete byte
	columns            []string
}

type trigger struct {
	events   analysis.Events
	rewrites bool // it is called before, or instead of, the writing of each row, and may write another
	function *function
}

// pinType reads the letter by which a column's flags tell its type.
func pinType(flags string) freshness.Type {
	for i := range len(flags) {
		switch flags[i] {
		case 'n':
			return freshness.Integer
		case 't':
			return freshness.Text
		case 'u':
			return freshness.UUID
		case 'y':
			return freshness.Date
		}
	}
	return freshness.NoType
}

type function struct {
	schema, name string
	bodies       []*body
	made         []*function // of an aggregate
}

func (f *function) full() string { return f.schema + "." + f.name }

// body is one of the functions that share a name.
type body struct {
	volatility, kind byte
	language         string
	ownPath          bool // names in it are not looked up by its caller's search path
	text
}

// reaches says whether it may have ways of its own to other databases.
func (b *body) reaches() bool {
	switch b.language {
	case "sql", "plpgsql", "internal", "":
		return false
	case "c":
		return b.volatility == 'v' && !reviewed(b.sql)
	}
	return true
}

// inert says whether it does nothing but give its result, whatever else is in the database.
func (b *body) inert() bool {
	return b.volatility == 'i' && b.language == "c" || b.volatility != 'v' && b.language == "internal" || b.language == "c" && reviewed(b.sql)
}

// text is SQL that is parsed when it is first needed.
type text struct {
	sql   string
	once  sync.Once
	facts *analysis.Facts
	err   error
}

func (t *text) query(p Parse) *analysis.Facts {
	t.once.Do(func() { t.facts = p.Facts(t.sql) })
	return t.facts
}

func (t *text) definition(p Parse) (*analysis.Facts, error) {
	t.once.Do(func() { t.facts, t.err = p.Body(t.sql) })
	return t.facts, t.err
}

func typeName(schema, name string) analysis.Name { return analysis.Name{Schema: schema, Name: name} }

func (r *relation) full() string { return r.schema + "." + r.name }

// New makes a Schema of its description.
func New(rows []Row, parse Parse) *Schema {
	s := &Schema{
		parse: parse, relations: map[string][]*relation{}, functions: map[string][]*function{}, types: map[string][]Row{}, typed: map[string][]analysis.Name{},
		operators: map[string][]Row{}, builtin: map[string]byte{}, numbers: map[uint32]string{}, readers: map[string]map[string]bool{},
	}
	for _, r := range rows {
		switch r.What {
		case "relation":
			if r.Flags != "" {
				s.relations[r.Name] = append(s.relations[r.Name], &relation{
					schema: r.Schema, name: r.Name, kind: r.Flags[0], flags: r.Flags[1:],
					parts: map[byte][]*relation{}, calls: map[byte][]*function{},
				})
			}
			if strings.HasPrefix(r.Flags, "v") || strings.ContainsRune(r.Flags, FlagRowSecurity) {
				s.readWrites = s.readWrites || strings.ContainsRune(r.Flags, FlagCalls)
				s.readChanges = s.readChanges || strings.ContainsRune(r.Flags, FlagFunctions)
			}
		case "function":
			f := s.function(r.Schema, r.Name, true)
			b := &body{volatility: 'v', language: r.OtherSchema, text: text{sql: r.OtherName}}
			if r.Flags != "" {
				b.volatility = r.Flags[0]
			}
			if len(r.Flags) > 1 {
				b.kind = r.Flags[1]
			}
			s.reaches = s.reaches || b.reaches()
			b.ownPath = strings.Contains(r.Flags, "p")
			f.bodies = append(f.bodies, b)
		case "type":
			s.types[r.Name] = append(s.types[r.Name], r)
		case "call":
			if r.Flags == "t" {
				s.types[r.Name+checks] = append(s.types[r.Name+checks], r)
			}
		case "readers":
			roles := map[string]bool{}
			for role := range strings.SplitSeq(r.OtherName, "\n") {
				roles[role] = true
			}
			s.readers[r.Name] = roles
		case "event":
			s.events = true
		case "restricted":
			s.restricted = true
		case "reach":
			s.reaches = true
		case "equality":
			s.equality = true
		case "system":
			s.system = map[string]bool{}
			for name := range strings.SplitSeq(r.OtherName, "\n") {
				s.system[name] = true
			}
		case "numbers":
			for line := range strings.SplitSeq(r.OtherName, "\n") {
				number, name, _ := strings.Cut(line, " ")
				if n, err := strconv.ParseUint(number, 10, 32); err == nil {
					s.numbers[uint32(n)] = "pg_catalog." + quoted(name)
				}
			}
		case "number":
			if n, err := strconv.ParseUint(r.Flags, 10, 32); err == nil {
				s.numbers[uint32(n)] = quoted(r.Schema) + "." + quoted(r.Name)
			}
		case "typed":
			s.typed[r.Schema+"."+r.Name] = append(s.typed[r.Schema+"."+r.Name], typeName(r.OtherSchema, r.OtherName))
		case "operator":
			s.operators[r.Name] = append(s.operators[r.Name], r)
		case "builtin":
			s.Whole = true
			for line := range strings.SplitSeq(r.OtherName, "\n") {
				if v, name, ok := strings.Cut(line, " "); ok && len(v) == 1 {
					s.builtin[name] = v[0]
				}
			}
		}
	}
	for _, list := range s.relations {
		s.ambiguous = s.ambiguous || len(list) > 1
	}
	for _, r := range rows {
		s.link(r)
	}
	return s
}

// link takes in a row that speaks of things that other rows make.
func (s *Schema) link(r Row) {
	if r.What == "aggregate" {
		if f, made := s.function(r.Schema, r.Name, false), s.function(r.OtherSchema, r.OtherName, false); f != nil && made != nil {
			f.made = append(f.made, made)
		}
		return
	}
	if r.What == "call" && r.Flags == "t" {
		fn := s.function(r.OtherSchema, r.OtherName, false)
		s.checksTypes = s.checksTypes || fn == nil || slices.ContainsFunc(fn.bodies, func(b *body) bool { return !b.inert() })
		return
	}
	from := s.find(r.Schema, r.Name)
	if from == nil {
		return
	}
	switch r.What {
	case "child":
		if to := s.find(r.OtherSchema, r.OtherName); to != nil {
			from.children = append(from.children, to)
			to.part = true
		}
	case "reference":
		if to := s.find(r.OtherSchema, r.OtherName); to != nil && len(r.Flags) >= 2 {
			ref := referrer{relation: to, onUpdate: r.Flags[0], onDelete: r.Flags[1]}
			if len(r.Flags) > 3 {
				ref.columns = strings.Split(r.Flags[3:], "\n")
			}
			from.referrers = append(from.referrers, ref)
		}
	case "part":
		if to := s.find(r.OtherSchema, r.OtherName); to != nil && r.Flags != "" {
			from.parts[r.Flags[0]] = append(from.parts[r.Flags[0]], to)
		}
	case "call":
		if f := s.function(r.OtherSchema, r.OtherName, false); f != nil && r.Flags != "" {
			from.calls[r.Flags[0]] = append(from.calls[r.Flags[0]], f)
		}
	case "trigger":
		if r.OtherSchema == "pg_catalog" && freshness.Off(freshness.ServersTriggers) {
			return
		}
		from.triggers = append(from.triggers, trigger{triggerEvents(r.Flags), rewrites(r.Flags), s.function(r.OtherSchema, r.OtherName, true)})
	case "view":
		from.view = &text{sql: r.OtherName}
	case "policy":
		from.policies = append(from.policies, &text{sql: "select " + r.OtherName})
	case "rule":
		on := map[string]analysis.Events{"2": analysis.Update, "3": analysis.Insert, "4": analysis.Delete}[r.Flags]
		from.rules = append(from.rules, rule{on, &text{sql: r.OtherName}})
	case "columns":
		for line := range strings.SplitSeq(r.OtherName, "\n") {
			if flags, name, ok := strings.Cut(line, " "); ok {
				from.columns = append(from.columns, Column{Name: name, Type: pinType(flags), Dated: strings.ContainsAny(flags, "dh"), Stamp: strings.Contains(flags, "d"),
					Composite: strings.Contains(flags, "c"), Odd: strings.Contains(flags, "o"), Generated: strings.Contains(flags, "g"), Identity: strings.Contains(flags, "i")})
			}
		}
	case "granted":
		from.readers = s.readers[r.Flags]
	case "key":
		from.uniqueKeys = append(from.uniqueKeys, strings.Split(r.OtherName, "\n"))
		from.keyNames = append(from.keyNames, r.Flags)
	}
}

// triggerEvents reads the server's number for a trigger's kind. Source: TRIGGER_TYPE_* in the server's pg_trigger.h.
func triggerEvents(number string) (e analysis.Events) {
	n := 0
	for _, c := range number {
		if c < '0' || c > '9' {
			return analysis.Insert | analysis.Update | analysis.Delete | analysis.Truncate
		}
		n = 10*n + int(c-'0')
	}
	for bit, event := range map[int]analysis.Events{4: analysis.Insert, 8: analysis.Delete, 16: analysis.Update, 32: analysis.Truncate} {
		if n&bit != 0 {
			e |= event
		}
	}
	return e
}

// rewrites says whether the server's number for a trigger's kind is of one that may change what is written: it is called for
// each row, and not after it.
func rewrites(number string) bool {
	n, err := strconv.Atoi(number)
	return err != nil || n&1 != 0 && n&(2|64) != 0
}

func (s *Schema) find(schema, name string) *relation {
	for _, r := range s.relations[name] {
		if r.schema == schema {
			return r
		}
	}
	return nil
}

// function gives a function by its full name, or nil; it is made if that is wanted.
func (s *Schema) function(schema, name string, make bool) *function {
	for _, f := range s.functions[name] {
		if f.schema == schema {
			return f
		}
	}
	if !make {
		return nil
	}
	f := &function{schema: schema, name: name}
	s.functions[name] = append(s.functions[name], f)
	return f
}

// Ambiguous says whether it depends on the search path what a name means.
func (s *Schema) Ambiguous() bool { return s.ambiguous }

// PathMatters says whether it depends on the search path which tables a statement writes.
func (s *Schema) PathMatters(f *analysis.Facts) bool {
	for _, w := range f.Writes {
		if w.Schema == "" && len(s.relations[w.Name.Name]) > 1 {
			return true
		}
	}
	return false
}

// With gives the schema with what the DBA declared of its functions, by their names in full or alone.
func (s *Schema) With(declared map[string]Declaration) *Schema {
	with := *s
	with.declared = declared
	return &with
}

// Numbered gives the full name of a function by its number, quoted for SQL, or nothing for one that is not known.
func (s *Schema) Numbered(n uint32) string { return s.numbers[n] }

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Has says whether there is a table, a view or the like of a name, in whatever schema.
func (s *Schema) Has(name string) bool { return len(s.relations[name]) > 0 }

// Checks says whether something is called when a value becomes one of some type.
func (s *Schema) Checks() bool { return s.checksTypes }

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

// meant gives the relations a name can mean. Without a schema that depends on the search path; where that is not known,
// it may be any of the name.
func (s *Schema) meant(n analysis.Name, path []string) []*relation {
	if n.Schema != "" {
		if r := s.find(n.Schema, n.Name); r != nil {
			return []*relation{r}
		}
		return nil
	}
	if path == nil || len(s.relations[n.Name]) < 2 {
		return s.relations[n.Name]
	}
	for _, schema := range path {
		if r := s.find(schema, n.Name); r != nil {
			return []*relation{r}
		}
	}
	return nil
}
