package postgres

import (
	"context"
	"errors"
	"maps"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// readCatalog reads the catalog over a connection of the larder's own, for a session that was to ask for it. It is
// called without any lock, once Asking was called.
func (s *session) readCatalog() {
	ctx, cancel := context.WithTimeout(s.server.Running(), s.settings.ConnectTimeout)
	defer cancel()
	c, err := s.server.connect(
		ctx,
		s.settings,
		*s.settings.Catalog,
		s.eng.Database,
		map[string]string{"application_name": "jolly larder", "search_path": ""},
	)
	if err == nil {
		defer c.Close(ctx)
		if r, err := c.Exec(ctx, "select "+serverIdentity).ReadAll(); err == nil && len(r) == 1 && len(r[0].Rows) == 1 {
			s.server.Engine.SeenServer(s.server.Name, string(r[0].Rows[0][0]))
		}
		err = s.readParts(c)
	}
	if err != nil {
		s.server.Logger().Warn(
			"the catalog could not be read by its own account; nothing is cached",
			"database",
			s.eng.Database,
			"error",
			err,
		)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.eng.LearnedCatalog(nil, s.server.Time())
	}
}

// readParts asks one question after the other, until the catalog has been read or another session asks.
func (s *session) readParts(c *pgconn.PgConn) error {
	for more := true; more; {
		q, ok := s.nextCatalogQuestion()
		if !ok {
			return nil // another round has begun
		}
		ctx, cancel := context.WithTimeout(s.server.Running(), s.settings.ConnectTimeout)
		rows, err := askCatalog(ctx, c, q)
		if refused := (*pgconn.PgError)(nil); errors.As(err, &refused) && lacking(refused.Code) &&
			q.Kind != schema.Plain {
			rows, err = askCatalog(ctx, c, schema.Question{Kind: schema.Plain})
			cancel()
			if err != nil {
				return err
			}
			whole, err := schema.Describe(rows)
			if err != nil {
				return err
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			s.eng.LearnedCatalog(whole, s.server.Time())
			return nil
		}
		cancel()
		if err != nil {
			return err
		}
		var end func(time.Time)
		if end, more = s.learnsPart(rows); end != nil {
			end(s.server.Time())
		}
	}
	return nil
}

func (s *session) nextCatalogQuestion() (q schema.Question, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := s.eng.CatalogQuestions()
	if len(list) == 0 {
		return q, false
	}
	return list[0].(schema.Question), true
}

// learnsPart hands on the answer to a question about the catalog, and says whether another is to be asked.
func (s *session) learnsPart(rows []schema.Row) (end func(time.Time), more bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.server.Time()
	if end = s.eng.LearnedPart(rows, now); end != nil {
		return end, false
	}
	if len(s.eng.CatalogQuestions()) > 0 {
		return nil, true
	}
	return nil, s.eng.WantsCatalog(now) && s.eng.Asking(engine.NeedCatalog, now)&engine.NeedCatalog != 0
}

// Connect connects to the origin as a client of its own. Names mean the server's own things there, unless they say
// otherwise: what users have made in a schema of the usual search path must not be called with the account's
// privileges.
func (s *Server) Connect(
	ctx context.Context,
	a link.Account,
	database string,
	parameters map[string]string,
) (*pgconn.PgConn, error) {
	own := map[string]string{"search_path": ""}
	maps.Copy(own, parameters)
	return s.connect(ctx, s.Settings(), a, database, own)
}

func (s *Server) connect(
	ctx context.Context,
	set *link.Settings,
	a link.Account,
	database string,
	parameters map[string]string,
) (*pgconn.PgConn, error) {
	ctx, cancel := context.WithTimeout(ctx, set.ConnectTimeout)
	defer cancel()
	// Where it is, and TLS, are for dial; the environment has no say.
	cfg, err := pgconn.ParseConfig("host=larder port=1 sslmode=disable")
	if err != nil {
		return nil, err
	}
	cfg.User, cfg.Password, cfg.Database = a.User, a.Password, database
	cfg.RuntimeParams = parameters
	cfg.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil }
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) { return s.dial(set) }
	return pgconn.ConnectConfig(ctx, cfg)
}
