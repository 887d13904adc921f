package protocol

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/mysql"
	"jollylarder/internal/wire/link"
	mysqlwire "jollylarder/internal/wire/mysql"
	wire "jollylarder/internal/wire/postgres"
)

// Look is what is seen of a server by a login on one of the larder's accounts.
type Look struct {
	// Version is as the server says it.
	Version string
	// Clock is what its clock showed between Sent and Came by the clock of this machine.
	Clock, Sent, Came time.Time
}

// Ahead is by how much the server's clock is ahead of this machine's at least, or behind it if it is negative: what the
// question itself took is not held against it.
func (l *Look) Ahead() time.Duration {
	switch {
	case l.Clock.After(l.Came):
		return l.Clock.Sub(l.Came)
	case l.Clock.Before(l.Sent):
		return l.Clock.Sub(l.Sent)
	}
	return 0
}

// takes reads what a server says of its clock, in seconds since 1970.
func (l *Look) takes(seconds string) error {
	n, err := strconv.ParseFloat(seconds, 64)
	if err != nil {
		return fmt.Errorf("the server's clock shows %q: %w", seconds, err)
	}
	l.Came, l.Clock = time.Now(), time.Unix(0, int64(n*1e9))
	return nil
}

func lookAtPostgreSQL(ctx context.Context, s link.Server, a link.Account, database string) (l Look, err error) {
	c, err := s.(*wire.Server).Connect(ctx, a, database, nil)
	if err != nil {
		return l, err
	}
	defer closePostgreSQL(c)
	l.Sent = time.Now()
	r := c.ExecParams(ctx, "select pg_catalog.version(), pg_catalog.extract('epoch', pg_catalog.clock_timestamp())::pg_catalog.text", nil, nil, nil, nil).Read()
	if r.Err != nil {
		return l, r.Err
	}
	l.Version = string(r.Rows[0][0])
	return l, l.takes(string(r.Rows[0][1]))
}

// wholePostgreSQL reads the schema as the larder does.
func wholePostgreSQL(ctx context.Context, s link.Server, a link.Account, database string) error {
	c, err := s.(*wire.Server).Connect(ctx, a, database, nil)
	if err != nil {
		return err
	}
	defer closePostgreSQL(c)
	_, _, err = wire.Describe(ctx, c)
	return err
}

func planPostgreSQLAs(ctx context.Context, s link.Server, a link.Account, database string) (feed.Planner, error) {
	c, err := s.(*wire.Server).Connect(ctx, a, database, nil)
	if err != nil {
		return nil, err
	}
	return &postgresPlanner{c, database}, nil
}

func lookAtMySQL(ctx context.Context, s link.Server, a link.Account, _ string) (l Look, err error) {
	p, err := connectMySQL(ctx, s.(*mysqlwire.Server).Config(a))
	if err != nil {
		return l, err
	}
	defer p.Close()
	l.Sent = time.Now()
	var seconds string
	if err := p.c.QueryRowContext(ctx, "select @@version, unix_timestamp(sysdate(6))").Scan(&l.Version, &seconds); err != nil {
		return l, err
	}
	return l, l.takes(seconds)
}

func wholeMySQL(ctx context.Context, s link.Server, a link.Account, _ string) error {
	_, err := mysqlwire.Describe(ctx, s.(*mysqlwire.Server).Config(a))
	return err
}

func planMySQLAs(ctx context.Context, s link.Server, a link.Account, _ string) (feed.Planner, error) {
	p, err := connectMySQL(ctx, s.(*mysqlwire.Server).Config(a))
	if err != nil {
		return nil, err
	}
	return ownMySQLPlanner{p}, nil
}

// ownMySQLPlanner plans on the account that is to follow, which sees no other accounts.
type ownMySQLPlanner struct{ *mysqlPlanner }

// SetUp implements feed.Planner.
func (p ownMySQLPlanner) SetUp(ctx context.Context, _ feed.Names) (feed.Plan, error) {
	return feeds.SetUpOwn(ctx, p.c)
}
