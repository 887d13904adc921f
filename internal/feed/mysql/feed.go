// Package mysql follows what is written in a MariaDB server, whoever writes it: by its binary log, as a replica does.
package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/feed"
)

// Follower follows the changes of one server.
type Follower struct {
	feed.Options
	// Config gives the account that is used, and how the server is reached at this moment.
	Config func() *driver.Config

	// What follows is of the goroutine that follows.
	at    point
	begun bool // it has been somewhere
	on    bool // it has gone on from there since it last connected
	// unseen are the groups that have been told, by where in the log they end.
	unseen feed.Unseen[place]

	mu     sync.Mutex
	status feed.Status
}

// point is where in the server's log the stream has come to: the end of a group, which is marked.
type point struct {
	server serverRun
	mark   *mark // nil while it has come nowhere
}

const (
	usualProbe   = 100 * time.Millisecond
	checkEvery   = 5 * time.Second
	stalls       = 3 * time.Second  // a stream of which so long it is not known how far it has come has stalled
	silence      = 30 * time.Second // and one that is silent for so long, though it says all the time that it is there, is dead
	heartbeat    = 250 * time.Millisecond
	longestPause = 10 * time.Second
	askTime      = 10 * time.Second // for one question
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
	return l.With("origin", f.Origin)
}

// Run implements feed.Follower.
func (f *Follower) Run(ctx context.Context) {
	if f.ProbeEvery == 0 {
		f.ProbeEvery = usualProbe
	}
	defer f.Feed.Running(false)
	pause := time.Second
	for ctx.Err() == nil {
		began, had := time.Now(), f.unseen.Any()
		f.on = false
		err := f.follow(ctx)
		f.Feed.Running(false)
		if ctx.Err() != nil {
			return
		}
		f.set(func(s *feed.Status) { s.Mode, s.Problem = "", sentence(err) })
		if had && !f.on {
			f.at = point{}
			f.unseen.All()
		}
		f.log().Warn("direct writes are not seen at this moment", "why", sentence(err))
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
func (f *Follower) follow(ctx context.Context) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("a fault in the larder: %v", r)
			f.at = point{}
		}
	}()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	account := f.Config()
	account.ConnectionAttributes = "program_name:jolly larder feed"
	connector, err := driver.NewConnector(account)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	connecting, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	c, err := db.Conn(connecting)
	if err != nil {
		return fmt.Errorf("connecting for the change feed: %w", err)
	}
	defer c.Close()
	s := &stream{f: f, account: account, asking: c}
	return s.run(ctx)
}

// ask puts one question of one row.
func ask(ctx context.Context, c *sql.Conn, query string, into ...any) error {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	return c.QueryRowContext(ctx, query).Scan(into...)
}

// code gives the number of a server's error; 0 for none of these.
func code(err error) uint16 {
	var e *driver.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}
