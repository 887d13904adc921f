package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/core/statement/postgres"
	"jollylarder/internal/wire/link"
)

// planParameters keep a plan from doing anything: nothing is written, and the server gives up after some seconds.
// Names mean the tables that the pattern reads, and no values are needed.
var planParameters = map[string]string{
	"application_name": "jolly larder", "default_transaction_read_only": "on", "statement_timeout": "5s",
	"plan_cache_mode": "force_generic_plan",
}

// Plan asks the origin how it runs the statements of a pattern, whatever their values are, and gives the lines of its
// answer. Nothing is run. The text goes as one message of the extended protocol, which takes a single statement.
func (s *Server) Plan(ctx context.Context, a link.Account, q link.PlanQuestion) (lines []string, err error) {
	var path []string
	for _, name := range q.Schemas {
		path = append(path, pgx.Identifier{name}.Sanitize())
	}
	c, err := s.Connect(ctx, a, q.Database, planParameters)
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	text, n := postgres.Syntax.Numbered(q.Text)
	if len(path) > 0 { // the server's own functions and operators come first as long as their schema is not named
		if _, err := c.Exec(ctx, "set search_path to "+strings.Join(path, ", ")).ReadAll(); err != nil {
			return nil, err
		}
	}
	if r := c.ExecParams(ctx, "prepare larder_plan as "+text, nil, nil, nil, nil).Read(); r.Err != nil {
		return nil, refused("the statement cannot be prepared without its values", r.Err)
	}
	arguments := ""
	if n > 0 {
		arguments = "(" + strings.TrimSuffix(strings.Repeat("null, ", n), ", ") + ")"
	}
	results, err := c.Exec(ctx, "explain (costs on) execute larder_plan"+arguments).ReadAll()
	if err != nil {
		return nil, refused("the server gives no plan", err)
	}
	for _, r := range results {
		for _, row := range r.Rows {
			lines = append(lines, string(row[0]))
		}
	}
	return lines, nil
}

// refused says what the server said.
func refused(what string, err error) error {
	if p := (*pgconn.PgError)(nil); errors.As(err, &p) {
		return fmt.Errorf("%s: %s", what, p.Message)
	}
	return fmt.Errorf("%s: %w", what, err)
}
