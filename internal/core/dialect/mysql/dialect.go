// Package mysql is MariaDB and MySQL as the engine sees them.
package mysql

import (
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/mysql"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// Dialect is that of both. Statements are watched, and nothing is cached.
var Dialect = &dialect.Dialect{
	Syntax:   syntax.Syntax,
	Facts:    facts.Facts,
	Uncached: reason.OnlyWatched,
	Catalog:  func(bool) catalog.Reader { return &schema.Reader{} },
	Realm:    dialect.Server, // a schema is called a database here, and statements name tables of several
}
