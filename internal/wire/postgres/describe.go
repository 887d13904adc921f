package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/postgres"
)

// Describe asks a server over a connection of one's own for its schema's description, and for the search path in effect
// there. A server that cannot describe its schema whole is asked for what it has.
func Describe(ctx context.Context, c *pgconn.PgConn) (d catalog.Description, path []string, err error) {
	answer, err := ask(ctx, c, "select pg_catalog.array_to_string(current_schemas(true), pg_catalog.chr(10))")
	if err != nil {
		return nil, nil, fmt.Errorf("asking for the search path: %w", err)
	}
	if len(answer) == 1 && len(answer[0]) == 1 {
		path = strings.Split(answer[0][0], "\n")
	}
	var reader schema.Reader
	reader.Begin()
	for {
		q, more := reader.Next()
		if !more {
			return reader.Description(), path, nil
		}
		began := time.Now()
		rows, err := askCatalog(ctx, c, q)
		if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) && lacking(refused.Code) {
			if rows, err = askCatalog(ctx, c, schema.Question{Kind: schema.Plain}); err != nil {
				return nil, nil, err
			}
			d, err := schema.Describe(rows)
			return d, path, err
		}
		if err != nil {
			return nil, nil, err
		}
		if _, ok := reader.Take(q, rows, time.Since(began)); !ok {
			return nil, nil, fmt.Errorf("cannot read the catalog: the answer about %s is not understood", q.Kind)
		}
	}
}

// askCatalog asks one question about the catalog.
func askCatalog(ctx context.Context, c *pgconn.PgConn, q schema.Question) ([]schema.Row, error) {
	answer, err := ask(ctx, c, aboutCatalog(q, c.ParameterStatus("server_version"))...)
	if err != nil {
		return nil, fmt.Errorf("cannot read the catalog: %w", err)
	}
	rows, strange := catalogRows(answer)
	if strange {
		return nil, errors.New(
			"cannot read the catalog: the connection's search path puts other schemas before the system's",
		)
	}
	return rows, nil
}

// ask asks by statements that are one transaction, and gives the rows of the last.
func ask(ctx context.Context, c *pgconn.PgConn, statements ...string) ([][]string, error) {
	var batch pgconn.Batch
	for _, sql := range statements {
		batch.ExecParams(sql, nil, nil, nil, nil)
	}
	results, err := c.ExecBatch(ctx, &batch).ReadAll()
	if err != nil {
		return nil, err
	}
	r := results[len(results)-1]
	out := make([][]string, len(r.Rows))
	for i, row := range r.Rows {
		for _, v := range row {
			out[i] = append(out[i], string(v))
		}
	}
	return out, nil
}
