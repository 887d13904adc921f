package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/core/catalog"
)

// Describe asks a server over a connection of one's own for its schema's description, and for the search path in effect
// there. A server that cannot describe its schema whole is asked for what it has.
func Describe(ctx context.Context, c *pgconn.PgConn) (rows []catalog.Row, path []string, err error) {
	answer, err := ask(ctx, c, "select pg_catalog.array_to_string(current_schemas(true), pg_catalog.chr(10))")
	if err != nil {
		return nil, nil, fmt.Errorf("asking for the search path: %w", err)
	}
	if len(answer) == 1 && len(answer[0]) == 1 {
		path = strings.Split(answer[0][0], "\n")
	}
	answer, err = ask(ctx, c, catalogQuery)
	if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) && lacking(refused.Code) {
		answer, err = ask(ctx, c, plainCatalogQuery)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("reading the catalog: %w", err)
	}
	rows, strange := catalogRows(answer)
	if strange {
		return nil, nil, errors.New("reading the catalog: the connection's search path puts other schemas before the system's")
	}
	return rows, path, nil
}

func ask(ctx context.Context, c *pgconn.PgConn, sql string) ([][]string, error) {
	r := c.ExecParams(ctx, sql, nil, nil, nil, nil).Read()
	if r.Err != nil {
		return nil, r.Err
	}
	out := make([][]string, len(r.Rows))
	for i, row := range r.Rows {
		for _, v := range row {
			out[i] = append(out[i], string(v))
		}
	}
	return out, nil
}
