// Package postgres holds what is known of the schema of a PostgreSQL database, and follows names through it.
package postgres

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
)

// Schema is one database's schema. It does not change once made.
type Schema struct {
	whole     bool                       // the description was one that allows views, functions and the like to be followed
	relations map[string][]*relation     // by name
	functions map[string][]*function     // by name
	types     map[string][]typeRecord    // by name
	checks    map[fullName][]fullName    // the functions in the checks of types
	typed     map[string][]analysis.Name // the types of the columns of a relation or type, as far as they are the database's own
	operators map[string][]operatorRecord
	builtin   map[string]byte // volatility
	numbers   map[uint32]string

	readers   map[string]map[string]bool // the roles that may read, by the name that granted rows give them
	declared  map[string]catalog.Declaration
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

type relation struct {
	fullName
	kind  byte
	flags flags

	children   []*relation
	part       bool // it is a child itself
	referrers  []referrer
	triggers   []trigger
	view       *text
	policies   []*text
	rules      []rule
	parts      map[partOf][]*relation // by what reads them
	calls      map[partOf][]*function
	columns    []column
	uniqueKeys [][]string
	keyNames   []string        // those of the indexes that make them
	readers    map[string]bool // the roles that may read it; nil where that is not known
}

// column is a column of a table.
type column struct {
	Name string
	// Dated is set for dates and times, Stamp for those of them that have a date, and Composite for what has fields, or
	// may have some.
	Dated, Stamp, Composite bool
	// Type is how its values are compared, or NoType where equal ones may be written in several ways that are not
	// known.
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

type function struct {
	fullName
	bodies []*body
	made   []*function // of an aggregate
}

func (f *function) full() string { return f.String() }

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
	return b.volatility == 'i' && b.language == "c" || b.volatility != 'v' && b.language == "internal" ||
		b.language == "c" && reviewed(b.sql)
}

// text is SQL that is parsed when it is first needed.
type text struct {
	sql   string
	once  sync.Once
	facts *analysis.Facts
	err   error
}

func (t *text) query() *analysis.Facts {
	t.once.Do(func() { t.facts = facts.Facts(t.sql) })
	return t.facts
}

func (t *text) definition() (*analysis.Facts, error) {
	t.once.Do(func() { t.facts, t.err = facts.Body(t.sql) })
	return t.facts, t.err
}

func typeName(schema, name string) analysis.Name { return analysis.Name{Schema: schema, Name: name} }

func (r *relation) full() string { return r.String() }

// Check says what is wrong with a description's rows, or nothing. What is said by rows that are wrong is not known, so
// that nothing may rest on such a description.
func Check(rows []Row) error {
	for _, r := range rows {
		if _, err := r.read(); err != nil {
			return err
		}
	}
	return nil
}

// New makes a Schema of its description, of which Check found nothing wrong.
func New(rows []Row) *Schema {
	s := &Schema{
		relations: map[string][]*relation{}, functions: map[string][]*function{}, types: map[string][]typeRecord{}, checks: map[fullName][]fullName{},
		typed: map[string][]analysis.Name{}, operators: map[string][]operatorRecord{}, builtin: map[string]byte{}, numbers: map[uint32]string{}, readers: map[string]map[string]bool{},
	}
	records := make([]record, 0, len(rows))
	for _, r := range rows {
		if said, err := r.read(); err == nil {
			records = append(records, said)
			s.add(said)
		}
	}
	for _, list := range s.relations {
		s.ambiguous = s.ambiguous || len(list) > 1
	}
	for _, said := range records {
		s.link(said)
	}
	return s
}

// add takes in what a record makes.
func (s *Schema) add(said record) {
	switch r := said.(type) {
	case relationRecord:
		s.relations[r.name] = append(s.relations[r.name], &relation{fullName: r.fullName, kind: r.kind, flags: r.flags, parts: map[partOf][]*relation{}, calls: map[partOf][]*function{}})
		if r.kind == 'v' || r.flags&rowSecurity != 0 {
			s.readWrites = s.readWrites || r.flags&calling != 0
			s.readChanges = s.readChanges || r.flags&functional != 0
		}
	case functionRecord:
		f := s.functionOrNew(r.fullName)
		b := &body{volatility: r.volatility, kind: r.kind, language: r.language, ownPath: r.ownPath, text: text{sql: r.definition}}
		s.reaches = s.reaches || b.reaches()
		f.bodies = append(f.bodies, b)
	case typeRecord:
		s.types[r.name] = append(s.types[r.name], r)
	case checkRecord:
		s.checks[r.of] = append(s.checks[r.of], r.function)
	case readersRecord:
		roles := map[string]bool{}
		for _, role := range r.roles {
			roles[role] = true
		}
		s.readers[r.key] = roles
	case propertyRecord:
		s.events, s.restricted = s.events || r == hasEventTriggers, s.restricted || r == isRestricted
		s.reaches, s.equality = s.reaches || r == reachesOthers, s.equality || r == hasEquality
	case systemRecord:
		s.system = map[string]bool{}
		for _, name := range r {
			s.system[name] = true
		}
	case numbersRecord:
		for n, name := range r {
			s.numbers[n] = "pg_catalog." + quoted(name)
		}
	case numberRecord:
		s.numbers[r.number] = quoted(r.schema) + "." + quoted(r.name)
	case typedRecord:
		s.typed[r.of.String()] = append(s.typed[r.of.String()], typeName(r.column.schema, r.column.name))
	case operatorRecord:
		s.operators[r.name] = append(s.operators[r.name], r)
	case builtinRecord:
		s.whole = true
		maps.Copy(s.builtin, r)
	}
}

// link takes in a record that speaks of things that other records make.
func (s *Schema) link(said record) {
	switch r := said.(type) {
	case aggregateRecord:
		if f, made := s.function(r.aggregate), s.function(r.of); f != nil && made != nil {
			f.made = append(f.made, made)
		}
	case checkRecord:
		fn := s.function(r.function)
		s.checksTypes = s.checksTypes || fn == nil || slices.ContainsFunc(fn.bodies, func(b *body) bool { return !b.inert() })
	case childRecord:
		if from, to := s.find(r.parent), s.find(r.child); from != nil && to != nil {
			from.children = append(from.children, to)
			to.part = true
		}
	case referenceRecord:
		if to, from := s.find(r.to), s.find(r.from); to != nil && from != nil {
			to.referrers = append(to.referrers, referrer{relation: from, onUpdate: r.onUpdate, onDelete: r.onDelete, columns: r.columns})
		}
	case partRecord:
		if of, read := s.find(r.of), s.find(r.read); of != nil && read != nil {
			of.parts[r.by] = append(of.parts[r.by], read)
		}
	case callRecord:
		if of, f := s.find(r.of), s.function(r.function); of != nil && f != nil {
			of.calls[r.by] = append(of.calls[r.by], f)
		}
	case triggerRecord:
		if on := s.find(r.on); on != nil && (r.function.schema != "pg_catalog" || !freshness.Off(freshness.ServersTriggers)) {
			on.triggers = append(on.triggers, trigger{r.events, r.rewrites, s.functionOrNew(r.function)})
		}
	default:
		s.describe(said)
	}
}

// describe takes in a record that says more of one relation.
func (s *Schema) describe(said record) {
	switch r := said.(type) {
	case viewRecord:
		if rel := s.find(r.fullName); rel != nil {
			rel.view = &text{sql: r.query}
		}
	case policyRecord:
		if rel := s.find(r.of); rel != nil {
			rel.policies = append(rel.policies, &text{sql: "select " + r.condition})
		}
	case ruleRecord:
		if rel := s.find(r.of); rel != nil {
			rel.rules = append(rel.rules, rule{r.on, &text{sql: r.definition}})
		}
	case columnsRecord:
		if rel := s.find(r.of); rel != nil {
			rel.columns = append(rel.columns, r.list...)
		}
	case grantedRecord:
		if rel := s.find(r.fullName); rel != nil {
			rel.readers = s.readers[r.readers]
		}
	case keyRecord:
		if rel := s.find(r.of); rel != nil {
			rel.uniqueKeys = append(rel.uniqueKeys, r.columns)
			rel.keyNames = append(rel.keyNames, r.index)
		}
	}
}

func (s *Schema) find(n fullName) *relation {
	for _, r := range s.relations[n.name] {
		if r.fullName == n {
			return r
		}
	}
	return nil
}

// function gives a function by its full name, or nil.
func (s *Schema) function(n fullName) *function {
	for _, f := range s.functions[n.name] {
		if f.fullName == n {
			return f
		}
	}
	return nil
}

// functionOrNew gives a function by its full name, which is made if there is none.
func (s *Schema) functionOrNew(n fullName) *function {
	f := s.function(n)
	if f == nil {
		f = &function{fullName: n}
		s.functions[n.name] = append(s.functions[n.name], f)
	}
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

// Whole implements catalog.Schema.
func (s *Schema) Whole() bool { return s.whole }

// With implements catalog.Schema.
func (s *Schema) With(declared map[string]catalog.Declaration) catalog.Schema {
	with := *s
	with.declared = declared
	return &with
}

// Numbered gives the full name of a function by its number, quoted for SQL, or nothing for one that is not known.
func (s *Schema) Numbered(n uint32) string { return s.numbers[n] }

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Temporary implements catalog.Schema.
func (s *Schema) Temporary(n analysis.Name) bool {
	return (n.Schema == "" || n.Schema == "pg_temp") && len(s.relations[n.Name]) == 0
}

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
		if r := s.find(fullName{n.Schema, n.Name}); r != nil {
			return []*relation{r}
		}
		return nil
	}
	if path == nil || len(s.relations[n.Name]) < 2 {
		return s.relations[n.Name]
	}
	for _, schema := range path {
		if r := s.find(fullName{schema, n.Name}); r != nil {
			return []*relation{r}
		}
	}
	return nil
}
