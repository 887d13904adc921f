package protocol

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/postgres"
	"jollylarder/internal/trial"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// PostgreSQL is that of PostgreSQL, version 3.
var PostgreSQL = &Protocol{
	Name: "postgresql", Title: "PostgreSQL", Schemes: []string{"postgres", "postgresql"}, Port: "5432", ALPN: wire.ALPN,
	Dialect: dialect.Dialect,
	New:     func(o link.Options) link.Server { return wire.New(o) },
	Fetch:   func(s link.Server, a link.Account) *link.Fetcher { return wire.NewFetcher(s.(*wire.Server), a) },
	Follow: func(s link.Server, a link.Account, o feed.Options) feed.Follower {
		if o.Slot == "" {
			o.Slot = feeds.UsualNames(o.Database).Slot
		}
		return &feeds.Follower{Options: o, Connect: func(ctx context.Context, with map[string]string) (*pgconn.PgConn, error) {
			return s.(*wire.Server).Connect(ctx, a, o.Database, with)
		}}
	},
	Describe: func(ctx context.Context, url string) (catalog.Description, []string, error) {
		c, err := pgconn.Connect(ctx, url)
		if err != nil {
			return nil, nil, fmt.Errorf("connecting to the database: %w", err)
		}
		defer c.Close(ctx)
		return wire.Describe(ctx, c)
	},
	Explain: func(ctx context.Context, s link.Server, a link.Account, q link.PlanQuestion) ([]string, error) {
		return s.(*wire.Server).Plan(ctx, a, q)
	},
	Plan:   planPostgreSQL,
	Look:   lookAtPostgreSQL,
	Whole:  wholePostgreSQL,
	PlanAs: planPostgreSQLAs,
	Dial:   dialPostgreSQL,
	Split:  facts.Split,
	Render: renderPostgreSQL,
}

// postgresTypes knows the server's own types by name and number.
var postgresTypes = pgtype.NewMap()

func renderPostgreSQL(types, bound []byte) (out Rendered) {
	out.Values = wire.Values(bound)
	values, isBinary, declared := wire.Parameters(types, bound)
	for i := range values {
		out.Parameters = append(out.Parameters, trial.Parameter{Value: values[i], Binary: isBinary[i]})
	}
	for _, number := range declared {
		name := ""
		if t, ok := postgresTypes.TypeForOID(number); ok {
			name = t.Name
		}
		out.Types = append(out.Types, name)
	}
	return out
}

// postgresPlanner plans a change feed over a connection of its own.
type postgresPlanner struct {
	c        *pgconn.PgConn
	database string
}

func planPostgreSQL(ctx context.Context, url string) (feed.Planner, error) {
	cfg, err := pgconn.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.RuntimeParams["search_path"] = "" // a superuser's connection is to call nothing of a user's
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	return &postgresPlanner{c, cfg.Database}, nil
}

func (p *postgresPlanner) UsualNames() feed.Names { return feeds.UsualNames(p.database) }

func (p *postgresPlanner) SetUp(ctx context.Context, n feed.Names) (feed.Plan, error) {
	return feeds.SetUp(ctx, p.c, p.database, n)
}

func (p *postgresPlanner) Remove(ctx context.Context, n feed.Names) (feed.Plan, error) {
	return feeds.Remove(ctx, p.c, n)
}

func (p *postgresPlanner) Run(ctx context.Context, plan feed.Plan) error {
	return feeds.Run(ctx, p.c, plan)
}

func (p *postgresPlanner) Configuration(n feed.Names) string {
	usual := p.UsualNames()
	lines := fmt.Sprintf("databases = [%q]\n", p.database)
	if n.Slot != usual.Slot {
		lines += fmt.Sprintf("slot = %q\n", n.Slot)
	}
	if n.Publication != usual.Publication {
		lines += fmt.Sprintf("publication = %q\n", n.Publication)
	}
	return lines
}

func (p *postgresPlanner) Close() { closePostgreSQL(p.c) }
