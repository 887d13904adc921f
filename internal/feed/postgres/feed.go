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

	// unseen are the transactions that have been told, by their numbers; went says that the stream went on since it was last
	// connected.
	unseen feed.Unseen[uint32]
	went   bool

	running context.Context // that of Run
	beside  sync.WaitGroup  // what Run has begun

	mu     sync.Mutex
	status feed.Status
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
	stalls         = 3 * time.Second  // a stream of which so long it is not known how far it has come has stalled
	silence        = 30 * time.Second // and one that is silent for so long, though it is asked all the time, is taken to be dead
	longestPause   = 10 * time.Second
	askTime        = 10 * time.Second // for one question
	// counterDelay is how long a server may keep a session's counters to itself. Source: PGSTAT_IDLE_INTERVAL in its
	// pgstat.c.
	counterDelay = 10 * time.Second
)

// Status implements feed.Follower.
func (f *Follower) Status() feed.Status {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.status.Seen(time.Now(), stalls)
}

func (f *Follower) set(change func(*feed.Status)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	change(&f.status)
}

func (f *Follower) log() *slog.Logger {
	l := f.Log
	if l == nil {
		l = slog.Default()
	}
	return l.With("database", f.Database, "slot", f.Slot)
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
	defer f.Feed.Running(false)
	pause := time.Second
	for ctx.Err() == nil {
		began, had := time.Now(), f.unseen.Any()
		f.went = false
		err := f.follow(ctx)
		f.Feed.Running(false)
		if ctx.Err() != nil {
			return
		}
		f.set(func(s *feed.Status) { s.Mode, s.Problem = "", sentence(err) })
		if had && !f.went {
			f.at = position{} // so that all clocks move when it begins again
			f.unseen.All()
		}
		f.log().Warn("direct writes are not seen at this moment", "why", err)
		if time.Since(began) > time.Minute {
			pause = time.Second
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, longestPause)
	}
}

func sentence(err error) string {
	if err == nil {
		return "the connection ended"
	}
	return strings.TrimSpace(err.Error())
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
	f.unseen.All()
	f.set(func(s *feed.Status) {
		*s = feed.Status{
			Mode:         feed.Poll,
			Lag:          counterDelay + f.PollEvery,
			At:           time.Now(),
			Gaps:         s.Gaps + 1,
			Transactions: s.Transactions,
			Rows:         s.Rows,
		}
		if why != nil {
			s.Problem = "there is no stream of changes: " + sentence(why)
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
