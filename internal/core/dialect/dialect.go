// Package dialect says what the engine needs to know of a kind of database, beside what its sessions do: how it writes
// SQL, what a statement does, how its schema is read, which values are equal, and what a read sees in a transaction
// block. The packages inside it describe one kind each.
package dialect

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// Dialect is a kind of database. It does not change once it is in use, and is used by many sessions at once. All its
// fields are required unless they say otherwise.
type Dialect struct {
	// Syntax is how a session writes SQL until its wire says otherwise.
	Syntax *statement.Syntax
	// Facts reads what a statement in one of the dialect's syntaxes does. What it does not understand may do anything.
	Facts func(syntax *statement.Syntax, sql string) *analysis.Facts
	// Catalog gives a reader that has read nothing. A plain one is for a server that cannot tell of parts of its schema.
	Catalog func(plain bool) catalog.Reader
	// Realm is what clocks and catalogs belong to.
	Realm Realm
	// Views say what a read sees in a transaction block of each isolation; one that is not said is Unknowable.
	Views [analysis.Serializable + 1]View
	// TextNamesColumns is set where the columns of a result are named by the statement's text, byte for byte: two that
	// differ in blanks alone have two results.
	TextNamesColumns bool
	// AsksInBlock is set where a session's settings can be asked for within a transaction block, which decides nothing of
	// what that sees.
	AsksInBlock bool
	// KeySettings is how many values the Settings of each session have; 0 means that nothing is fetched again.
	KeySettings int
	// AsksForLast is the normalised text of the statement by which a session asks what became of its last one, or empty
	// where it cannot.
	AsksForLast string
	// Values reads values.
	Values Values
	// Remedies say which setting of the database would turn calls into hits that pass for a reason, for reasons that are
	// about its settings.
	Remedies map[reason.Code]string
	// SameRows says whether two replies, as the wire keeps them, hold the same rows in whatever order; nil means that
	// control samples are not compared.
	SameRows func(a, b []byte) bool
}

// Realm is the unit to which clocks and a catalog belong: the widest that one statement can read or write without
// leaving it.
type Realm uint8

// The realms.
const (
	Database Realm = iota // each database of a server is for itself
	Server                // databases are schemas of one server: queries, views and triggers cross them
)

// View is what a read sees in a transaction block.
type View uint8

// The views.
const (
	// Unknowable is that of a read whose block the server must see, or of which it is not known what it sees: it is never
	// answered from memory.
	Unknowable View = iota
	// EachStatement is what was committed before the statement, which is answered as outside of a block.
	EachStatement
	// FirstStatement is what was committed before the first statement of the block that reads or writes. That one goes to
	// the origin; others are answered by results that were valid before the block began.
	FirstStatement
	// FirstRead is what was committed before the first read of the block that looked at rows of a table with versions.
	// That one goes to the origin, as for FirstStatement; which one it was, its rows tell.
	FirstRead
)

// SnapsByReads says whether in blocks of some isolation the first read settles what further reads see, and no other
// statement does.
func (d *Dialect) SnapsByReads() bool { return slices.Contains(d.Views[:], FirstRead) }

// Values reads values as they are written in statements, sent as parameters, and told by change feeds.
type Values struct {
	// Argument reads one bound value, numbered from 1, of the parameters that a Request has. It is false if there is none;
	// nil means that values are not known, so that no reading and no change is narrowed by them.
	Argument func(types, bound []byte, number int) (Argument, bool)
	// Unquote gives what stands between the quotes of a text in a statement; it is false for another notation.
	Unquote func(token []byte) ([]byte, bool)
	// Elements splits an array into so many elements at most; it is false where that is not certain.
	Elements func(w Written, most int) ([][]byte, bool)
	// Read reads a value that is compared as t. It is false for a way of writing of which it is not known which value
	// it is; such a value may be any.
	Read func(w Written, t freshness.Type) (freshness.Value, bool)
	// Casts are the types of a cast, as facts name them, that leave a value what it is among those compared alike; that
	// of an array has [] behind it.
	Casts map[string]freshness.Type
}

// Written is a value as it is written or sent.
type Written struct {
	Bytes []byte
	// Binary is set for the protocol's binary form, UTF8 for a text that is known to be encoded so.
	Binary, UTF8 bool
}

// Argument is one bound value.
type Argument struct {
	Written
	Null bool
	// Type is that of the parameter, or NoType where it was not declared and the statement decides; Array says that it
	// is an array of it. Other is set for a type that is none of these.
	Type         freshness.Type
	Array, Other bool
}
