// Package lines is the smallest database that a larder can stand before: it is made up, for tests. It shows what a
// protocol has to bring, and gives the kit something to find fault with.
//
// A client says "hello USER DATABASE", where behind a dot the user may say which of his programs it is, and hears "welcome NUMBER" and "ready I". From then on it sends a statement on each
// line, with its values behind tabs, and hears lines of rows, then "done" or "failed WHY", then "ready" with I, or T
// within a transaction. "cancel NUMBER" in the place of a hello has the statement of another session ended.
package lines

import (
	"regexp"
	"strings"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
	"jollylarder/internal/wire/link"
)

// The statements that there are. They speak of the one table of a database.
var (
	readRow  = regexp.MustCompile(`^select name from quay where id = (\d+|\?)$`)
	readAll  = regexp.MustCompile(`^select id, name from quay$`)
	readLong = regexp.MustCompile(`^select long from quay$`)
	write    = regexp.MustCompile(`^update quay set name = ('[^']*'|\?) where id = (\d+|\?)$`)
	writeAll = regexp.MustCompile(`^update quay set name = ('[^']*')$`)
)

// facts reads what a statement does.
func facts(_ *statement.Syntax, sql string) *analysis.Facts {
	quay := analysis.Name{Name: "quay"}
	switch {
	case readRow.MatchString(sql), readAll.MatchString(sql), readLong.MatchString(sql):
		return &analysis.Facts{Kind: analysis.KindSelect, Reads: []analysis.Name{quay}}
	case write.MatchString(sql), writeAll.MatchString(sql):
		return &analysis.Facts{
			Kind: analysis.KindUpdate, Writes: []analysis.Write{{Name: quay, Events: analysis.Update}},
			Reasons: []reason.Reason{reason.Of(reason.Writes)},
		}
	case sql == "begin":
		return &analysis.Facts{Kind: analysis.KindBegin, Effect: analysis.Begins, Reasons: []reason.Reason{reason.Of(reason.BeginsOrEnds)}}
	case sql == "commit":
		return &analysis.Facts{Kind: analysis.KindCommit, Effect: analysis.Commits, Reasons: []reason.Reason{reason.Of(reason.BeginsOrEnds)}}
	case sql == "rollback":
		return &analysis.Facts{Kind: analysis.KindRollback, Effect: analysis.Ends, Reasons: []reason.Reason{reason.Of(reason.BeginsOrEnds)}}
	case sql == "sleep":
		return &analysis.Facts{Kind: analysis.KindSelect, Reasons: []reason.Reason{reason.Of(reason.AsksForTime)}}
	}
	return analysis.Unreadable(reason.Of(reason.NotUnderstood))
}

// Dialect is what the engine needs of it.
var Dialect = &dialect.Dialect{
	Syntax: statement.NewSyntax(statement.Lexical{
		Name: "lines", Quotes: []statement.Quote{{Mark: '\''}}, QuestionMark: true, Operators: "=",
		Reserved: func([]byte) bool { return false },
	}),
	Facts:    facts,
	Catalog:  func(bool) catalog.Reader { return &reader{} },
	Views:    [...]dialect.View{analysis.ReadCommitted: dialect.EachStatement, analysis.Serializable: dialect.Unknowable},
	SameRows: func(a, b []byte) bool { return string(a) == string(b) },
}

// reader asks for the tables of a database, all at once.
type reader struct {
	round, changed bool
	tables         tables
}

// tables are those of a database, in order.
type tables string

func (r *reader) Begin(...*catalog.Defined)        { r.round = true }
func (r *reader) InRound() bool                    { return r.round }
func (r *reader) Bundle() []catalog.Question       { return []catalog.Question{"tables"} }
func (r *reader) GiveUp()                          { r.round = false }
func (r *reader) Changed() bool                    { return r.changed }
func (r *reader) Accept()                          { r.changed = false }
func (r *reader) Description() catalog.Description { return r.tables }

func (r *reader) Take(_ catalog.Question, a catalog.Answer, _ time.Duration) (ended, ok bool) {
	told, ok := a.(tables)
	if ok {
		r.round, r.changed, r.tables = false, r.changed || told != r.tables, told
	}
	return ok, ok
}

func (t tables) Same(o catalog.Description) bool { return o == t }
func (t tables) Schema() catalog.Schema          { return t }

func (t tables) Explained(after catalog.Description, _ []*catalog.Defined, _ bool) bool {
	return after == t
}

// Resolve follows names: there are neither views nor anything else behind a table.
func (t tables) Resolve(f *analysis.Facts, _ catalog.Hints) *catalog.Resolved {
	out := &catalog.Resolved{Reasons: f.Reasons}
	if f.Effect&analysis.Unknown != 0 {
		out.Anything()
	}
	for _, n := range f.Reads {
		out.Reads = append(out.Reads, n.Name)
	}
	for _, w := range f.Writes {
		out.Writes = append(out.Writes, w.Name.Name)
	}
	return out
}

func (t tables) With(map[string]catalog.Declaration) catalog.Schema   { return t }
func (t tables) Whole() bool                                          { return true }
func (t tables) Tables() []string                                     { return strings.Fields(string(t)) }
func (t tables) Ambiguous() bool                                      { return false }
func (t tables) PathMatters(*analysis.Facts) bool                     { return false }
func (t tables) Temporary(analysis.Name) bool                         { return false }
func (t tables) Checks() bool                                         { return false }
func (t tables) Numbered(uint32) string                               { return "" }
func (t tables) Told(string, string) catalog.Told                     { return catalog.ToldRows }
func (t tables) PinColumns(string, string) []catalog.Column           { return nil }
func (t tables) Assigned(string, string, []string, []string) []string { return nil }

// Fault is something that a larder could do wrong. The kit has to find each.
type Fault uint8

// The faults.
const (
	None Fault = iota
	LosesBytes
	OverlooksWrites
	OverlooksBoundWrites
	WaitsForOneClient
	IgnoresCancelling
	ReadsStrangers
	KeepsVanished
	HidesTheEnd
	CachesNothing
)

// Protocol gives the protocol, with a fault.
func Protocol(f Fault) *protocol.Protocol {
	return &protocol.Protocol{
		Name: "lines", Title: "Lines", Schemes: []string{"lines"}, Dialect: Dialect,
		New: func(o link.Options) link.Server { return &server{Options: o, fault: f} },
		Render: func(_, bound []byte) (out protocol.Rendered) {
			for v := range strings.SplitSeq(string(bound), "\t") {
				out.Values = append(out.Values, v)
				out.Parameters = append(out.Parameters, trial.Parameter{Value: []byte(v)})
			}
			return out
		},
	}
}
