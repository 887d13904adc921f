package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
)

// rows is how many rows there are, each written by one client alone.
const rows = 16

// load is clients that write and read rows of numbers that only grow, and judge what they read.
type load struct {
	through func() string // where to connect to
	direct  func() string
	around  bool

	epoch     atomic.Int64 // counts the moments from which numbers may be lower than they were: a server that lacks the last ones
	told      [rows]atomic.Int64
	attempted [rows]atomic.Int64

	reads, hits, writes, failed, old atomic.Int64
	mu                               sync.Mutex
	found                            string
	wg                               sync.WaitGroup
}

type counts struct{ reads, hits, writes, failed, old int64 }

func (l *load) counts() counts {
	return counts{l.reads.Load(), l.hits.Load(), l.writes.Load(), l.failed.Load(), l.old.Load()}
}

func (c counts) minus(o counts) counts {
	return counts{c.reads - o.reads, c.hits - o.hits, c.writes - o.writes, c.failed - o.failed, c.old - o.old}
}

func (l *load) first() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.found
}

const callTime = 10 * time.Second

func connect(ctx context.Context, url string) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	cfg, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	return pgx.ConnectConfig(ctx, cfg)
}

// run has clients write and read until the context ends.
func (l *load) run(ctx context.Context) {
	for i := range 4 {
		l.wg.Go(func() { l.client(ctx, l.writer(i)) })
		l.wg.Go(func() { l.client(ctx, l.reader()) })
	}
}

// client connects again whenever its connection fails, and does one thing after the other.
func (l *load) client(ctx context.Context, do func(context.Context, *pgx.Conn) error) {
	for ctx.Err() == nil {
		url := l.through()
		c, err := connect(ctx, url)
		for err == nil && ctx.Err() == nil {
			call, cancel := context.WithTimeout(ctx, callTime)
			err = do(call, c)
			cancel()
		}
		if c != nil {
			c.Close(context.Background())
		}
		if err != nil && ctx.Err() == nil {
			l.failed.Add(1)
			time.Sleep(20 * time.Millisecond)
		}
	}
}

func (l *load) writer(first int) func(context.Context, *pgx.Conn) error {
	var own *pgx.Conn // around the larder
	return func(ctx context.Context, c *pgx.Conn) error {
		row := first + 4*rand.IntN(rows/4)
		if l.around {
			if own == nil || own.IsClosed() {
				var err error
				if own, err = connect(ctx, l.direct()); err != nil {
					return err
				}
			}
			c = own
		}
		epoch := l.epoch.Load()
		n := l.attempted[row].Add(1)
		if _, err := c.Exec(ctx, fmt.Sprintf("update numbers set n = greatest(n, %d) where id = %d", n, row)); err != nil {
			return err
		}
		if l.epoch.Load() == epoch {
			l.told[row].Store(n)
		}
		l.writes.Add(1)
		time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
		return nil
	}
}

func (l *load) reader() func(context.Context, *pgx.Conn) error {
	return func(ctx context.Context, c *pgx.Conn) error {
		row := rand.IntN(rows)
		epoch, least := l.epoch.Load(), l.told[row].Load()
		var n int64
		if err := c.QueryRow(ctx, fmt.Sprintf("select n from numbers where id = %d", row)).Scan(&n); err != nil {
			return err
		}
		most := l.attempted[row].Load()
		last, err := c.PgConn().Exec(ctx, "show jollylarder.last").ReadAll()
		if err != nil {
			return err
		}
		how := string(last[0].Rows[0][0])
		if l.epoch.Load() != epoch {
			return nil // what was true lies between two servers
		}
		hit := how == "hit"
		l.reads.Add(1)
		if hit {
			l.hits.Add(1)
		}
		if n < least || n > most {
			l.old.Add(1)
			l.mu.Lock()
			if l.found == "" {
				l.found = fmt.Sprintf("row %d was answered with %d (%s), after %d had been written and at most %d", row, n, how, least, most)
			}
			l.mu.Unlock()
		}
		return nil
	}
}

// lower begins an epoch: what the database has now is what everybody has been told.
func (l *load) lower(ctx context.Context) error {
	l.epoch.Add(1)
	c, err := connect(ctx, l.direct())
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	list, err := c.Query(ctx, "select id, n from numbers")
	if err != nil {
		return err
	}
	defer list.Close()
	for list.Next() {
		var id, n int64
		if err := list.Scan(&id, &n); err != nil {
			return err
		}
		l.told[id].Store(n)
	}
	l.epoch.Add(1)
	return list.Err()
}
