package postgres

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/feed"
)

// counted is what a table's counters said last: how many rows were written, and the file that its rows are in, which
// TRUNCATE changes.
type counted struct{ rows, file string }

const countersQuery = `/* jolly larder reads counters of changes */
select s.schemaname || '.' || s.relname, s.schemaname, s.relname, (s.n_tup_ins + s.n_tup_upd + s.n_tup_del)::text,
       coalesce(pg_catalog.pg_relation_filenode(s.relid)::text, ''), pg_catalog.current_setting('track_counts')
from pg_catalog.pg_stat_user_tables s`

// poll reads the counters of all tables but those given, and tells of those that have changed. It cannot say which
// rows.
func (f *Follower) poll(ctx context.Context, c *pgconn.PgConn, but map[string]bool) error {
	began := time.Now()
	rows, err := ask(ctx, c, countersQuery)
	if err != nil {
		return err
	}
	if len(rows) > 0 && rows[0][5] != "on" {
		return errors.New("the server has track_counts = off, and does not count changes: set it to on")
	}
	if f.counts == nil {
		f.counts = map[string]counted{}
	}
	var changed, fresh []engine.RowChange
	var polled []string
	for _, r := range rows {
		if but[r[0]] {
			delete(f.counts, r[0])
			continue
		}
		polled = append(polled, r[0])
		now := counted{r[3], r[4]}
		any := engine.RowChange{Schema: r[1], Table: r[2], Kind: feed.AnyWrite}
		if had, ok := f.counts[r[0]]; !ok {
			fresh = append(fresh, any) // it may have been written since something of it was kept
		} else if had != now {
			changed = append(changed, any)
		}
		f.counts[r[0]] = now
	}
	slices.SortFunc(polled, strings.Compare)
	f.Set(func(s *feed.Status) { s.Polled = polled })
	if len(fresh) > 0 {
		f.Feed.Unsure(fresh, time.Now())
	}
	if len(changed) > 0 {
		f.Feed.Changed(changed, time.Now())
	}
	f.Feed.Counted(polled, began.Add(-counterDelay))
	return nil
}
