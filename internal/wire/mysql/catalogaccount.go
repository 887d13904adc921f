package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	catalog "jollylarder/internal/core/catalog/mysql"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// The catalog is read by an account of the larder's own: what a server shows of its schema to other accounts is less than
// there is, and it does not say so. Without such an account names are all that is known.

// learnsCatalog has the schema read. It is called with mu held.
func (s *session) learnsCatalog() {
	if account := s.server.Settings().Catalog; account != nil {
		s.server.readsCatalog(*account)
		return
	}
	if s.eng.Asking(engine.NeedCatalog, s.now)&engine.NeedCatalog == 0 {
		return // another session asks
	}
	if end := s.eng.LearnedPart(catalog.Nothing{}, s.now); end != nil {
		end(s.now)
	}
}

// readsCatalog reads the schema, unless that is under way. It takes longer than some clients stay, and so is no session's
// of theirs.
func (s *Server) readsCatalog(a link.Account) {
	if !s.reading.CompareAndSwap(false, true) {
		return
	}
	s.background.Go(func() {
		defer s.reading.Store(false)
		defer s.Survive("the catalog was not read")
		eng := s.Engine.NewSession(engine.Identity{Origin: s.Name, User: a.User, Application: "jolly larder", Own: true})
		defer func() { eng.Close(s.Time()) }()
		need := eng.Asking(engine.NeedCatalog, s.Time())
		if need&engine.NeedCatalog == 0 {
			return
		}
		server := s.starting.last()
		d, err := s.describe(a)
		if err != nil {
			if s.Running().Err() == nil {
				s.Logger().Warn("the catalog could not be read by its own account", "error", err)
			}
			eng.LearnedCatalog(nil, s.Time())
			return
		}
		if need&engine.NeedSettings != 0 {
			if server == "" { // the first client has told only meanwhile which one it is
				server = s.starting.last()
			}
			eng.Learned(engine.Settings{Server: server})
		}
		if end := eng.LearnedPart(d, s.Time()); end != nil {
			end(s.Time())
		}
	})
}

// describe reads the schema over a connection of the larder's own.
func (s *Server) describe(a link.Account) (*catalog.Described, error) {
	ctx, cancel := context.WithTimeout(s.Running(), s.Settings().ConnectTimeout)
	defer cancel()
	return Describe(ctx, s.Config(a))
}

// Config is for a connection of the larder's own to the origin, on one of its accounts.
func (s *Server) Config(a link.Account) *driver.Config {
	set := s.Settings()
	cfg := driver.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr = a.User, a.Password, "tcp", s.Origin
	cfg.TLS = set.OriginTLS
	cfg.AllowCleartextPasswords = set.OriginTLS != nil
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) { return s.DialOrigin(set, nil) }
	return cfg
}

// Describe reads the schema of a server. The error says which privileges the account lacks.
func Describe(ctx context.Context, cfg *driver.Config) (*catalog.Described, error) {
	cfg.ConnectionAttributes = "program_name:jolly larder"
	// Texts of definitions come in the usual mode.
	cfg.Params = map[string]string{"sql_mode": "''", "lock_wait_timeout": "10"}
	cfg.MultiStatements = false
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	c, err := db.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	defer c.Close()
	q := asker{ctx: ctx, c: c}
	d := &catalog.Described{}
	var version string
	var folds int
	q.one("select @@version, @@lower_case_table_names", &version, &folds)
	d.Folds = folds != 0
	d.RolesApart = strings.Contains(version, "MariaDB")
	q.privileges()
	read(&q, &d.Tables, "table_schema, table_name, table_type, coalesce(engine, '') from information_schema.tables", func(t *catalog.Table) []any {
		return []any{&t.Schema, &t.Name, &t.Type, &t.Engine}
	})
	read(&q, &d.Columns, "table_schema, table_name, column_name, column_type, coalesce(collation_name, ''), extra, coalesce(generation_expression, ''), coalesce(character_maximum_length, 0) from information_schema.columns where "+ownSchemas("table_schema"), func(c *catalog.Column) []any {
		return []any{&c.Schema, &c.Table, &c.Name, &c.Type, &c.Collation, &c.Extra, &c.Expression, &c.Length}
	})
	read(&q, &d.Keys, "table_schema, table_name, index_name, group_concat(column_name order by seq_in_index), max(sub_part) is not null from information_schema.statistics where non_unique = 0 and "+ownSchemas("table_schema")+" group by table_schema, table_name, index_name", func(k *catalog.Key) []any {
		return []any{&k.Schema, &k.Table, &k.Name, &k.Columns, &k.Parts}
	})
	read(&q, &d.Views, "table_schema, table_name, coalesce(view_definition, '') from information_schema.views where "+ownSchemas("table_schema"), func(v *catalog.View) []any {
		return []any{&v.Schema, &v.Name, &v.Definition}
	})
	read(&q, &d.Triggers, "event_object_schema, event_object_table, event_manipulation, action_timing, action_statement, sql_mode from information_schema.triggers where "+ownSchemas("event_object_schema"), func(x *catalog.Trigger) []any {
		return []any{&x.Schema, &x.Table, &x.Event, &x.Timing, &x.Body, &x.Mode}
	})
	read(&q, &d.Routines, "routine_schema, routine_name, routine_type, coalesce(routine_definition, ''), sql_mode from information_schema.routines where "+ownSchemas("routine_schema"), func(r *catalog.Routine) []any {
		return []any{&r.Schema, &r.Name, &r.Kind, &r.Body, &r.Mode}
	})
	q.references(d)
	q.grants(d)
	read(&q, &d.Natives, "name from mysql.func", func(n *string) []any { return []any{n} })
	return d, q.err
}

// grants asks for privileges. Those on routines do not count: results of calls are not cached.
func (q *asker) grants(d *catalog.Described) {
	for _, x := range []struct{ table, schema, of, column string }{
		{"user_privileges", "''", "''", "''"}, {"schema_privileges", "table_schema", "''", "''"}, {"table_privileges", "table_schema", "table_name", "''"},
		{"column_privileges", "table_schema", "table_name", "column_name"},
	} {
		var list []catalog.Grant
		read(q, &list, fmt.Sprintf("grantee, %s, %s, %s, privilege_type, is_grantable from information_schema.%s", x.schema, x.of, x.column, x.table), func(g *catalog.Grant) []any {
			return []any{&g.Grantee, &g.Schema, &g.Table, &g.Column, &g.Privilege, &g.Passed}
		})
		d.Grants = append(d.Grants, list...)
	}
	if !d.RolesApart {
		return
	}
	var roles []catalog.Grant // of which the view of users has none
	read(q, &roles, "concat(user, '@'), coalesce(json_value(priv, '$.access'), '') from mysql.global_priv where host = ''", func(g *catalog.Grant) []any { return []any{&g.Grantee, &g.Privilege} })
	d.Grants = append(d.Grants, roles...)
}

// references asks for foreign keys. What they refer to is asked for by itself: a query that has to open all tables for each
// row of another takes long.
func (q *asker) references(d *catalog.Described) {
	type column struct{ schema, table, constraint, position, name string }
	var columns []column
	read(q, &columns, "constraint_schema, table_name, constraint_name, lpad(ordinal_position, 5, '0'), referenced_column_name from information_schema.key_column_usage where referenced_column_name is not null and "+ownSchemas("constraint_schema"), func(c *column) []any {
		return []any{&c.schema, &c.table, &c.constraint, &c.position, &c.name}
	})
	refersTo := map[column][]string{}
	for _, c := range columns {
		k := column{schema: c.schema, table: c.table, constraint: c.constraint}
		refersTo[k] = append(refersTo[k], c.name)
	}
	type constraint struct {
		catalog.Reference
		name string
	}
	var list []constraint
	read(q, &list, "constraint_schema, table_name, unique_constraint_schema, referenced_table_name, constraint_name, update_rule, delete_rule from information_schema.referential_constraints where "+ownSchemas("constraint_schema"), func(r *constraint) []any {
		return []any{&r.Schema, &r.Table, &r.ToSchema, &r.ToTable, &r.name, &r.OnUpdate, &r.OnDelete}
	})
	for _, r := range list {
		r.Columns = strings.Join(refersTo[column{schema: r.Schema, table: r.Table, constraint: r.name}], ",")
		d.References = append(d.References, r.Reference)
	}
}

// ownSchemas is the condition that a schema is none of the server's. Of those what is a table is known, and all else may do
// anything.
func ownSchemas(column string) string {
	return column + " not in ('information_schema', 'performance_schema', 'mysql', 'sys')"
}

// asker asks one question after the other, until one fails.
type asker struct {
	ctx context.Context
	c   *sql.Conn
	err error
}

func (q *asker) one(query string, into ...any) {
	if q.err == nil {
		q.err = q.c.QueryRowContext(q.ctx, query).Scan(into...)
	}
}

// needed are the privileges without which a server leaves out some of what there is.
var needed = []string{"SELECT", "SHOW VIEW", "TRIGGER"}

// privileges checks that the account sees everything.
func (q *asker) privileges() {
	var have []string
	read(q, &have, `privilege_type from information_schema.user_privileges where grantee = concat("'", replace(current_user(), '@', "'@'"), "'")`, func(p *string) []any { return []any{p} })
	lacks := slices.DeleteFunc(slices.Clone(needed), func(p string) bool { return slices.Contains(have, p) })
	if q.err == nil && len(lacks) > 0 {
		list := strings.Join(lacks, ", ")
		q.err = fmt.Errorf("the account for reading the catalog may not see all of it: it lacks %s on all databases; GRANT %s ON *.* to it", list, list)
	}
}

// read asks for rows, in their order.
func read[T any](q *asker, into *[]T, query string, fields func(*T) []any) {
	if q.err != nil {
		return
	}
	var columns []string
	for i := range fields(new(T)) {
		columns = append(columns, strconv.Itoa(i+1))
	}
	query += " order by " + strings.Join(columns, ", ") // so that the same schema is told in the same order
	rows, err := q.c.QueryContext(q.ctx, "select "+query)
	if err != nil {
		q.err = err
		return
	}
	defer rows.Close()
	var list []T
	for rows.Next() {
		var x T
		if q.err = rows.Scan(fields(&x)...); q.err != nil {
			return
		}
		list = append(list, x)
	}
	q.err = rows.Err()
	*into = list
}
