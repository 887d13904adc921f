package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/feed"
)

// UsualNames gives those of a database where nothing else is said.
func UsualNames(database string) feed.Names {
	clean := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, database)
	slot := "jolly_larder_" + clean
	return feed.Names{Slot: slot[:min(len(slot), 63)], Publication: "jolly_larder"}
}

// quote writes a name in SQL, and literal a text.
func quote(name string) string   { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// identityQuery gives the tables that a publication can hold, with what identifies their rows: ” where nothing does. To
// publish such a table would have its updates and deletes fail.
const identityQuery = `select n.nspname, c.relname,
  case when c.relreplident in ('f', 'i') then c.relreplident::text
       when c.relreplident = 'd' and exists (select 1 from pg_catalog.pg_index i where i.indrelid = c.oid and i.indisprimary) then 'd' else '' end
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where c.relkind = 'r' and c.relpersistence = 'p' and n.nspname not in ('pg_catalog', 'information_schema')
order by 1, 2`

// SetUp works out what is to be done so that a database's changes can be followed. It changes nothing.
func SetUp(ctx context.Context, c *pgconn.PgConn, database string, n feed.Names) (feed.Plan, error) {
	var p feed.Plan
	rows, err := ask(ctx, c, `select pg_catalog.current_setting('wal_level'), coalesce(pg_catalog.current_setting('max_slot_wal_keep_size', true), ''),
		pg_catalog.current_setting('max_replication_slots'), (select count(*)::text from pg_catalog.pg_replication_slots),
		(select count(*)::text from pg_catalog.pg_replication_slots where slot_name = $1), (select count(*)::text from pg_catalog.pg_publication where pubname = $2),
		(select count(*)::text from pg_catalog.pg_roles where rolname = $3), (select coalesce(bool_or(rolreplication or rolsuper), false)::text from pg_catalog.pg_roles where rolname = $3)`,
		n.Slot, n.Publication, n.Role)
	if err != nil {
		return p, err
	}
	r := rows[0]
	if r[0] != "logical" {
		p.Obstacles = append(p.Obstacles, fmt.Sprintf("the server has wal_level = %s: set it to logical, by alter system set wal_level = 'logical', and restart the server", r[0]))
	}
	if r[2] == r[3] && r[4] == "0" {
		p.Obstacles = append(p.Obstacles, fmt.Sprintf("all %s slots of the server are taken: raise max_replication_slots, and restart the server", r[2]))
	}
	if r[1] == "-1" {
		p.Notes = append(p.Notes, "max_slot_wal_keep_size is -1: while no larder runs, the slot makes the server retain its log without limit. Set a bound such as 4GB.")
	}
	tables, err := ask(ctx, c, identityQuery)
	if err != nil {
		return p, err
	}
	var in, out []string
	for _, t := range tables {
		name := quote(t[0]) + "." + quote(t[1])
		if t[2] == "" {
			out = append(out, t[0]+"."+t[1])
		} else {
			in = append(in, name)
		}
	}
	if len(in) == 0 {
		p.Obstacles = append(p.Obstacles, "there is no table whose rows are identified by a primary key, or otherwise by alter table ... replica identity")
	}
	if len(out) > 0 {
		p.Notes = append(p.Notes, "These tables have no primary key and no replica identity, and are left out, or the server would refuse their updates and deletes. "+
			"Counters tell of their changes, some ten seconds later: "+strings.Join(out, ", ")+".")
	}
	p.Notes = append(p.Notes, "Of a row that is changed for the first time the stream tells what identifies it and what it is now, not what it was, and more is dropped than need be. "+
		"For tables with many direct writes, alter table ... replica identity full sends whole rows, at the price of a longer log.")
	p.Notes = append(p.Notes, "Tables that are made later are followed by counters until this command is run again.")
	if n.Role != "" {
		switch {
		case r[6] == "0":
			p.Steps = append(p.Steps, "create role "+quote(n.Role)+" login replication")
			p.Notes = append(p.Notes, "The role gets no password here: give it one by \\password, or let it in otherwise in pg_hba.conf, for this database and for replication.")
		case r[7] != "true":
			p.Steps = append(p.Steps, "alter role "+quote(n.Role)+" replication")
		}
	}
	switch {
	case r[5] == "0" && len(in) > 0:
		p.Steps = append(p.Steps, "create publication "+quote(n.Publication)+" for table "+strings.Join(in, ", "))
	case len(in) > 0:
		have, err := ask(ctx, c, "select schemaname, tablename from pg_catalog.pg_publication_tables where pubname = $1", n.Publication)
		if err != nil {
			return p, err
		}
		var missing []string
		for _, t := range in {
			if !slices.ContainsFunc(have, func(h []string) bool { return quote(h[0])+"."+quote(h[1]) == t }) {
				missing = append(missing, t)
			}
		}
		if len(missing) > 0 {
			p.Steps = append(p.Steps, "alter publication "+quote(n.Publication)+" add table "+strings.Join(missing, ", "))
		}
	}
	if r[4] == "0" {
		p.Steps = append(p.Steps, "select pg_create_logical_replication_slot("+literal(n.Slot)+", 'pgoutput')")
	}
	return p, nil
}

// Remove works out what is to be done so that nothing is left of what SetUp has done. It changes nothing.
func Remove(ctx context.Context, c *pgconn.PgConn, n feed.Names) (feed.Plan, error) {
	var p feed.Plan
	rows, err := ask(ctx, c, `select (select count(*)::text from pg_catalog.pg_replication_slots where slot_name = $1),
		(select coalesce(pg_catalog.max(active_pid), 0)::text from pg_catalog.pg_replication_slots where slot_name = $1),
		(select count(*)::text from pg_catalog.pg_publication where pubname = $2), (select count(*)::text from pg_catalog.pg_roles where rolname = $3)`, n.Slot, n.Publication, n.Role)
	if err != nil {
		return p, err
	}
	r := rows[0]
	if r[1] != "0" {
		p.Obstacles = append(p.Obstacles, fmt.Sprintf("the slot %s is in use by the server's process %s: end the larder that follows it, or take [origin.feed] out of its configuration", n.Slot, r[1]))
	}
	if r[0] != "0" {
		p.Steps = append(p.Steps, "select pg_drop_replication_slot("+literal(n.Slot)+")")
	}
	if r[2] != "0" {
		p.Steps = append(p.Steps, "drop publication "+quote(n.Publication))
	}
	if n.Role != "" && r[3] != "0" {
		p.Steps = append(p.Steps, "drop role "+quote(n.Role))
	}
	return p, nil
}

// Run runs a plan's steps.
func Run(ctx context.Context, c *pgconn.PgConn, p feed.Plan) error {
	return p.Run(ctx, func(ctx context.Context, step string) error {
		_, err := ask(ctx, c, step)
		return err
	})
}
