package catalog

import (
	"slices"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// Resolved is what a pattern does to one database. Tables are named in full: schema, dot, name.
type Resolved struct {
	// Reads are the tables whose change may change the result.
	Reads []string
	// Writes are the tables that the statement may change; when Everything is set it may change any.
	Writes     []string
	Everything bool
	// How says for each table of Reads and Writes how that is known, from the statement inwards: through which view,
	// function, trigger and so on. It is empty for a table that the statement names.
	ReadHow, WrittenHow map[string][]string
	// System is set when the result also rests on the system catalogs, and so on every definition.
	System bool
	// SystemChanges is set when the system catalogs may be others afterwards, but nothing that anybody else sees
	// in his results; SchemaChanges when the schema itself may be.
	SystemChanges, SchemaChanges bool
	// Beyond is set when what it does may reach other databases of the server.
	Beyond bool
	// Settings is set when settings of the session may be others afterwards.
	Settings bool
	// AtOnce is set when some of what it writes is there for everybody before its transaction commits, and stays when that
	// is rolled back.
	AtOnce bool
	// AsksOfLast is set when it may ask what became of the statement before it, and Temporary when it may make a temporary
	// table.
	AsksOfLast, Temporary bool
	// Enters is set for a read for which the server may enter another database and come back, as for a view there, and that
	// changes nothing of its session.
	Enters bool
	// Snaps is set for a read that decides what further reads in its block see, if it gives a row.
	Snaps bool
	// Reasons says why the result is not kept; empty when it may be.
	Reasons []reason.Reason
	// Pins are the columns that are fixed to literals, as "schema.table.column", where it is known how their values are
	// compared and the table is mentioned but once.
	Pins []string
	// ReadPins narrow the reading of tables in Reads, and WritePins the writing of tables in Writes, by the names of
	// these.
	ReadPins map[string]ReadPin
	// ReadColumns are the columns that need to be known of tables in Reads, where not all need to be, and none of the
	// rows is pinned.
	ReadColumns map[string][]string
	WritePins   map[string]WritePin
	// Missing are tables that it writes and that the catalog does not name. IfOwn is what it does if all of them are
	// temporary ones of its session's own, which do nothing more when they are written; it is nil if that makes no
	// difference.
	Missing []string
	IfOwn   *Resolved
	// Names are those of all relations, functions and types, without their schemas, that it names or came to, also of
	// those that there are not: it may be resolved in another way only when something of such a name changes.
	Names []string
	// Defines are the changes of definitions that concern some names only.
	Defines []*Defined
	// MayGrant is set when it may change who may do what, by itself or by what it calls.
	MayGrant bool
	// Granted is set when privileges on tables in Writes may be others afterwards, and so what roles may read, but
	// nothing else.
	Granted bool
	// PinTypes says of each of the facts' pins how its column is compared, as far as that is known.
	PinTypes []freshness.Type
	// Remembers is set when the result may rest on the settings that its session had before.
	Remembers bool
	// AnyRows is set when the same rows in its tables may give it another result.
	AnyRows bool
	// OfTime is set when all Reasons rest on the current time, and there are some.
	OfTime bool

	// UsesOwn is set when functions or types of the database are called or named, which the search path decides about.
	UsesOwn bool
	// MayShare says whether a role may be answered with what was fetched for another that it is true of; nil means that
	// none may.
	MayShare func(role string) bool
}

// SharedBy says whether a role may be answered with what was fetched for another that SharedBy is true of: what comes
// out does not depend on who asks, and the role may read every table and view it comes from.
func (o *Resolved) SharedBy(role string) bool { return o.MayShare != nil && o.MayShare(role) }

// Anything takes into account what is not known at all.
func (o *Resolved) Anything() {
	o.Everything, o.SchemaChanges, o.Settings = true, true, true
}

// ReadPin says by which columns the reading of a table is narrowed to some of its rows.
type ReadPin struct {
	// Columns are sorted by name; Unique says that no two rows have equal values in them.
	Columns []PinColumn
	Unique  bool
}

// Narrowest chooses by which of some pinned columns rows are told apart: by one that is unique, or by several that are
// together, or else by the one that stands first. Keys are those of the table that are unique.
func Narrowest(columns []PinColumn, keys [][]string) (pin ReadPin) {
	var best []string
	for _, key := range keys {
		all := !slices.ContainsFunc(key, func(name string) bool {
			return !slices.ContainsFunc(columns, func(c PinColumn) bool { return c.Name == name })
		})
		if all && (best == nil || len(key) < len(best)) {
			best = key
		}
	}
	if best == nil {
		return ReadPin{Columns: columns[:1]}
	}
	pin.Unique = true
	for _, name := range slices.Sorted(slices.Values(best)) {
		i := slices.IndexFunc(columns, func(c PinColumn) bool { return c.Name == name })
		pin.Columns = append(pin.Columns, columns[i])
	}
	return pin
}

// PinColumn is a column whose values stand where one of the statement's pins says.
type PinColumn struct {
	Name string
	Type freshness.Type
	Pin  int // in Facts.Pins
}

// WritePin says what is known of the rows of a table that a statement writes: all of them have, before and after, one
// of the values of each of its columns.
type WritePin struct {
	Columns []WrittenColumn
	// Adds is set when it only adds rows.
	Adds bool
	// Sets are the columns that an update assigns, if that is all it does.
	Sets []string
}

// WrittenColumn is a column of which the values before and after are known: those of both pins together.
type WrittenColumn struct {
	Name string
	Type freshness.Type
	Room Room
	Pins []int // in Facts.Pins
}
