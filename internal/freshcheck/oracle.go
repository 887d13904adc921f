package freshcheck

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	wire "jollylarder/internal/wire/postgres"
)

// Oracle asks a server what a query depends on: of a view, it records the tables and the columns that the view names,
// and it writes out whole rows.
type Oracle struct {
	conn   *pgconn.PgConn
	schema catalog.Schema
	path   []string
}

// NewOracle reads a database's catalog. The connection is the oracle's from then on.
func NewOracle(ctx context.Context, c *pgconn.PgConn) (*Oracle, error) {
	described, path, err := wire.Describe(ctx, c)
	if err != nil {
		return nil, err
	}
	return &Oracle{c, described.Schema(), path}, nil
}

// wholeRow finds what stands for a whole row in a view's text. Stars are written out there, unless they stand for a
// row.
var wholeRow = regexp.MustCompile(`\b([a-z_][a-z0-9_]*)\.\*`)

// Missing says what a query depends on by the server's word that is not found in its text, and whether the server could
// be asked.
func (o *Oracle) Missing(sql string) (missing []string, asked bool) {
	simple(o.conn, "begin")
	defer simple(o.conn, "rollback")
	names := make([]string, 0, 64)
	for i := range 60 { // of its results, which need not have any
		names = append(names, fmt.Sprintf("c%d", i))
	}
	n := o.columns(sql)
	if n == 0 || n > len(names) || strings.HasPrefix(simple(o.conn, "create temp view oracle ("+strings.Join(names[:n], ", ")+") as "+sql), "error") {
		return nil, false
	}
	found := o.schema.Resolve(facts.Facts(sql), catalog.Hints{Path: o.path})
	depends, err := o.conn.Exec(context.Background(), `select n.nspname || '.' || c.relname, coalesce(a.attname, ''), c.relkind::text
		from pg_depend d join pg_rewrite r on r.oid = d.objid and d.classid = 'pg_rewrite'::regclass and r.ev_class = 'oracle'::regclass
		join pg_class c on c.oid = d.refobjid and d.refclassid = 'pg_class'::regclass and c.oid <> r.ev_class join pg_namespace n on n.oid = c.relnamespace
		left join pg_attribute a on a.attrelid = c.oid and a.attnum = d.refobjsubid and d.refobjsubid > 0
		where n.nspname not in ('pg_catalog', 'information_schema')`).ReadAll()
	if err != nil || len(depends) != 1 {
		return nil, false
	}
	add := func(what string) {
		if !slices.Contains(missing, what) {
			missing = append(missing, what)
		}
	}
	for _, row := range depends[0].Rows {
		table, column, kind := string(row[0]), string(row[1]), string(row[2])
		if kind == "v" || kind == "S" || column == "" && (found.System || len(found.Reasons) > 0) { // a constant that is a table's name
			continue
		}
		if !slices.Contains(found.Reads, table) {
			add(table)
		}
		columns, narrowed := found.ReadColumns[table]
		if _, pinned := found.ReadPins[table]; narrowed && !pinned && column != "" && !slices.Contains(columns, column) {
			add(table + "." + column)
		}
	}
	text := simple(o.conn, "select pg_get_viewdef('oracle'::regclass)")
	for _, m := range wholeRow.FindAllStringSubmatch(text, -1) {
		for table := range found.ReadColumns {
			_, name, _ := strings.Cut(table, ".")
			here := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `( ` + regexp.QuoteMeta(m[1]) + `)?\b`)
			if _, pinned := found.ReadPins[table]; !pinned && here.MatchString(text) && (m[1] == name || strings.Contains(text, name+" "+m[1])) && len(found.ReadColumns[table]) < o.width(table) {
				add("whole rows of " + table)
			}
		}
	}
	return missing, true
}

// columns gives how many columns a query's result has, or 0 if the server refuses it.
func (o *Oracle) columns(sql string) int {
	d, err := o.conn.Prepare(context.Background(), "", sql, nil)
	if err != nil {
		simple(o.conn, "rollback")
		simple(o.conn, "begin")
		return 0
	}
	return len(d.Fields)
}

// width gives how many columns a table has.
func (o *Oracle) width(table string) (n int) {
	_, _ = fmt.Sscan(strings.TrimSuffix(simple(o.conn, "select count(*) from pg_attribute where attrelid = '"+table+"'::regclass and attnum > 0 and not attisdropped"), "|\n"), &n)
	return n
}
