// Package mysql follows what is written in a MariaDB server, whoever writes it: by its binary log, as a replica does.
package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/feed"
)

// Follower follows the changes of one server.
type Follower struct {
	feed.Options
	// Config gives the account that is used, and how the server is reached at this moment.
	Config func() *driver.Config

	feed.Keeping[place] // by where in the log a transaction ends
	at                  point
}

// point is where in the server's log the stream has come to: the end of a group, which is marked.
type point struct {
	server serverRun
	mark   *mark // nil while it has come nowhere
}

const (
	usualProbe = 100 * time.Millisecond
	checkEvery = 5 * time.Second
	silence    = 30 * time.Second // and one that is silent for so long, though it says all the time that it is there, is dead
	heartbeat  = 250 * time.Millisecond
	askTime    = 10 * time.Second // for one question
)

// Run implements feed.Follower.
func (f *Follower) Run(ctx context.Context) {
	if f.ProbeEvery == 0 {
		f.ProbeEvery = usualProbe
	}
	f.Keep(ctx, &f.Options, f.follow, func() { f.at = point{} })
}

// follow connects and follows until something goes wrong.
func (f *Follower) follow(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	account := f.Config()
	account.ConnectionAttributes = "program_name:jolly larder feed"
	connector, err := driver.NewConnector(account)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	connecting, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	c, err := db.Conn(connecting)
	if err != nil {
		return fmt.Errorf("connecting for the change feed: %w", err)
	}
	defer c.Close()
	s := &stream{f: f, account: account, asking: c}
	return s.run(ctx)
}

// ask puts one question of one row.
func ask(ctx context.Context, c *sql.Conn, query string, into ...any) error {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	return c.QueryRowContext(ctx, query).Scan(into...)
}

// code gives the number of a server's error; 0 for none of these.
func code(err error) uint16 {
	var e *driver.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}
