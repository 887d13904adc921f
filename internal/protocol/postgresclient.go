package protocol

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/trial"
)

// postgresClient asks in trials.
type postgresClient struct{ c *pgconn.PgConn }

func dialPostgreSQL(ctx context.Context, url, application string) (trial.Client, error) {
	cfg, err := pgconn.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.RuntimeParams["application_name"] = application
	// Another server would be another to compare with; the same one without TLS, where the URL allows that, is not.
	cfg.Fallbacks = slices.DeleteFunc(cfg.Fallbacks, func(f *pgconn.FallbackConfig) bool { return f.Host != cfg.Host || f.Port != cfg.Port })
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	return &postgresClient{c}, nil
}

// Ask implements trial.Client. A statement without parameters is sent as a simple query.
func (p *postgresClient) Ask(ctx context.Context, s *trial.Statement, behind string) (rows [][]byte, err error) {
	add := func(row [][]byte) {
		var line []byte
		for _, v := range row {
			if v == nil {
				line = append(line, 0)
				continue
			}
			line = fmt.Appendf(line, "%d:", len(v))
			line = append(line, v...)
		}
		rows = append(rows, line)
	}
	if len(s.Parameters) == 0 {
		results, err := p.c.Exec(ctx, s.SQL+behind).ReadAll()
		for _, r := range results {
			for _, row := range r.Rows {
				add(row)
			}
		}
		return rows, err
	}
	values, formats := make([][]byte, len(s.Parameters)), make([]int16, len(s.Parameters))
	for i, v := range s.Parameters {
		if values[i] = v.Value; v.Binary {
			formats[i] = 1
		}
	}
	types := make([]uint32, len(s.Types))
	for i, name := range s.Types {
		if t, ok := postgresTypes.TypeForName(name); ok {
			types[i] = t.OID // else the server decides
		}
	}
	r := p.c.ExecParams(ctx, s.SQL+behind, values, types, formats, nil).Read()
	for _, row := range r.Rows {
		add(row)
	}
	return rows, r.Err
}

// Begin implements trial.Client.
func (p *postgresClient) Begin(ctx context.Context) error { return p.do(ctx, "begin") }

// Rollback implements trial.Client.
func (p *postgresClient) Rollback(ctx context.Context) error { return p.do(ctx, "rollback") }

func (p *postgresClient) do(ctx context.Context, sql string) error {
	_, err := p.c.Exec(ctx, sql).ReadAll()
	return err
}

// Closed implements trial.Client.
func (p *postgresClient) Closed() bool { return p.c.IsClosed() }

// Close implements trial.Client.
func (p *postgresClient) Close() { closePostgreSQL(p.c) }

// closePostgreSQL ends a connection, and waits a second at most for the server to hear of it.
func closePostgreSQL(c *pgconn.PgConn) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = c.Close(ctx)
}
