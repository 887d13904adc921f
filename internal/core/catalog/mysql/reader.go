// Package mysql holds what the larder knows of the schema of a MariaDB or MySQL server, and what a statement does there
// once its names are followed: through views, triggers, routines and references.
package mysql

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/catalog"
)

// Question asks for all there is to know of a schema. Its answer is a *Described, or Nothing where nobody can be asked.
type Question struct{}

// Nothing is the answer for a server that nobody asks: each name is taken for that of a table.
type Nothing struct{}

// Described is what a server says of its schema. Each list is in an order that never changes.
type Described struct {
	// Folds is set where the case of tables' names does not count.
	Folds      bool
	Tables     []Table
	Columns    []Column
	Keys       []Key
	Views      []View
	Triggers   []Trigger
	Routines   []Routine
	References []Reference
	// Natives are functions that were loaded into the server.
	Natives []string
	// Grants are the privileges of accounts and roles, and RolesApart is set where roles have no hosts and accounts do.
	Grants     []Grant
	RolesApart bool
}

// Grant is a privilege: who has it, on what, if not on everything, and whether it may be passed on.
type Grant struct{ Grantee, Schema, Table, Column, Privilege, Passed string }

// Privileges implements catalog.Privileged. Those of a role are everybody's who may take it.
func (d *Described) Privileges() map[string]uint64 {
	out := map[string]uint64{}
	for _, g := range d.Grants {
		account := strings.ReplaceAll(g.Grantee, "'", "")
		if name, host, _ := strings.Cut(account, "@"); host == "" || name == "" || !d.RolesApart {
			account = catalog.EveryAccount
		}
		h := fnv.New64a()
		fmt.Fprintf(h, "%q", g)
		out[account] += h.Sum64()
	}
	return out
}

// Table is a table, or what is used as one, by its type and engine as the server names them.
type Table struct{ Schema, Name, Type, Engine string }

// Column is a column: its type as in "int(10) unsigned", its collation, what the server calls its extra, the expression by
// which it is computed from others of its row, and how many characters it has room for; these are empty or 0 for what has
// none.
type Column struct {
	Schema, Table, Name, Type, Collation, Extra, Expression string
	Length                                                  int64
}

// Key is a unique key: its columns, with commas between, and whether it is one of parts of columns alone.
type Key struct {
	Schema, Table, Name, Columns string
	Parts                        bool
}

// View is a view. Its definition is empty if the account may not see it.
type View struct{ Schema, Name, Definition string }

// Trigger is a trigger of a table: the event that it is for, whether it comes BEFORE or AFTER that, and the SQL mode in
// which its body is read.
type Trigger struct{ Schema, Table, Event, Timing, Body, Mode string }

// Routine is a function or procedure, as Kind says. Its body is empty if the account may not see it.
type Routine struct{ Schema, Name, Kind, Body, Mode string }

// Reference is a foreign key, and what becomes of a row when the row that it refers to changes. Columns are those that
// it refers to, with commas between.
type Reference struct{ Schema, Table, ToSchema, ToTable, Columns, OnUpdate, OnDelete string }

// Same implements catalog.Description.
func (d *Described) Same(o catalog.Description) bool {
	e, ok := o.(*Described)
	return ok && d.Folds == e.Folds && d.RolesApart == e.RolesApart && slices.Equal(d.Tables, e.Tables) && slices.Equal(d.Columns, e.Columns) && slices.Equal(d.Keys, e.Keys) && slices.Equal(d.Views, e.Views) &&
		slices.Equal(d.Triggers, e.Triggers) && slices.Equal(d.Routines, e.Routines) && slices.Equal(d.References, e.References) &&
		slices.Equal(d.Natives, e.Natives) && slices.Equal(d.Grants, e.Grants)
}

// Explained implements catalog.Description.
func (d *Described) Explained(after catalog.Description, _ []*catalog.Defined, _ bool) bool {
	return d.Same(after)
}

// Reader asks for everything at once.
type Reader struct {
	round, changed bool
	described      catalog.Description
}

// Begin implements catalog.Reader.
func (r *Reader) Begin(...*catalog.Defined) { r.round = true }

// InRound implements catalog.Reader.
func (r *Reader) InRound() bool { return r.round }

// Bundle implements catalog.Reader.
func (r *Reader) Bundle() []catalog.Question { return []catalog.Question{Question{}} }

// GiveUp implements catalog.Reader.
func (r *Reader) GiveUp() { r.round = false }

// Changed implements catalog.Reader.
func (r *Reader) Changed() bool { return r.changed }

// Accept implements catalog.Reader.
func (r *Reader) Accept() { r.changed = false }

// Description implements catalog.Reader.
func (r *Reader) Description() catalog.Description { return r.described }

// Take implements catalog.Reader.
func (r *Reader) Take(_ catalog.Question, a catalog.Answer, _ time.Duration) (ended, ok bool) {
	var told catalog.Description
	switch a := a.(type) {
	case Nothing:
		told = Names{}
	case *Described:
		told = a
	default:
		return false, false
	}
	r.changed = r.changed || r.described == nil || !told.Same(r.described)
	r.round, r.described = false, told
	return true, true
}
