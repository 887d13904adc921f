package protocol

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/trial"
)

// mysqlClient asks in trials.
type mysqlClient struct {
	db       *sql.DB
	c        *sql.Conn
	prepared map[string]*sql.Stmt
	closed   bool
}

// mostPrepared bounds the statements that a client keeps prepared.
const mostPrepared = 500

func dialMySQL(ctx context.Context, url, application string) (trial.Client, error) {
	cfg, err := ConfigOfMySQL(url)
	if err != nil {
		return nil, err
	}
	cfg.ConnectionAttributes = "program_name:" + strings.NewReplacer(",", "", ":", "").Replace(application)
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	m := &mysqlClient{db: sql.OpenDB(connector), prepared: map[string]*sql.Stmt{}}
	if m.c, err = m.db.Conn(ctx); err != nil {
		m.db.Close()
		return nil, err
	}
	return m, nil
}

// Ask implements trial.Client. A statement without parameters is sent as a text. Others are prepared once.
func (m *mysqlClient) Ask(ctx context.Context, s *trial.Statement, behind string) (rows [][]byte, err error) {
	defer func() { m.closed = m.closed || lostMySQL(err) }()
	var r *sql.Rows
	if len(s.Parameters) == 0 {
		r, err = m.c.QueryContext(ctx, s.SQL+behind)
	} else {
		var p *sql.Stmt
		if p, err = m.prepare(ctx, s.SQL+behind); err == nil {
			r, err = p.QueryContext(ctx, argumentsOf(s)...)
		}
	}
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for more := true; more; more = r.NextResultSet() {
		names, err := r.Columns()
		if err != nil {
			return rows, err
		}
		values, into := make([]sql.RawBytes, len(names)), make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		for r.Next() {
			if err := r.Scan(into...); err != nil {
				return rows, err
			}
			var line []byte
			for _, v := range values {
				if v == nil {
					line = append(line, 0)
					continue
				}
				line = append(fmt.Appendf(line, "%d:", len(v)), v...)
			}
			rows = append(rows, line)
		}
	}
	return rows, r.Err()
}

func (m *mysqlClient) prepare(ctx context.Context, text string) (*sql.Stmt, error) {
	if p := m.prepared[text]; p != nil {
		return p, nil
	}
	if len(m.prepared) >= mostPrepared {
		for _, p := range m.prepared {
			p.Close()
		}
		clear(m.prepared)
	}
	p, err := m.c.PrepareContext(ctx, text)
	if err == nil {
		m.prepared[text] = p
	}
	return p, err
}

// argumentsOf gives a statement's parameters as the driver takes them: numbers as such, and all else as texts.
func argumentsOf(s *trial.Statement) (list []any) {
	for i, p := range s.Parameters {
		kind := ""
		if i < len(s.Types) {
			kind = s.Types[i]
		}
		list = append(list, argumentOf(p.Value, kind))
	}
	return list
}

func argumentOf(value []byte, kind string) any {
	if value == nil {
		return nil
	}
	text := string(value)
	switch kind {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "year":
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
		if n, err := strconv.ParseUint(text, 10, 64); err == nil {
			return n
		}
	case "float", "double":
		if n, err := strconv.ParseFloat(text, 64); err == nil {
			return n
		}
	}
	return text
}

// lostMySQL says whether a connection has ended by what went wrong.
func lostMySQL(err error) bool {
	var server *driver.MySQLError
	return err != nil && !errors.As(err, &server)
}

// Begin implements trial.Client.
func (m *mysqlClient) Begin(ctx context.Context) error { return m.do(ctx, "begin") }

// Rollback implements trial.Client.
func (m *mysqlClient) Rollback(ctx context.Context) error { return m.do(ctx, "rollback") }

func (m *mysqlClient) do(ctx context.Context, text string) error {
	_, err := m.c.ExecContext(ctx, text)
	m.closed = m.closed || lostMySQL(err)
	return err
}

// Closed implements trial.Client.
func (m *mysqlClient) Closed() bool { return m.closed }

// Close implements trial.Client.
func (m *mysqlClient) Close() {
	m.c.Close()
	m.db.Close()
}
