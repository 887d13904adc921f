// Package postgres follows what is written in a PostgreSQL database, whoever writes it: by its replication stream, or
// where that cannot be had by the server's counters of changes.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"

	"jollylarder/internal/feed"
)

// Follower follows the changes of one database.
type Follower struct {
	feed.Options
	// Connect connects to the database with further parameters of the start-up message.
	Connect func(ctx context.Context, parameters map[string]string) (*pgconn.PgConn, error)

	feed.Keeping[uint32] // by the numbers of transactions

	running context.Context // that of Run
	beside  sync.WaitGroup  // what Run has begun

	at     position
	counts map[string]counted
}

// position is where in the server's log the stream has come to.
type position struct {
	system   string
	timeline int32
	lsn      pglogrepl.LSN
}

const (
	usualSlotBound = 1 << 30
	usualProbe     = 100 * time.Millisecond
	checkEvery     = 5 * time.Second
	silence        = 30 * time.Second // and one that is silent for so long, though it is asked all the time, is taken to be dead
	askTime        = 10 * time.Second // for one question
	// counterDelay is how long a server may keep a session's counters to itself. Source: PGSTAT_IDLE_INTERVAL in its
	// pgstat.c.
	counterDelay = 10 * time.Second
)

func (f *Follower) log() *slog.Logger {
	return f.Logger().With("database", f.Database, "slot", f.Slot)
}

// errGiven is the end of a stream that is not to be had again: then there is only polling.
var errGiven = errors.New("the slot was let go")

// Run implements feed.Follower.
func (f *Follower) Run(ctx context.Context) {
	if f.MaxSlotSize == 0 {
		f.MaxSlotSize = usualSlotBound
	}
	if f.PollEvery == 0 {
		f.PollEvery = time.Second
	}
	if f.ProbeEvery == 0 {
		f.ProbeEvery = usualProbe
	}
	f.running = ctx
	defer f.beside.Wait()
	f.Keep(ctx, &f.Options, f.follow, func() { f.at = position{} })
}

// follow connects and follows until something goes wrong.
func (f *Follower) follow(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	asking, err := f.Connect(ctx, map[string]string{"application_name": "jolly larder feed"})
	if err != nil {
		return fmt.Errorf("connecting for the change feed: %w", err)
	}
	defer closing(asking)
	var why error
	if f.Mode != feed.Poll {
		s := &stream{f: f, asking: asking}
		why = s.run(ctx)
		if !errors.Is(why, errGiven) && s.began {
			return why
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	// There is no stream to be had: what the counters say is better than nothing.
	f.Feed.Lost(time.Now())
	f.Unseen.All()
	f.Set(func(s *feed.Status) {
		*s = feed.Status{
			Mode:         feed.Poll,
			Lag:          counterDelay + f.PollEvery,
			At:           time.Now(),
			Gaps:         s.Gaps + 1,
			Transactions: s.Transactions,
			Rows:         s.Rows,
		}
		if why != nil {
			s.Problem = "there is no stream of changes: " + strings.TrimSpace(why.Error())
		}
	})
	if why != nil {
		f.log().Warn("there is no stream of changes, and only counters are followed", "why", why)
	}
	f.Feed.Running(true)
	retry := time.Now().Add(time.Minute) // the slot may have been made meanwhile
	for ctx.Err() == nil {
		if err := f.poll(ctx, asking, nil); err != nil {
			return err
		}
		if f.Mode != feed.Poll && time.Now().After(retry) {
			return errors.New("looking for the stream again")
		}
		select {
		case <-ctx.Done():
		case <-time.After(f.PollEvery):
		}
	}
	return ctx.Err()
}

func closing(c *pgconn.PgConn) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = c.Close(ctx)
}

// ask puts one question and gives its rows as text.
func ask(ctx context.Context, c *pgconn.PgConn, sql string, args ...string) ([][]string, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var values [][]byte
	for _, a := range args {
		values = append(values, []byte(a))
	}
	r := c.ExecParams(ctx, sql, values, nil, nil, nil).Read()
	if r.Err != nil {
		return nil, r.Err
	}
	var out [][]string
	for _, row := range r.Rows {
		var texts []string
		for _, v := range row {
			texts = append(texts, string(v))
		}
		out = append(out, texts)
	}
	return out, nil
}
