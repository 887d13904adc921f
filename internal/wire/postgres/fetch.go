package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// NewFetcher gives a fetcher on an account of the larder's own.
func NewFetcher(s *Server, a link.Account) *link.Fetcher {
	return &link.Fetcher{Engine: s.Engine, Origin: s.Name, User: a.User, Asker: &ownClient{server: s, account: a}}
}

// ownClient asks again for what clients asked.
type ownClient struct {
	server  *Server
	account link.Account
	conn    *ownConn
}

// Close implements link.Asker.
func (f *ownClient) Close() {
	f.conn.close()
	f.conn = nil
}

// ownConn is the fetcher's connection, with the settings it has.
type ownConn struct {
	*pgconn.HijackedConn
	database string
	// values are those of the settings in keys, with those of its server's that nobody has reviewed.
	values, unreviewed []string
}

func (c *ownConn) close() {
	if c != nil {
		_, _ = c.Conn.Write(encoded(nil, &pgproto3.Terminate{}))
		c.Conn.Close()
	}
}

// Ask implements link.Asker.
func (f *ownClient) Ask(ctx context.Context, a *engine.Asked) error {
	unreviewed := f.server.Engine.Unreviewed(f.server.Name, a.Database)
	if f.conn == nil || f.conn.database != a.Database || !slices.Equal(f.conn.unreviewed, unreviewed) {
		f.Close()
		c, err := f.connect(ctx, a.Database, unreviewed)
		if err != nil {
			return err
		}
		f.conn = c
	}
	stop := context.AfterFunc(ctx, func() { _ = f.conn.Conn.SetDeadline(time.Now()) })
	defer stop()
	if last := len(a.Values) - 1; f.conn.values[last] != a.Values[last] {
		return errors.New("it was asked for with settings of which it is not known what they do, and that are others here")
	}
	for i, name := range settingNames {
		if f.conn.values[i+1] != a.Values[i+1] && name != "role" { // some may only be set by few, even to what they are
			set := fmt.Sprintf("select pg_catalog.set_config(%s, %s, false)", literal(name), literal(a.Values[i+1]))
			if _, err := f.conn.run(encoded(nil, &pgproto3.Query{String: set})); err != nil {
				return fmt.Errorf("setting %s as it was: %w", name, err)
			}
		}
	}
	copy(f.conn.values[1:], a.Values[1:])
	var ask []byte
	switch a.Shape {
	case 'q':
		ask = encoded(nil, &pgproto3.Query{String: string(a.Exact)})
	case 'x', 'd':
		ask = frame(nil, 'P', []byte{0}, a.Exact, []byte{0}, a.Types) // as a client bound it
		ask = frame(ask, 'B', []byte{0, 0}, a.Bound)
		if a.Shape == 'd' {
			ask = encoded(ask, &pgproto3.Describe{ObjectType: 'P'})
		}
		ask = encoded(ask, &pgproto3.Execute{}, &pgproto3.Sync{})
	default:
		return fmt.Errorf("asked for in a form %q that is not known", a.Shape)
	}
	_, err := f.conn.run(ask)
	return err
}

// literal writes a string of SQL, whatever the session makes of backslashes.
func literal(s string) string {
	out := []byte(" E'")
	for i := range len(s) {
		if s[i] == '\'' || s[i] == '\\' {
			out = append(out, '\\')
		}
		out = append(out, s[i])
	}
	return string(append(out, '\''))
}

// run sends messages and reads up to the end of their exchange. It gives the last row, as texts.
func (c *ownConn) run(messages []byte) (row []string, failed error) {
	if _, err := c.Conn.Write(messages); err != nil {
		return nil, err
	}
	for {
		m, err := c.Frontend.Receive()
		if err != nil {
			return nil, err
		}
		switch m := m.(type) {
		case *pgproto3.DataRow:
			row = nil
			for _, v := range m.Values {
				row = append(row, string(v))
			}
		case *pgproto3.ErrorResponse:
			failed = pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			return row, failed
		}
	}
}

// connect logs in to the larder itself.
func (f *ownClient) connect(ctx context.Context, database string, unreviewed []string) (*ownConn, error) {
	cfg, err := pgconn.ParseConfig("host=larder port=1 sslmode=disable") // the environment has no say
	if err != nil {
		return nil, err
	}
	cfg.User, cfg.Password, cfg.Database = f.account.User, f.account.Password, database
	cfg.RuntimeParams = map[string]string{"application_name": "jolly larder"}
	cfg.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil }
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) {
		return f.server.ConnectOwn(func(c net.Conn) { f.server.handle(c, true) })
	}
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	h, err := c.Hijack()
	if err != nil {
		return nil, err
	}
	own := &ownConn{HijackedConn: h, database: database, unreviewed: unreviewed}
	row, err := own.run(encoded(nil, &pgproto3.Query{String: settingsQuery(serverIdentity, unreviewed)}))
	set, ok := settings([][]string{row})
	if err == nil && !ok {
		err = errors.New("the server does not tell its settings")
	}
	if err != nil {
		own.close()
		return nil, err
	}
	own.values = set.Values
	return own, nil
}
