package protocol

import (
	"context"
	"database/sql"
	"fmt"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/mysql"
)

// mysqlPlanner plans a change feed over a connection of its own.
type mysqlPlanner struct {
	db *sql.DB
	c  *sql.Conn
}

func planMySQL(ctx context.Context, url string) (feed.Planner, error) {
	cfg, err := ConfigOfMySQL(url)
	if err != nil {
		return nil, err
	}
	p, err := connectMySQL(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	return p, nil
}

// connectMySQL opens a connection of the larder's own.
func connectMySQL(ctx context.Context, cfg *driver.Config) (*mysqlPlanner, error) {
	cfg.Params = map[string]string{"sql_mode": "''"} // in which steps are written
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	p := &mysqlPlanner{db: sql.OpenDB(connector)}
	if p.c, err = p.db.Conn(ctx); err != nil {
		p.db.Close()
		return nil, err
	}
	return p, nil
}

func (p *mysqlPlanner) UsualNames() feed.Names { return feed.Names{} }

func (p *mysqlPlanner) SetUp(ctx context.Context, n feed.Names) (feed.Plan, error) {
	return feeds.SetUp(ctx, p.c, n)
}

func (p *mysqlPlanner) Remove(ctx context.Context, n feed.Names) (feed.Plan, error) {
	return feeds.Remove(ctx, p.c, n)
}

func (p *mysqlPlanner) Run(ctx context.Context, plan feed.Plan) error {
	return feeds.Run(ctx, p.c, plan)
}

func (p *mysqlPlanner) Configuration(feed.Names) string { return "" }

func (p *mysqlPlanner) Close() {
	p.c.Close()
	p.db.Close()
}
