// Package catalog holds what is known of a database's schema as far as the engine needs it: what a pattern does once
// its names are followed, and how a schema is asked for. The packages inside it read one kind of database each.
//
// What they cannot follow (a function in a language they do not read, SQL made at run time, a table of another server)
// is named as the reason to pass, or makes a write count for every table.
package catalog

import (
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// Schema is the schema of one database, or of what counts as one. It does not change once made.
type Schema interface {
	// Resolve widens the facts of a pattern by the schema: which tables a name can mean, what stands behind a view or a
	// function, what a write does beyond the table it names.
	Resolve(f *analysis.Facts, h Hints) *Resolved
	// With gives the schema with what the DBA declared of its functions, by their names in full or alone.
	With(declared map[string]Declaration) Schema
	// Whole says whether the description was one that allows views, functions and the like to be followed.
	Whole() bool
	// Tables gives the full names of all tables, sorted.
	Tables() []string

	// Ambiguous says whether it depends on the search path what a name means, and PathMatters whether it does which
	// tables a statement writes.
	Ambiguous() bool
	PathMatters(f *analysis.Facts) bool
	// Temporary says whether a name means a temporary table of its session's own, if that has one of the name.
	Temporary(n analysis.Name) bool
	// Checks says whether something is called when a value becomes one of some type.
	Checks() bool
	// Numbered gives the full name of a function by its number, quoted for SQL, or nothing for one that is not known, or
	// where functions have none.
	Numbered(n uint32) string

	// Told says what is known of a change of rows of which a stream of changes tells.
	Told(schema, table string) Told
	// PinColumns gives the columns of a table whose values are told apart.
	PinColumns(schema, table string) []Column
	// Assigned gives the columns of a table that an update may have changed, of which a stream told that it changed some;
	// nil where it does not tell of all columns.
	Assigned(schema, table string, sets, told []string) []string
}

// Told is what is known of a change of rows of which a stream tells.
type Told uint8

// The kinds.
const (
	ToldRows  Told = iota // these rows have changed
	ToldTable             // rows of the table have changed, and not all are told of
	ToldLess              // rows of other tables may have changed with them, of which nothing is told
)

// Room is what a column stores as it is given; another value may become one of these. Its zero value is that of a column
// which stores everything so.
type Room struct {
	Low, High int64 // of whole numbers
	Long      int64 // characters, which are of one byte each
}

// Holds says whether a column with this room stores a value as it is given.
func (r Room) Holds(v freshness.Value) bool {
	if r == (Room{}) {
		return true
	}
	n, whole := v.Integer()
	return whole && r.Low <= n && n <= r.High || !whole && int64(v.Long()) <= r.Long
}

// Column is a column of a table, and how its values are compared.
type Column struct {
	Name string
	Type freshness.Type
}

// Reader reads a schema by questions, which the server is asked from whichever session is at rest. It is used by one
// goroutine at a time.
type Reader interface {
	// Begin begins a round of questions, after which the description is that of a moment since. One that is begun for
	// some changes of definitions alone may ask no more than what these concern.
	Begin(list ...*Defined)
	// InRound says whether a round has begun and not ended.
	InRound() bool
	// Bundle gives the next questions that do not rest on each other's answers, which may be asked in one go.
	Bundle() []Question
	// Take takes the answer to the first question that has had none, and how long it took. It says whether the round has
	// ended, and is false for what is no answer to it, of which nothing is known then.
	Take(q Question, a Answer, took time.Duration) (ended, ok bool)
	// GiveUp ends a round that cannot be finished. What was to be read is read in the next.
	GiveUp()
	// Changed says whether something was read anew since Accept was called.
	Changed() bool
	// Accept notes that the description has been taken over.
	Accept()
	// Description gives what has been read.
	Description() Description
}

// Question is what a server is to be asked of its schema, and Answer what it said. Their types are those of the
// reader's package; the wire of the same database knows them.
type (
	Question any
	Answer   any
)

// Description is a schema as it was read.
type Description interface {
	// Same says whether two say the same.
	Same(o Description) bool
	// Explained says whether another differs from this one only in what some changes of definitions concern, and, if
	// grants is set, in who may read what.
	Explained(after Description, list []*Defined, grants bool) bool
	// Schema makes a Schema of it.
	Schema() Schema
}

// Configured is a Description of a server whose sessions may have settings that are in no list of ours.
type Configured interface {
	// Unreviewed gives the settings of which it is not known what they do to results, sorted. Their values are part of every
	// key.
	Unreviewed() []string
}

// Privileged is a Description of a server whose sessions take privileges with them when they log in.
type Privileged interface {
	// Privileges gives by account something that is another if its privileges are. What concerns all is that of
	// EveryAccount.
	Privileges() map[string]uint64
}

// EveryAccount stands for all accounts.
const EveryAccount = ""

// Hints is what is known beside the statement and the schema.
type Hints struct {
	// Path is the session's search path in effect, or nil where it is not known: then a name without schema stands for
	// every table so named, which drops too much at worst.
	Path []string
	// Declared is what the DBA declared of this pattern, beyond what it is seen to do.
	Declared Declaration
}

// Declaration is what the DBA says that a function reads and writes: tables, named in full or by name alone.
type Declaration struct {
	Reads, Writes []string
}
