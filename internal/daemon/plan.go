package daemon

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"jollylarder/internal/wire/link"
)

// Plan implements controlserver.Larder. The account by which results are fetched ahead may read what clients read, so
// that it is asked before the one that reads catalogs.
func (l *Larder) Plan(ctx context.Context, database string, schemas []string, text string) (lines []string, user string, err error) {
	for i, o := range l.origins {
		l.mu.Lock()
		cfg := l.cfg.Origins[i]
		l.mu.Unlock()
		if cfg.Name != "" {
			rest, is := strings.CutPrefix(database, cfg.Name+"/")
			if !is {
				continue
			}
			database = rest
		}
		a, err := account(cfg.FetchUser, cfg.FetchPassword)
		if err == nil && a == nil {
			a, err = account(cfg.CatalogUser, cfg.CatalogPassword)
		}
		switch {
		case err != nil:
			return nil, "", err
		case a == nil:
			return nil, "", errors.New("the larder has no account of its own there: set [origin.fetch] or [origin.catalog] in its configuration")
		case o.protocol.Explain == nil:
			return nil, "", fmt.Errorf("plans of %s are not supported: use EXPLAIN with an account of yours", o.protocol.Title)
		}
		lines, err = o.protocol.Explain(ctx, o.server, *a, link.PlanQuestion{Database: database, Schemas: schemas, Text: text})
		return lines, a.User, err
	}
	return nil, "", fmt.Errorf("no origin has the database %s", database)
}
