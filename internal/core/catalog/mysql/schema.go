package mysql

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	syntax "jollylarder/internal/core/statement/mysql"
)

// Schema is the schema of a server.
type Schema struct {
	folds    bool
	shared   bool // some table has rows of others
	tables   map[analysis.Name]*table
	byName   map[string][]*table
	routines map[analysis.Name][]*routine // a function and a procedure may share a name
	named    map[string][]*routine
	natives  map[string]bool
	declared map[string]catalog.Declaration
}

// table is a table, or what is used as one.
type table struct {
	analysis.Name
	kind      kind
	versioned bool            // a transaction sees its rows as of one moment, and what it writes is undone with it
	drifts    []reason.Reason // why rows may be others though nobody has written them
	times     []string        // its columns of the type TIME
	columns   []column
	keys      []key
	refers    bool            // a reference may have its rows changed when those of another table are
	view      *analysis.Facts // what a view reads; nil if that is not known
	triggers  []trigger
	referrers []referrer
}

// kind is what a table is.
type kind uint8

const (
	plain kind = iota
	view
	sequence
	system
	shares  // it has rows of other tables
	foreign // its rows are elsewhere
	unknown
)

// engines are those whose tables hold their own rows, and no others.
var engines = statement.Words("InnoDB MyISAM Aria MEMORY CSV ARCHIVE ROCKSDB")

// trigger is what is done beside a write. One that comes before that may change other columns than the statement sets.
type trigger struct {
	events analysis.Events
	before bool
	body   body
}

// referrer is a table that has a reference to another.
type referrer struct {
	from               *table
	columns            []string        // of the other that it refers to
	onUpdate, onDelete analysis.Events // of it, when the other is written
}

// routine is a function or procedure.
type routine struct {
	analysis.Name
	procedure bool
	body      body
}

// body is what a routine's or a trigger's body names, as far as its words tell.
type body struct {
	schema string // where names without one are
	known  bool
	names  []analysis.Name
	writes bool // some statement in it writes, or runs another
	any    bool // it runs SQL that is made at run time

	defines   bool // it changes definitions, or privileges
	grants    bool // it may change privileges, also by SQL that is made at run time
	asks      bool // it may ask what became of the statement before it
	temporary bool // it makes a temporary table
}

// Schema implements catalog.Description.
func (d *Described) Schema() catalog.Schema {
	s := &Schema{
		folds: d.Folds, tables: map[analysis.Name]*table{}, byName: map[string][]*table{}, routines: map[analysis.Name][]*routine{},
		named: map[string][]*routine{}, natives: map[string]bool{},
	}
	for _, t := range d.Tables {
		x := &table{Name: analysis.Name{Schema: t.Schema, Name: t.Name}, kind: kindOf(t), versioned: t.Engine == "InnoDB"}
		s.shared = s.shared || x.kind == shares
		s.tables[s.fold(x.Name)] = x
		s.byName[s.fold(x.Name).Name] = append(s.byName[s.fold(x.Name).Name], x)
	}
	of := func(schema, name string) *table {
		if t := s.tables[s.fold(analysis.Name{Schema: schema, Name: name})]; t != nil {
			return t
		}
		return &table{} // what nobody asks for
	}
	for _, c := range d.Columns {
		t := of(c.Schema, c.Table)
		t.columns = append(t.columns, columnOf(c))
		if c.Type == "time" || strings.HasPrefix(c.Type, "time(") {
			t.times = append(t.times, strings.ToLower(c.Name))
		}
		if c.Expression == "" {
			continue
		}
		// One that is stored cannot be so, and is not told apart here.
		if f := facts.Facts(syntax.Syntax, "select "+c.Expression); len(f.Reasons)+len(f.Functions)+len(f.Reads) > 0 || f.NamesUser {
			t.drifts = append(t.drifts, reason.About(reason.DriftingColumn, c.Name).Behind(reason.Way("").Reads(t.String())))
		}
	}
	for _, k := range d.Keys {
		t := of(k.Schema, k.Table)
		t.keys = append(t.keys, key{strings.Split(k.Columns, ","), k.Parts})
	}
	for _, v := range d.Views {
		t := of(v.Schema, v.Name)
		if t.kind = view; v.Definition != "" {
			t.view = facts.Facts(syntax.Syntax, v.Definition)
		}
	}
	for _, x := range d.Triggers {
		t := of(x.Schema, x.Table)
		t.triggers = append(t.triggers, trigger{eventOf(x.Event), x.Timing != "AFTER", bodyOf(x.Schema, x.Body, x.Mode)})
	}
	for _, x := range d.References {
		t, from := of(x.ToSchema, x.ToTable), of(x.Schema, x.Table)
		r := referrer{from, columnsOf(x.Columns), cascades(x.OnUpdate, analysis.Update), cascades(x.OnDelete, analysis.Delete)}
		t.referrers = append(t.referrers, r)
		from.refers = from.refers || r.onUpdate|r.onDelete != 0
	}
	for _, x := range d.Routines {
		r := &routine{Name: analysis.Name{Schema: x.Schema, Name: x.Name}, procedure: x.Kind == "PROCEDURE", body: bodyOf(x.Schema, x.Body, x.Mode)}
		key := analysis.Name{Schema: s.schema(x.Schema), Name: strings.ToLower(x.Name)}
		s.routines[key] = append(s.routines[key], r)
		s.named[key.Name] = append(s.named[key.Name], r)
	}
	for _, n := range d.Natives {
		s.natives[strings.ToLower(n)] = true
	}
	return s
}

// columnsOf splits a list of columns; none stands for any.
func columnsOf(list string) []string {
	if list == "" { // which was taken away while the schema was read
		return nil
	}
	return strings.Split(strings.ToLower(list), ",")
}

func kindOf(t Table) kind {
	switch {
	case facts.System(t.Schema) || t.Type == "SYSTEM VIEW":
		return system
	case strings.Contains(t.Type, "VIEW"):
		return view
	case t.Type == "SEQUENCE":
		return sequence
	case engines[t.Engine]:
		return plain
	}
	switch t.Engine {
	case "MRG_MyISAM", "MERGE":
		return shares
	case "FEDERATED", "CONNECT", "SPIDER", "S3", "SPHINX":
		return foreign
	}
	return unknown
}

func eventOf(name string) analysis.Events {
	return map[string]analysis.Events{"INSERT": analysis.Insert, "UPDATE": analysis.Update, "DELETE": analysis.Delete}[name]
}

// cascades says what a foreign key's rule does to the rows that refer to a row of which something happened. A rule that is
// not known may do either.
func cascades(rule string, what analysis.Events) analysis.Events {
	switch rule {
	case "RESTRICT", "NO ACTION":
		return 0
	case "CASCADE":
		return what
	case "SET NULL", "SET DEFAULT":
		return analysis.Update
	}
	return analysis.Update | analysis.Delete
}

// writing are the words that begin a statement of a body which writes, or may run another that does.
var writing = statement.Words("insert update delete replace load truncate create drop alter rename call import merge handler analyze optimize repair grant revoke flush")

// defining are those among them by which a definition changes, or who may do what, so that the schema is not known any more
// when the body has run.
var defining = statement.Words("create alter drop rename grant revoke import")

// ofLast are the words by which a body can ask what became of the statement before it.
var ofLast = statement.Words("found_rows row_count warnings errors diagnostics warning_count error_count last_insert_id identity")

// bodyOf reads a body by its words.
func bodyOf(schema, text, mode string) body {
	b := body{schema: schema, known: text != "", grants: facts.MayGrant(text)}
	m := syntax.Mode(0)
	if strings.Contains(mode, "ANSI_QUOTES") {
		m |= syntax.ANSIQuotes
	}
	if strings.Contains(mode, "NO_BACKSLASH_ESCAPES") {
		m |= syntax.NoBackslashEscapes
	}
	bare, ok := m.Bare([]byte(text))
	if !ok {
		b.any = true
		return b
	}
	s := syntax.Of(m)
	list := s.Tokens(bare)
	followed := func(i int, word string) bool {
		return i+1 < len(list) && strings.EqualFold(string(bare[list[i+1].Start:list[i+1].End]), word)
	}
	for i, t := range list {
		if t.Kind != statement.WordToken {
			continue
		}
		call := i+1 < len(list) && list[i+1].Kind == statement.OpeningToken && list[i+1].Start == t.End
		switch w := strings.ToLower(string(bare[t.Start:t.End])); {
		case w == "prepare" || w == "execute":
			b.any = true
		case ofLast[w]:
			b.asks = true
		case w == "temporary":
			b.temporary = true
		case writing[w] && !call:
			b.writes = true
			b.defines = b.defines || defining[w] && !followed(i, "temporary")
		}
	}
	b.names = facts.Names(s, string(bare))
	return b
}

// fold gives a name as it is looked up.
func (s *Schema) fold(n analysis.Name) analysis.Name {
	if s.folds {
		return analysis.Name{Schema: strings.ToLower(n.Schema), Name: strings.ToLower(n.Name)}
	}
	return n
}

func (s *Schema) schema(name string) string { return s.fold(analysis.Name{Schema: name}).Schema }

// With implements catalog.Schema.
func (s *Schema) With(declared map[string]catalog.Declaration) catalog.Schema {
	with := *s
	with.declared = declared
	return &with
}

// Whole implements catalog.Schema.
func (s *Schema) Whole() bool { return true }

// Tables implements catalog.Schema.
func (s *Schema) Tables() (list []string) {
	for _, t := range s.tables {
		if t.kind != system {
			list = append(list, t.String())
		}
	}
	slices.Sort(list)
	return list
}

// Ambiguous implements catalog.Schema.
func (s *Schema) Ambiguous() bool { return true }

// PathMatters implements catalog.Schema.
func (s *Schema) PathMatters(f *analysis.Facts) bool {
	return slices.ContainsFunc(f.Writes, func(w analysis.Write) bool { return w.Schema == "" })
}

// Temporary implements catalog.Schema. A temporary table hides a plain one of its name: what is done to one that has such
// a name may be done to either.
func (s *Schema) Temporary(n analysis.Name) bool { return len(s.byName[s.fold(n).Name]) == 0 }

// Checks implements catalog.Schema.
func (s *Schema) Checks() bool { return false }

// Numbered implements catalog.Schema.
func (s *Schema) Numbered(uint32) string { return "" }
