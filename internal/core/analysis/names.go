package analysis

import "jollylarder/internal/core/reason"

// Scope is what names can mean at one place of a statement: the items of the query that the place is in, and, where
// none of them is meant, those of the queries around it.
type Scope struct {
	Items []*Item
	Outer *Scope
	// Merges is set when columns of several items are one here, by USING or NATURAL.
	Merges bool
	// Results are the names of a query's own results, which its ORDER BY and GROUP BY may mean too.
	Results []string
}

// Item is what stands in a FROM under one name: a table, a query or function with columns of its own, or a join that
// has a name.
type Item struct {
	// Name is that by which its columns are asked for; it may be empty, if none is given. Aliased is set when it is not
	// the table's own.
	Name    string
	Aliased bool
	// Table is the table that it is, as it is written; its name is empty for what is none.
	Table Name
	// Target is set for the table that the statement writes.
	Target bool
	// Renamed are other names for its first columns.
	Renamed []string
	// Columns are those of what is no table, and Open is set when it may have more.
	Columns []Output
	Open    bool
	// Joined are the items of a join that has a name.
	Joined []*Item
	// Hidden is set when its columns are asked for with its name alone: without one, they are those of the items beside
	// it.
	Hidden bool
}

// Output is a column of a query's result. Ref is set if it is a column that the query finds, and no more.
type Output struct {
	Name string
	Ref  *Ref
}

// Ref is a column's name, a table's in the place of a column, or a star, as it is written at one place of a statement.
type Ref struct {
	Scope *Scope
	// Path is the name with what stands before it, or what stands before a star. It is empty for a star alone.
	Path []string
	All  bool // a star
}

// Field is a name behind a dot that is not known to be a column: where there is no column of that name, it is a call of
// a function or a cast.
type Field struct {
	// Ref is what the name is the end of, as in t.name, or else nil, and Of what it is asked of, as in (t).name or
	// (t.address).name, or else nil.
	Ref, Of *Ref
	Name    string
	// Function is what is known of the server's own function of that name.
	Function Judged
}

// Judged is what is known of one of the server's own functions by its name.
type Judged struct {
	// Known is set when it does no more than the rest says: Reason is why its result is not kept, if there is one, and
	// System is set when it reads the system catalogs.
	Known, System bool
	Reason        reason.Reason
}

// VariableType is the type of a variable, a parameter or a result of a function: what is assigned to it is turned into
// that type, whatever it is.
type VariableType struct {
	// Name is the type's, or that of a table whose rows it holds, or whose column's type it has; Column is that
	// column's name, if there is one.
	Name
	Column string
	// Given is set for a parameter or result: it comes in its type, but may have to pass that type's checks.
	Given bool
}

// Guess gives the column of a pin by the names as written, for when there is no schema to ask: its table's name is
// empty where it may be of any.
func (p Pin) Guess() (table Name, column string) {
	if p.Ref == nil {
		return p.Table, p.Column
	}
	n := len(p.Ref.Path)
	for _, i := range p.Ref.Scope.Items {
		if (n > 1 && i.Name == p.Ref.Path[n-2] || n == 1 && len(p.Ref.Scope.Items) == 1) && len(i.Renamed) == 0 {
			table = i.Table
		}
	}
	return table, p.Ref.Path[n-1]
}
