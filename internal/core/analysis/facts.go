// Package analysis says what a statement pattern does, as far as its text tells: the tables it reads and writes, its
// effects beyond them, and why its result may not be kept. The packages inside it read one dialect each.
//
// Facts hold for every statement of a pattern, whatever its literals are. What depends on the schema (is this name a
// view, can that function write) is left to package catalog.
package analysis

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

// Effect is what a statement does beyond reading and writing the tables it names. Effects add up.
type Effect uint8

// The effects.
const (
	Settings Effect = 1 << iota // may change settings of its session
	Schema                      // changes tables, privileges, roles or anything else a result may rest on
	Unknown                     // may do anything
	Begins                      // begins a transaction block
	Ends                        // ends a transaction block by ROLLBACK
	Commits                     // may end a transaction block by committing, or commits on the way
)

// Isolation is what a statement that begins a transaction block asks for.
type Isolation uint8

// The isolations.
const (
	DefaultIsolation  Isolation = iota // not said: the session's default
	ReadCommitted                      // or READ UNCOMMITTED, which is the same
	SnapshotIsolation                  // REPEATABLE READ or SERIALIZABLE
)

// Facts is what a pattern's text tells.
type Facts struct {
	// Verb is the statement's kind in one or two words: "select", "insert", "create table".
	Verb string
	// Reads and Writes name each table once, in the order they are met.
	Reads, Writes []Name
	// Locals are the names of common table expressions: a table named so may be one or the other.
	Locals []string
	// Functions are those that are not known to be harmless by their name.
	Functions []Name
	// BuiltIns are the functions judged by their name alone, which holds while no function of the database has it too.
	BuiltIns []string
	// Attributes are the names behind a dot: a column, or a function called as if it were one.
	Attributes []string
	// Operators are the operators used, also those implied by DISTINCT, IN, BETWEEN and the like.
	Operators []string
	Effect    Effect
	Isolation Isolation
	// Reasons says, in words, why results are not kept; empty when the text gives no reason.
	Reasons []string
}

// Plain says whether the text describes a read that could be kept.
func (f *Facts) Plain() bool { return len(f.Reasons) == 0 }

// AddReason adds a reason that is not there yet.
func (f *Facts) AddReason(reason string) {
	for _, r := range f.Reasons {
		if r == reason {
			return
		}
	}
	f.Reasons = append(f.Reasons, reason)
}

// AddName adds a name to a list that has no such name yet.
func AddName(list []Name, n Name) []Name {
	for _, m := range list {
		if m == n {
			return list
		}
	}
	return append(list, n)
}

// Unreadable gives the facts of a statement of which nothing is known.
func Unreadable(reason string) *Facts {
	return &Facts{Verb: "unknown", Effect: Unknown | Commits | Settings, Reasons: []string{reason}}
}
