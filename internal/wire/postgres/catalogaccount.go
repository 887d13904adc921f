package postgres

import (
	"context"
	"maps"
	"net"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/core/catalog"
)

// Account is a login of the larder's own.
type Account struct {
	User, Password string
}

// readCatalog reads the catalog over a connection of the larder's own, for a session that was to ask for it. It is
// called without any lock, once Asking was called.
func (s *session) readCatalog() {
	rows, err := s.server.describe(s.settings, s.eng.Database)
	if err != nil {
		s.server.log().Warn("the catalog could not be read by its own account, so nothing is kept", "database", s.eng.Database, "error", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.eng.LearnedCatalog(rows, s.server.now())
}

func (s *Server) describe(set *Settings, database string) ([]catalog.Row, error) {
	ctx, cancel := context.WithTimeout(s.running(), set.ConnectTime)
	defer cancel()
	c, err := s.connect(ctx, set, *set.Catalog, database, map[string]string{"application_name": "jolly larder", "search_path": ""})
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	if r, err := c.Exec(ctx, "select "+serverIdentity).ReadAll(); err == nil && len(r) == 1 && len(r[0].Rows) == 1 {
		s.Engine.SeenServer(s.Name, string(r[0].Rows[0][0]))
	}
	rows, _, err := Describe(ctx, c)
	return rows, err
}

// Connect connects to the origin as a client of its own. Names mean the server's own things there, unless they say otherwise:
// what users have made in a schema of the usual search path must not be called with the account's privileges.
func (s *Server) Connect(ctx context.Context, a Account, database string, parameters map[string]string) (*pgconn.PgConn, error) {
	own := map[string]string{"search_path": ""}
	maps.Copy(own, parameters)
	return s.connect(ctx, s.Settings(), a, database, own)
}

func (s *Server) connect(ctx context.Context, set *Settings, a Account, database string, parameters map[string]string) (*pgconn.PgConn, error) {
	ctx, cancel := context.WithTimeout(ctx, set.ConnectTime)
	defer cancel()
	cfg, err := pgconn.ParseConfig("host=larder port=1 sslmode=disable") // where it is, and TLS, are for dial; the environment has no say
	if err != nil {
		return nil, err
	}
	cfg.User, cfg.Password, cfg.Database = a.User, a.Password, database
	cfg.RuntimeParams = parameters
	cfg.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil }
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) { return s.dial(set) }
	return pgconn.ConnectConfig(ctx, cfg)
}
