// Package analysis says what a statement pattern does, as far as its text tells: the tables it reads and writes, its
// effects beyond them, and why its result may not be kept. The packages inside it read one dialect each.
//
// Facts hold for every statement of a pattern, whatever its literals are. What depends on the schema (is this name a
// view, can that function write) is left to package catalog.
package analysis

import (
	"slices"

	"jollylarder/internal/core/reason"
)

// Name is the name of a table, function or type as the statement writes it, unquoted names in lower case.
// Schema is empty when the name is not qualified.
type Name struct {
	Schema, Name string
}

func (n Name) String() string {
	if n.Schema == "" {
		return n.Name
	}
	return n.Schema + "." + n.Name
}

// Events are the ways in which a table is written; they add up.
type Events uint8

// The events, as triggers know them.
const (
	Insert Events = 1 << iota
	Update
	Delete
	Truncate
)

// Write is a table that a statement writes, and how.
type Write struct {
	Name
	Events Events
	// Sets are the columns that an update assigns; they are not known if it is empty.
	Sets []string
}

// Pin is a column that every row read from, or written in, a table must have equal to a literal or a parameter, or to
// one of several. It says so for this one mention of the table.
type Pin struct {
	// Ref is the column as a condition names it. It is nil for a column that is assigned or inserted, which is Table's
	// Column.
	Ref    *Ref
	Table  Name
	Column string
	Of     PinOf
	// Values are where the values stand. They are several for a list, and for an INSERT of several rows.
	Values []PinValue
	// Via are the columns by which it is known that this one is equal to the values, as in a.x = 5 and a.x = b.y: all
	// of them must be compared alike.
	Via []*Ref
}

// Same says whether two pins, of two statements of one pattern, are of the same column and kind, wherever their values
// stand.
func (p Pin) Same(o Pin) bool {
	return p.Table == o.Table && p.Column == o.Column && p.Of == o.Of && p.Ref.same(o.Ref) &&
		slices.EqualFunc(p.Via, o.Via, (*Ref).same)
}

func (r *Ref) same(o *Ref) bool {
	if r == nil || o == nil {
		return r == o
	}
	return r.All == o.All && slices.Equal(r.Path, o.Path)
}

// PinOf says which rows a pin speaks of.
type PinOf uint8

// The rows.
const (
	PinOfRead     PinOf = iota // those read
	PinOfOld                   // those written, before that
	PinOfNew                   // those written, after that
	PinOfConflict              // those that an INSERT finds there, or else adds
)

// PinValue is a literal or a parameter in a statement's text.
type PinValue struct {
	At       int    // its first byte
	Cast     string // the type that it is cast to, or empty
	Negative bool   // there is a minus before it
	Array    bool   // it is an array, whose elements are the values
	// Parameter is the number of the parameter that stands there, or 0.
	Parameter int
}

// Effect is what a statement does beyond reading and writing the tables it names. Effects add up.
type Effect uint16

// The effects.
const (
	Settings Effect = 1 << iota // may change settings of its session
	Schema                      // changes tables, privileges, roles or anything else a result may rest on
	Unknown                     // may do anything
	Begins                      // begins a transaction block
	Ends                        // ends a transaction block by ROLLBACK
	Commits                     // may end a transaction block by committing, or commits on the way
	Shared                      // changes what all databases of a server have in common, such as roles, or may reach another
	System                      // changes the system catalogs in what nobody's other results rest on, such as a temporary table
	Isolates                    // changes the isolation of the transaction block that it stands in, if it is the block's first
	Patience                    // changes how long a statement of its session may take
)

// Isolation is what a statement that begins a transaction block asks for.
type Isolation uint8

// The isolations.
const (
	DefaultIsolation Isolation = iota // not said: the session's default
	ReadUncommitted                   // where it differs from the next
	ReadCommitted
	RepeatableRead
	Serializable
)

// Definition is a change of definitions that concerns nothing but the relations it names, and what the server makes for
// them under names that begin with theirs.
type Definition struct {
	Names []Name
	Quiet Quiet
	// Same is set when rows and columns stay what they are.
	Same bool
	// Calls is set when functions may be called for the rows that there are: those by which an index or a check of the
	// relation is made.
	Calls bool
	// Part is set when it makes the first of the relations a part of the others.
	Part bool
	// Indexes is set when the names are those of indexes.
	Indexes bool
}

// Quiet says what happens when the relations of a definition are used afterwards that did not happen before.
type Quiet uint8

// What may happen.
const (
	Loud       Quiet = iota // anything
	QuietReads              // nothing when they are read
	QuietAll                // nothing at all: when they are written, no more than the writing
)

// Facts is what a pattern's text tells.
type Facts struct {
	Kind Kind
	// Definition is what a statement of KindDefinition is called, for people: "create table".
	Definition string
	// Reads and Writes name each table once, in the order they are met.
	Reads  []Name
	Writes []Write
	// Later is set for a write that the server may do only after it has replied.
	Later bool
	// Functions are those that the grammar's package cannot judge by their name: the database's own, and the server's
	// that were not reviewed.
	Functions []Name
	// BuiltIns are the functions judged by their name alone, which holds while no function of the database has it too.
	BuiltIns []string
	// Refs are all columns and rows that are asked for by name. Columns are the last parts of these names, and Star is
	// set when some are asked for without a name.
	Refs    []*Ref
	Columns []string
	Star    bool
	// Whole is set when more of its tables may be needed than Refs says.
	Whole bool
	// Fields are the names behind a dot, which may be calls.
	Fields []Field
	// Computed are the columns, by their names alone, that are more than given out as they are, where that makes a
	// difference.
	Computed []string
	// Operators are the operators used, also those implied by DISTINCT, IN, BETWEEN and the like.
	Operators []string
	// CastTo are the names of all types that something is cast to.
	CastTo []string
	// DateCasts are the columns cast to a date or time: of a text, that could mean the current time. Shifted are those
	// read at another time zone: of a time without a date, that depends on today's.
	DateCasts, Shifted []*Ref
	// Types are the types cast to that are not the server's own known ones, and Variables those that a function's
	// variables have.
	Types     []Name
	Variables []VariableType
	// Mixed are the parameters whose type may be decided by another mention than that by a pin.
	Mixed []int
	// System is set when the result also rests on the system catalogs, though no table of theirs is named.
	System bool
	// Cascade is set when TRUNCATE takes every table with it that refers to one of Writes.
	Cascade bool
	// NamesUser is set when the result depends on who asks by name: current_user and the like.
	NamesUser bool
	// Pins are the columns pinned, Again the tables that are mentioned more than once, and Rewritten those that are
	// written more than once, by their names as written.
	Pins      []Pin
	Again     []Name
	Rewritten []Name
	// Certain is set for a statement that begins or ends a transaction block, and that a server never refuses where
	// nothing else has been done in that block.
	Certain bool
	// AnyRows is set when the same rows in the tables may give it other results, as their order is nobody's promise.
	AnyRows bool
	// Folds is set when it holds constants, other than literals that are another in the next statement of the pattern,
	// that the server reads by the settings of the moment at which it is prepared.
	Folds bool
	// Remembers is set for a function that has constants which depend on settings when they are read, and are read but
	// once in a session.
	Remembers bool
	// Private is set when privileges other than those on tables may decide whether it runs.
	Private bool
	// MayGrant is set when it changes who may do what, or may: it says so, or it cannot be read and has words of that.
	MayGrant bool
	// RowsAreFound is set when a row of the result, if there is any, can only come from one in each table that a pin
	// reads.
	RowsAreFound bool
	Effect       Effect
	Isolation    Isolation
	// Snapshot is set for the beginning of a block that sees the moment of that beginning. FromEach is set for a query
	// of which a row can only come from a row of each of Reads.
	Snapshot, FromEach bool
	// Prepares is the name under which SQL prepares a statement, and Prepared what that does each time that it is run;
	// Executes is the name under which one is run. Forgets is set where names are forgotten: that in Forgotten, or all
	// if it is empty.
	Prepares  string
	Prepared  *Facts
	Executes  string
	Forgets   bool
	Forgotten string
	// Code is what the code in this very statement does, where that is known. It is another in the next statement of
	// the pattern.
	Code *Facts
	// Makes is the name of a temporary table that it makes, of which nothing but its rows is of interest, if the types
	// of its columns have no checks of this database's own. Drops are the tables that it takes away, if it does nothing
	// else.
	Makes string
	Drops []Name
	// Grants are the tables to which it gives or takes privileges, if it does nothing else.
	Grants []Name
	// Defines are the definitions that it changes which concern some relations only. Where it may change others, its
	// effects say so.
	Defines []Definition
	// Reasons says why results are not kept; empty when the text gives no reason.
	Reasons []reason.Reason
}

// Plain says whether the text describes a read that could be kept.
func (f *Facts) Plain() bool { return len(f.Reasons) == 0 }

// AddReason adds a reason that is not there yet.
func (f *Facts) AddReason(r reason.Reason) { f.Reasons = reason.Add(f.Reasons, r) }

// Bypasses adds a reason that speaks of nothing in particular.
func (f *Facts) Bypasses(c reason.Code) { f.AddReason(reason.Of(c)) }

// AddWrite adds a way of writing a table.
func AddWrite(list []Write, w Write) []Write {
	for i := range list {
		if list[i].Name == w.Name {
			switch {
			case w.Events&Update == 0:
			case list[i].Events&Update == 0:
				list[i].Sets = w.Sets
			case len(list[i].Sets) == 0 || len(w.Sets) == 0:
				list[i].Sets = nil
			default:
				list[i].Sets = append(slices.Clone(list[i].Sets), w.Sets...)
			}
			list[i].Events |= w.Events
			return list
		}
	}
	return append(list, w)
}

// Unreadable gives the facts of a statement of which nothing is known.
func Unreadable(why reason.Reason) *Facts {
	return &Facts{Kind: KindUnknown, Effect: Unknown | Shared | Commits | Settings, Reasons: []reason.Reason{why}}
}
