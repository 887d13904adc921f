package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"

	"github.com/jackc/pgx/v5"

	"jollylarder/internal/standin"
)

// postgres is the demo on PostgreSQL.
type postgres struct{}

func (postgres) standIn(cfg Config) (*url.URL, func() error, error) {
	o, err := standin.New(standin.Options{
		Database: Database, Delay: standin.Delay{Distance: cfg.Distance, Work: cfg.Work, Seed: cfg.Seed},
	})
	if err != nil {
		return nil, nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, errors.Join(err, o.Close())
	}
	go func() { _ = o.Serve(l) }()
	at := &url.URL{
		Scheme: "postgres", User: url.User("ines"), Host: l.Addr().String(), Path: "/" + Database, RawQuery: "sslmode=disable",
	}
	return at, func() error { return errors.Join(l.Close(), o.Close()) }, nil
}

func (postgres) make(ctx context.Context, server string) error {
	c, err := pgx.Connect(ctx, server)
	if err != nil {
		return fmt.Errorf("connecting to --origin: %w", err)
	}
	defer c.Close(ctx)
	var exists bool
	const there = "select exists (select 1 from pg_database where datname = $1)"
	if err := c.QueryRow(ctx, there, Database).Scan(&exists); err != nil {
		return err
	}
	if exists {
		return fmt.Errorf("the server already has a database %s, which the demo would make and remove: rename or remove it first", Database)
	}
	if _, err := c.Exec(ctx, "create database "+Database); err != nil {
		return fmt.Errorf("making the demo's database: %w", err)
	}
	return nil
}

func (postgres) remove(ctx context.Context, server string) error {
	c, err := pgx.Connect(ctx, server)
	if err != nil {
		return fmt.Errorf("the demo's database %s could not be removed: %w", Database, err)
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "drop database if exists "+Database+" with (force)")
	return err
}

func (postgres) schema() string {
	return `
create table ports (id integer primary key, name text not null, island text not null, berths integer not null);
create table vessels (id integer primary key, name text not null, capacity integer not null, cars integer not null);
create table routes (id integer primary key, from_port integer not null references ports (id), to_port integer not null references ports (id), minutes integer not null);
create table sailings (id integer primary key, route_id integer not null references routes (id), vessel_id integer not null references vessels (id),
  departs_at timestamptz not null, state text not null, seats_left integer not null);
create table fares (id integer primary key, route_id integer not null references routes (id), class text not null, price numeric(8, 2) not null);
create table passengers (id integer primary key, card text not null unique, name text not null, home integer not null references ports (id));
create table bookings (id integer primary key, sailing_id integer not null references sailings (id), passenger_id integer not null references passengers (id),
  seats integer not null, made_at timestamptz not null);
create table tide_readings (id integer primary key, port_id integer not null references ports (id), at timestamptz not null, height numeric(5, 2) not null);
create table notices (id integer primary key, port_id integer not null references ports (id), text text not null, posted_at timestamptz not null);
create index sailings_route on sailings (route_id, departs_at);
create index bookings_sailing on bookings (sailing_id);
create index tide_port on tide_readings (port_id, at);
create view open_sailings as select id, route_id, departs_at, seats_left from sailings where state = 'open' and seats_left > 0`
}

func (postgres) toldWhole(table string) string {
	return "alter table public." + table + " replica identity full"
}

func (postgres) through(at *url.URL, address string) *url.URL {
	out := *at
	out.Host = address
	q := out.Query()
	q.Set("sslmode", "disable")
	out.RawQuery = q.Encode()
	return &out
}

// postgresClient is an application's connection to PostgreSQL.
type postgresClient struct{ c *pgx.Conn }

func (postgres) connect(ctx context.Context, url, application string, w way) (connection, error) {
	cfg, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.RuntimeParams["application_name"] = application
	cfg.DefaultQueryExecMode = map[way]pgx.QueryExecMode{
		plain: pgx.QueryExecModeSimpleProtocol, once: pgx.QueryExecModeExec, prepared: pgx.QueryExecModeCacheStatement,
	}[w]
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	return postgresClient{c}, nil
}

func (p postgresClient) rows(ctx context.Context, sql string, args ...any) (out []string, err error) {
	rows, err := p.c.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		v, err := rows.Values()
		if err != nil {
			return nil, err
		}
		out = append(out, fmt.Sprint(v...))
	}
	return out, rows.Err()
}

func (p postgresClient) run(ctx context.Context, sql string, args ...any) error {
	_, err := p.c.Exec(ctx, sql, args...)
	return err
}

func (p postgresClient) block(ctx context.Context, f func() error) error {
	return pgx.BeginFunc(ctx, p.c, func(pgx.Tx) error { return f() })
}

func (p postgresClient) close() { p.c.Close(context.Background()) }
