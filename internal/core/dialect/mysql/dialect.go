// Package mysql is MariaDB and MySQL as the engine sees them.
package mysql

import (
	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/mysql"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// LastShown is what a client asks SHOW for, to learn what became of its last statement. No server shows anything of the
// name.
const LastShown = "jollylarder.last"

// OptOut is the user variable by which a session asks with the value off not to be answered from memory.
const OptOut = facts.OptOut

// Dialect is that of both.
var Dialect = &dialect.Dialect{
	Syntax:  syntax.Syntax,
	Facts:   facts.Facts,
	Catalog: func(bool) catalog.Reader { return &schema.Reader{} },
	Realm:   dialect.Server, // a schema is called a database here, and statements name tables of several
	// READ UNCOMMITTED sees what may never be committed. Source: "Consistent Nonlocking Reads" in MySQL's manual.
	Views: [...]dialect.View{
		analysis.ReadUncommitted: dialect.Unknowable, analysis.ReadCommitted: dialect.EachStatement,
		analysis.RepeatableRead: dialect.FirstRead, analysis.Serializable: dialect.Unknowable,
	},
	TextNamesColumns: true,
	AsksInBlock:      true,
	KeySettings:      len(syntax.Variables) + 5, // and patience, server, isolation, schema and form
	AsksForLast:      "show " + LastShown,
	Values:           values,
	SameRows:         SameRows,
	Remedies: map[reason.Code]string{
		reason.SessionLeftOut: "SET @" + OptOut + " = NULL",
		reason.Encoding:       "a character set such as utf8mb4",
		reason.OtherForm:      "running it without a cursor, and with each value in one piece",
	},
}
