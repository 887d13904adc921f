package demo

import (
	"bufio"
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/rules"
)

// Way is a way of answering an application's reads.
type Way string

// The ways.
const (
	Direct       Way = "the database itself"
	ByHand       Way = "a key-value server, asked by the application"
	ForATime     Way = "a larder whose rules cache for a time"
	UntilWritten Way = "a larder whose rules cache until written"
)

// Ways are all of them.
var Ways = []Way{Direct, ByHand, ForATime, UntilWritten}

// Judged is what came of the demo's reads in one way.
type Judged struct {
	Reads, Stale int
	// FromMemory is how many reads did not reach the database.
	FromMemory  int
	Median, P99 time.Duration
	// Lines are those of code that the application has for it.
	Lines int
}

//go:embed handcache.go
var handCache string

// lines counts those that hold code.
func lines(source string) (n int) {
	for scan := bufio.NewScanner(strings.NewReader(source)); scan.Scan(); {
		if text := strings.TrimSpace(scan.Text()); text != "" && !strings.HasPrefix(text, "//") {
			n++
		}
	}
	return n
}

// Judge runs the demo's traffic in one way, on a real server and where needed with a key-value server, for a time after
// as long for memory to fill. One statement runs at a time: each read is followed by the same of the database itself, so
// that an answer is stale if nothing but its age can be the reason.
func Judge(ctx context.Context, server, keyValueServer string, w Way, ttl, length time.Duration) (Judged, error) {
	j := &judge{way: w, ttl: ttl, store: keyValueServer}
	d, err := Start(ctx, Config{Origin: server, Seed: 1, wrap: func(db database, origin string) database {
		j.database, j.origin = db, origin
		return j
	}})
	if err != nil {
		return Judged{}, err
	}
	defer d.Close()
	if err := j.keep(d); err != nil {
		return Judged{}, err
	}
	sleep(ctx, length)
	j.mu.Lock()
	j.count, j.took = true, nil
	_, before := d.answered()
	j.mu.Unlock()
	sleep(ctx, length)
	d.traffic.end()
	j.mu.Lock()
	defer j.mu.Unlock()
	if d.traffic.first != nil {
		return Judged{}, d.traffic.first
	}
	out := j.out
	slices.Sort(j.took)
	if out.Reads = len(j.took); out.Reads == 0 {
		return out, fmt.Errorf("%s: nothing was read", w)
	}
	out.Median, out.P99 = j.took[out.Reads/2], j.took[out.Reads*99/100]
	if w == ByHand {
		out.Lines = lines(handCache)
	}
	_, hits := d.answered()
	out.FromMemory += int(hits - before)
	return out, nil
}

// judge connects applications in one way, and judges what their reads are answered.
type judge struct {
	database
	way   Way
	ttl   time.Duration
	store string // the key-value server's address

	origin string     // the URL of the database itself
	mu     sync.Mutex // held by one statement at a time
	count  bool
	out    Judged
	took   []time.Duration
}

// keep puts the rules in force that a way has. What is written around the larder, the tides, is kept for a time only.
func (j *judge) keep(d *Demo) error {
	if j.way != ForATime && j.way != UntilWritten {
		return nil
	}
	text, base := d.Larder.Book().Current()
	var err error
	for _, sql := range []string{fmt.Sprintf(sqlDepartures, 1, "x"), fmt.Sprintf(sqlNotices, 1), fmt.Sprintf(sqlTide, 1), sqlRoutes, sqlSailings, sqlFares, sqlOpen, sqlMine,
		sqlPerson, sqlManifest, sqlOccupancy} {
		normal := d.kind.Dialect.Syntax.Normalise([]byte(sql))
		if sql == fmt.Sprintf(sqlTide, 1) && j.way == UntilWritten {
			continue
		}
		r := rules.Rule{Pattern: d.kind.Dialect.Syntax.ID(normal), Action: rules.Cache, TTL: j.ttl, TTLOnly: j.way == ForATime, Statement: string(normal)}
		if text, err = rules.Put(text, "", r); err != nil {
			return err
		}
	}
	_, err = d.Larder.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "bench", Text: text, Base: base})
	return err
}

func (j *judge) connect(ctx context.Context, url, application string, w way) (connection, error) {
	if j.way == Direct || j.way == ByHand {
		url = j.origin
	}
	c, err := j.database.connect(ctx, url, application, w)
	if err != nil {
		return nil, err
	}
	truth, err := j.database.connect(ctx, j.origin, checker, w)
	if err != nil {
		c.close()
		return nil, err
	}
	out := &judged{connection: c, truth: truth, j: j}
	if j.way == ByHand {
		if out.store, err = dialKeyValue(j.store); err != nil {
			out.close()
			return nil, err
		}
		out.connection = handCached{counted{c, j}, out.store, j.ttl}
	}
	return out, nil
}

// judged is an application's connection, beside one to the database itself.
type judged struct {
	connection
	truth   connection
	store   *keyValue // or nil
	j       *judge
	inBlock bool // which has the lock
}

func (c *judged) rows(ctx context.Context, sql string, args ...any) ([]string, error) {
	c.j.mu.Lock()
	defer c.j.mu.Unlock()
	began := time.Now()
	got, err := c.connection.rows(ctx, sql, args...)
	took := time.Since(began)
	if err != nil {
		return nil, err
	}
	want, err := c.truth.rows(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	if c.j.count {
		if c.store != nil {
			c.j.out.FromMemory++ // unless it was sent on, which is taken off
		}
		c.j.took = append(c.j.took, took)
		if !slices.Equal(got, want) {
			c.j.out.Stale++
		}
	}
	return got, nil
}

// counted counts the reads that an application's own cache sends on: the others it answered itself.
type counted struct {
	connection
	j *judge
}

func (c counted) rows(ctx context.Context, sql string, args ...any) ([]string, error) {
	if c.j.count {
		c.j.out.FromMemory--
	}
	return c.connection.rows(ctx, sql, args...)
}

func (c *judged) run(ctx context.Context, sql string, args ...any) error {
	if !c.inBlock {
		c.j.mu.Lock()
		defer c.j.mu.Unlock()
	}
	return c.connection.run(ctx, sql, args...)
}

func (c *judged) block(ctx context.Context, f func() error) error {
	c.j.mu.Lock()
	defer c.j.mu.Unlock()
	c.inBlock = true
	defer func() { c.inBlock = false }()
	return c.connection.block(ctx, f)
}

func (c *judged) close() {
	c.connection.close()
	c.truth.close()
	if c.store != nil {
		c.store.close()
	}
}
