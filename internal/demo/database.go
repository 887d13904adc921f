package demo

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"

	"jollylarder/internal/protocol"
)

// database is one kind of database that the demo runs on: what it needs of one beyond its protocol.
type database interface {
	// standIn makes an embedded origin, and gives the URL of the demo's database there.
	standIn(Config) (at *url.URL, close func() error, err error)
	// make makes the demo's database on a server, unless there is one of the name, and remove takes it away.
	make(ctx context.Context, server string) error
	remove(ctx context.Context, server string) error
	// connect connects an application.
	connect(ctx context.Context, url, application string, w way) (connection, error)
	// schema gives the statements that make the tables, and toldWhole those that have the changes of a table's rows told
	// with what they were before.
	schema() string
	toldWhole(table string) string
	// through gives the URL of the database as it is reached over another address.
	through(at *url.URL, address string) *url.URL
}

// way is how an application sends its statements.
type way uint8

const (
	plain    way = iota // as texts with their values in them
	once                // prepared for each time that they are run
	prepared            // prepared once and run many times
)

// connection is an application's connection.
type connection interface {
	// rows runs a read and gives its rows as texts.
	rows(ctx context.Context, sql string, args ...any) ([]string, error)
	// run runs what has no rows.
	run(ctx context.Context, sql string, args ...any) error
	// block runs f in a transaction, which is rolled back if f fails.
	block(ctx context.Context, f func() error) error
	close()
}

// databases are those that the demo runs on, by the names of their protocols.
var databases = map[string]database{protocol.PostgreSQL.Name: postgres{}, protocol.MySQL.Name: mysql{}}

// Protocols gives the names of those that the demo speaks.
func Protocols() []string { return slices.Sorted(maps.Keys(databases)) }

// kind gives the protocol that the demo is to speak, and its database.
func (c *Config) kind() (*protocol.Protocol, database, error) {
	p, err := protocol.Named(c.Protocol)
	if err == nil && c.Origin != "" {
		if at, bad := url.Parse(c.Origin); bad != nil || at.Hostname() == "" {
			return nil, nil, fmt.Errorf("--origin %q is no URL of a server: expected something like %s://user:password@127.0.0.1:%s/database",
				c.Origin, p.Schemes[0], p.Port)
		}
		p, err = protocol.OfURL(c.Origin, protocol.Followed)
	}
	if err != nil {
		return nil, nil, err
	}
	if c.Protocol != "" && c.Protocol != p.Name {
		return nil, nil, fmt.Errorf("--origin is of the protocol %s, and --protocol says %s: leave one of them out", p.Name, c.Protocol)
	}
	db := databases[p.Name]
	if db == nil {
		return nil, nil, fmt.Errorf("the demo does not run on %s", p.Title)
	}
	return p, db, nil
}
