// Package postgres is PostgreSQL as the engine sees it.
package postgres

import (
	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	syntax "jollylarder/internal/core/statement/postgres"
)

// LastShown is what a client asks SHOW for, to learn what became of its last statement. No server has a setting of the
// name.
const LastShown = "jollylarder.last"

// OptOut is the name of the setting by which a session asks with the value off not to be answered from memory.
const OptOut = "jollylarder.caching"

// Dialect is PostgreSQL's.
var Dialect = &dialect.Dialect{
	Syntax:  syntax.Syntax,
	Facts:   func(_ *statement.Syntax, sql string) *analysis.Facts { return facts.Facts(sql) },
	Catalog: func(plain bool) catalog.Reader { return &schema.Reader{Plainly: plain} },
	Realm:   dialect.Database,
	// READ UNCOMMITTED is READ COMMITTED here. Source: "Transaction Isolation" in the manual.
	Views: [...]dialect.View{
		analysis.ReadCommitted: dialect.EachStatement, analysis.RepeatableRead: dialect.FirstStatement,
		analysis.Serializable: dialect.Unknowable,
	},
	KeySettings: 2 + len(facts.ResultSettings), // and the search path in effect, and what nobody has reviewed
	AsksForLast: "show " + LastShown,
	Values: dialect.Values{
		Argument: Argument, Unquote: unquote, Elements: elements, Read: read,
		Casts: map[string]freshness.Type{
			"int2": freshness.Integer, "int4": freshness.Integer, "int8": freshness.Integer,
			"text": freshness.Text, "varchar": freshness.Text, "uuid": freshness.UUID, "date": freshness.Date,
			"int2[]": freshness.Integer, "int4[]": freshness.Integer, "int8[]": freshness.Integer,
			"text[]": freshness.Text, "varchar[]": freshness.Text, "uuid[]": freshness.UUID, "date[]": freshness.Date,
		},
	},
	SameRows: SameRows,
	Remedies: map[reason.Code]string{
		reason.SessionLeftOut: "taking back " + OptOut + " = off",
		reason.SearchPath:     "a search path that does not name pg_catalog, or names it first",
		reason.Backslashes:    "standard_conforming_strings = on",
		reason.Encoding:       "a client_encoding such as UTF8",
	},
}
