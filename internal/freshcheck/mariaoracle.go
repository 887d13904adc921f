package freshcheck

import (
	"context"
	"regexp"
	"slices"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	syntax "jollylarder/internal/core/statement/mysql"
	wire "jollylarder/internal/wire/mysql"
)

// MariaOracle asks a server which tables a query reads: of a view, it stores the query with all names written out.
type MariaOracle struct {
	conn     conn
	schema   catalog.Schema
	database string
}

// NewMariaOracle reads a server's catalog. The connection is the oracle's from then on.
func NewMariaOracle(ctx context.Context, address, database string) (*MariaOracle, error) {
	cfg := driver.NewConfig()
	cfg.User, cfg.Net, cfg.Addr = "root", "tcp", address
	described, err := wire.Describe(ctx, cfg)
	if err != nil {
		return nil, err
	}
	c, err := dialMariaDB(address, database, "oracle")
	if err != nil {
		return nil, err
	}
	return &MariaOracle{c, described.Schema(), database}, nil
}

// Close ends the oracle's connection.
func (o *MariaOracle) Close() { o.conn.close() }

// Missing says which tables a query reads by the server's word that are not found in its text, and whether the server could
// be asked.
func (o *MariaOracle) Missing(sql string) (missing []string, asked bool) {
	found := o.schema.Resolve(facts.Facts(syntax.Syntax, sql), catalog.Hints{Path: []string{o.database}})
	return o.missing(sql, found)
}

// tableName finds a table with its schema, and what stands behind that: the name of a column, or the arguments of a function.
var tableName = regexp.MustCompile("`(\\w+)`\\.`(\\w+)`([.(]?)")

func (o *MariaOracle) missing(sql string, found *catalog.Resolved) (missing []string, asked bool) {
	if strings.HasPrefix(o.conn.ask("create or replace view oracle as "+sql, 0), refused) {
		return nil, false
	}
	text := o.conn.ask("select view_definition from information_schema.views where table_schema = database() and table_name = 'oracle'", 0)
	for _, m := range tableName.FindAllStringSubmatch(text, -1) {
		name := m[1] + "." + m[2]
		if m[3] == "(" || !strings.HasPrefix(m[1], o.database) || found.Everything || slices.Contains(found.Reads, name) || slices.Contains(missing, name) {
			continue
		}
		if kind := o.conn.ask("select table_type from information_schema.tables where concat(table_schema, '.', table_name) = '"+name+"'", 0); !strings.Contains(kind, "BASE TABLE") {
			continue // a view, whose own tables are what counts
		}
		missing = append(missing, name)
	}
	return missing, true
}
