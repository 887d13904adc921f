package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/protocol"
	"jollylarder/internal/standin"
)

// mysql is the demo on MariaDB or MySQL.
type mysql struct{}

func (mysql) standIn(cfg Config) (*url.URL, func() error, error) {
	o, err := standin.New(standin.Options{
		Protocol: protocol.MySQL.Name, Database: Database, Delay: standin.Delay{Distance: cfg.Distance, Work: cfg.Work, Seed: cfg.Seed},
	})
	if err != nil {
		return nil, nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, errors.Join(err, o.Close())
	}
	go func() { _ = o.Serve(l) }()
	at := &url.URL{Scheme: "mysql", User: url.User("ines"), Host: l.Addr().String(), Path: "/" + Database}
	return at, func() error { return errors.Join(l.Close(), o.Close()) }, nil
}

// opened opens a connection by a URL without or with another database.
func opened(ctx context.Context, server, database, application string) (*sql.DB, *sql.Conn, error) {
	cfg, err := protocol.ConfigOfMySQL(server)
	if err != nil {
		return nil, nil, err
	}
	cfg.DBName = database
	cfg.ParseTime, cfg.MultiStatements = false, true
	cfg.ConnectionAttributes = "program_name:" + application
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, nil, err
	}
	db := sql.OpenDB(connector)
	c, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, nil, err
	}
	return db, c, nil
}

// does runs statements on a server, with no database in use.
func (mysql) does(ctx context.Context, server string, statements ...string) error {
	db, c, err := opened(ctx, server, "", "loader")
	if err != nil {
		return fmt.Errorf("connecting to --origin: %w", err)
	}
	defer db.Close()
	defer c.Close()
	for _, q := range statements {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// databaseExists is the number of the error that says so.
const databaseExists = 1007

func (m mysql) make(ctx context.Context, server string) error {
	err := m.does(ctx, server, "create database "+Database+" character set utf8mb4")
	var refused *driver.MySQLError
	switch {
	case errors.As(err, &refused) && refused.Number == databaseExists:
		return fmt.Errorf("the server already has a database %s, which the demo would make and remove: rename or remove it first", Database)
	case errors.As(err, &refused):
		return fmt.Errorf("making the demo's database: %w", err)
	}
	return err
}

func (m mysql) remove(ctx context.Context, server string) error {
	if err := m.does(ctx, server, "drop database if exists "+Database); err != nil {
		return fmt.Errorf("the demo's database %s could not be removed: %w", Database, err)
	}
	return nil
}

func (mysql) schema() string {
	return `
create table ports (id integer primary key, name varchar(80) not null, island varchar(80) not null, berths integer not null);
create table vessels (id integer primary key, name varchar(80) not null, capacity integer not null, cars integer not null);
create table routes (id integer primary key, from_port integer not null, to_port integer not null, minutes integer not null,
  foreign key (from_port) references ports (id), foreign key (to_port) references ports (id));
create table sailings (id integer primary key, route_id integer not null, vessel_id integer not null, departs_at datetime not null, state varchar(20) not null,
  seats_left integer not null, foreign key (route_id) references routes (id), foreign key (vessel_id) references vessels (id));
create table fares (id integer primary key, route_id integer not null, class varchar(20) not null, price decimal(8, 2) not null, foreign key (route_id) references routes (id));
create table passengers (id integer primary key, card varchar(20) not null unique, name varchar(80) not null, home integer not null, foreign key (home) references ports (id));
create table bookings (id integer primary key, sailing_id integer not null, passenger_id integer not null, seats integer not null, made_at datetime not null,
  foreign key (sailing_id) references sailings (id), foreign key (passenger_id) references passengers (id));
create table tide_readings (id integer primary key, port_id integer not null, at datetime not null, height decimal(5, 2) not null, foreign key (port_id) references ports (id));
create table notices (id integer primary key, port_id integer not null, text varchar(200) not null, posted_at datetime not null, foreign key (port_id) references ports (id));
create index sailings_route on sailings (route_id, departs_at);
create index bookings_sailing on bookings (sailing_id);
create index tide_port on tide_readings (port_id, at);
create view open_sailings as select id, route_id, departs_at, seats_left from sailings where state = 'open' and seats_left > 0`
}

func (mysql) toldWhole(string) string { return "" } // rows are told whole

func (mysql) through(at *url.URL, address string) *url.URL {
	out := *at
	out.Host = address
	out.RawQuery = ""
	return &out
}

// mysqlClient is an application's connection to MariaDB or MySQL.
type mysqlClient struct {
	db       *sql.DB
	c        *sql.Conn
	way      way
	prepared map[string]*sql.Stmt
}

func (mysql) connect(ctx context.Context, at, application string, w way) (connection, error) {
	u, err := url.Parse(at)
	if err != nil {
		return nil, err
	}
	db, c, err := opened(ctx, at, strings.TrimPrefix(u.Path, "/"), application)
	if err != nil {
		return nil, err
	}
	return &mysqlClient{db, c, w, map[string]*sql.Stmt{}}, nil
}

// placed writes a statement's numbered parameters in the way of this protocol: a question mark for each mention.
func placed(text string, args []any) (string, []any) {
	var out strings.Builder
	var list []any
	for {
		before, behind, found := strings.Cut(text, "$")
		out.WriteString(before)
		if !found {
			return out.String(), list
		}
		n := 0
		for n < len(behind) && '0' <= behind[n] && behind[n] <= '9' {
			n++
		}
		number, err := strconv.Atoi(behind[:n])
		if err != nil || number > len(args) {
			out.WriteByte('$')
		} else {
			out.WriteByte('?')
			list = append(list, args[number-1])
		}
		text = behind[n:]
	}
}

// statement gives a prepared statement for a text, and what is to be called when it has been run.
func (m *mysqlClient) statement(ctx context.Context, text string) (*sql.Stmt, func(), error) {
	if p := m.prepared[text]; p != nil {
		return p, func() {}, nil
	}
	p, err := m.c.PrepareContext(ctx, text)
	if err != nil {
		return nil, nil, err
	}
	if m.way == prepared {
		m.prepared[text] = p
		return p, func() {}, nil
	}
	return p, func() { p.Close() }, nil
}

func (m *mysqlClient) rows(ctx context.Context, text string, args ...any) (out []string, err error) {
	text, args = placed(text, args)
	var rows *sql.Rows
	if len(args) == 0 {
		rows, err = m.c.QueryContext(ctx, text)
	} else {
		p, done, failed := m.statement(ctx, text)
		if failed != nil {
			return nil, failed
		}
		defer done()
		rows, err = p.QueryContext(ctx, args...)
	}
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	values, into := make([]sql.NullString, len(names)), make([]any, len(names))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		line := make([]string, len(values))
		for i, v := range values {
			line[i] = v.String
		}
		out = append(out, strings.Join(line, " "))
	}
	return out, rows.Err()
}

func (m *mysqlClient) run(ctx context.Context, text string, args ...any) error {
	text, args = placed(text, args)
	if len(args) == 0 {
		_, err := m.c.ExecContext(ctx, text)
		return err
	}
	p, done, err := m.statement(ctx, text)
	if err != nil {
		return err
	}
	defer done()
	_, err = p.ExecContext(ctx, args...)
	return err
}

func (m *mysqlClient) block(ctx context.Context, f func() error) error {
	if err := m.run(ctx, "begin"); err != nil {
		return err
	}
	if err := f(); err != nil {
		return errors.Join(err, m.run(ctx, "rollback"))
	}
	return m.run(ctx, "commit")
}

func (m *mysqlClient) close() {
	m.c.Close()
	m.db.Close()
}
