package demo

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/daemon"
	"jollylarder/internal/protocol"
)

// Database is the name of the demo's database. On a real server it is made for the demo and removed afterwards.
const Database = "skerrow_demo"

// memory is the demo's limit for kept results: so little that what more of it would give can be seen.
const memory = 4 << 20

// Config says where the demo runs.
type Config struct {
	// Origin is the URL of a real server, or empty for the stand-in.
	Origin string
	// Protocol is the name of the one that is spoken; empty means that of Origin, or the usual one.
	Protocol string
	// Listen is where the larder listens; empty means a free port.
	Listen string
	Seed   uint64
	// Distance and Work make the stand-in as slow as a server elsewhere; see standin.Delay.
	Distance time.Duration
	Work     float64

	wrap func(db database, origin string) database // if it is not nil, applications connect by what it gives
}

// Demo is a running demo: an origin, a larder before it, and traffic.
type Demo struct {
	Larder *daemon.Larder
	// Control is the path of the larder's control socket.
	Control string

	kind     *protocol.Protocol
	database database

	traffic *traffic
	url     string // of the database itself
	through string // and through the larder
	follows bool   // the larder sees writes around it, as they come
	closers []func() error
}

// Start makes the origin, loads it, puts a larder before it, and lets the applications begin.
func Start(ctx context.Context, cfg Config) (_ *Demo, err error) {
	d := &Demo{}
	defer func() {
		if err != nil {
			err = errors.Join(err, d.Close())
		}
	}()
	if d.kind, d.database, err = cfg.kind(); err != nil {
		return nil, err
	}
	origin, note, err := d.origin(ctx, cfg)
	if err != nil {
		return nil, err
	}
	c, err := d.database.connect(ctx, origin.String(), "loader", plain)
	if err != nil {
		return nil, fmt.Errorf("connecting to the demo's database: %w", err)
	}
	err = load(ctx, c, d.database.schema(), cfg.Seed)
	c.close()
	if err != nil {
		return nil, fmt.Errorf("loading the demo's data: %w", err)
	}
	dir, err := os.MkdirTemp("", "jollylarder-demo-")
	if err != nil {
		return nil, err
	}
	d.closers = append(d.closers, func() error { return os.RemoveAll(dir) })
	d.Control = filepath.Join(dir, "control.sock")
	listen := cfg.Listen
	if listen == "" {
		listen = "127.0.0.1:0"
	}
	before := config.Before(d.hostPort(origin), listen)
	before.Origins[0].Protocol = d.kind.Name
	before.Memory = memory
	before.Control, before.Rules, before.State = d.Control, filepath.Join(dir, "rules.toml"), filepath.Join(dir, "state")
	account := before.Origins[0].Feed
	account.User = origin.User.Username()
	if password, ok := origin.User.Password(); ok {
		account.Password = filepath.Join(dir, "password")
		if err := os.WriteFile(account.Password, []byte(password), 0o600); err != nil {
			return nil, err
		}
	}
	before.Origins[0].FetchUser, before.Origins[0].FetchPassword = account.User, account.Password
	if d.kind.NeedsAccount {
		before.Origins[0].CatalogUser, before.Origins[0].CatalogPassword = account.User, account.Password
	}
	if cfg.Origin != "" {
		if before.Origins[0].Feed, err = d.follow(ctx, origin, account); err != nil {
			return nil, err
		}
	}
	d.Larder, err = daemon.Start(before, daemon.Options{Note: note})
	if err != nil {
		return nil, err
	}
	d.closers = append(d.closers, func() error { d.Larder.Close(); return nil })
	d.url, d.through = origin.String(), d.database.through(origin, d.Larder.Address()).String()
	db := d.database
	if cfg.wrap != nil {
		db = cfg.wrap(db, d.url)
	}
	d.traffic = startTraffic(db, d.through, d.url, cfg.Seed)
	if d.follows {
		d.traffic.settles = time.Second
	}
	d.closers = append(d.closers, func() error { d.traffic.end(); return nil })
	return d, nil
}

func (d *Demo) hostPort(u *url.URL) string {
	return net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), d.kind.Port))
}

// origin makes the database to run on and says what it is.
func (d *Demo) origin(ctx context.Context, cfg Config) (*url.URL, string, error) {
	if cfg.Origin == "" {
		at, end, err := d.database.standIn(cfg)
		if err != nil {
			return nil, "", err
		}
		d.closers = append(d.closers, end)
		return at, "demo: the origin is a stand-in for " + d.kind.Title + " (SQLite) with added delay", nil
	}
	at, err := url.Parse(cfg.Origin)
	if err != nil {
		return nil, "", err
	}
	if err := d.database.make(ctx, cfg.Origin); err != nil {
		return nil, "", err
	}
	d.closers = append(d.closers, func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		return d.database.remove(ctx, cfg.Origin)
	})
	at.Path = "/" + Database
	return at, "demo: a database of its own on a real server", nil
}

// Close ends the demo and leaves nothing behind.
func (d *Demo) Close() error {
	var errs []error
	for i := len(d.closers) - 1; i >= 0; i-- {
		errs = append(errs, d.closers[i]())
	}
	d.closers = nil
	return errors.Join(errs...)
}

// Summary is what a demo without a terminal reports.
type Summary struct {
	Statements uint64 `json:"statements"`
	Hits       uint64 `json:"hits"`
	Misses     uint64 `json:"misses"`
	Bypasses   uint64 `json:"bypasses"`
	Writes     uint64 `json:"writes"`
	Drops      uint64 `json:"drops"`
	// DropsFor is how many dropped results, of those that were fetched again, there were for each that had changed.
	DropsFor float64 `json:"drops_for_each_change"`
	Errors   int64   `json:"errors"`
	Saved    float64 `json:"saved_ms"`
	Origin   float64 `json:"origin_ms"` // waited for the origin
	Hit      float64 `json:"hit_ms"`    // waited for answers from memory
	Stale    int     `json:"stale"`     // kept answers that differed from the origin when asked again in a quiet moment
	Compared int     `json:"compared"`  // answers so asked again
	// Predicted is the share of all statements that were to be answered from memory, by the traffic before anything was
	// kept; Came is the share that was, once memory had filled.
	Predicted  float64 `json:"forecast_share"`
	Actual     float64 `json:"actual_share"`
	FirstError string  `json:"first_error,omitempty"`
	// Around are the writes around the larder that its change feed told of, Lag is how late they were told, as measured
	// last, and Followed how long after a tide was written around the larder a board that had been answered from memory
	// showed it.
	Around   uint64  `json:"direct_writes"`
	Lag      float64 `json:"feed_lag_ms,omitempty"`
	Followed float64 `json:"board_shown_ms,omitempty"`
	Seconds  float64 `json:"seconds"`
}

// Headless watches for a third of the time, foretells what a set of rules would do, puts it in force, lets the traffic
// run on, asks again what was answered, and sums up.
func (d *Demo) Headless(ctx context.Context, length time.Duration) (Summary, error) {
	began := time.Now()
	text, base := d.Larder.Book().Current()
	kept := []string{fmt.Sprintf(sqlDepartures, 1, "x"), fmt.Sprintf(sqlNotices, 1), sqlRoutes, sqlSailings, sqlFares, sqlMine, sqlPerson, sqlManifest, sqlOccupancy}
	if d.follows {
		kept = append(kept, fmt.Sprintf(sqlTide, 1))
	}
	for _, sql := range kept {
		normal := d.kind.Dialect.Syntax.Normalise([]byte(sql))
		r := rules.Rule{Pattern: d.kind.Dialect.Syntax.ID(normal), Action: rules.Cache, TTL: time.Minute, Note: "demo", Statement: string(normal)}
		var err error
		if text, err = rules.Put(text, "", r); err != nil {
			return Summary{}, err
		}
	}
	sleep(ctx, length/3)
	predicted, err := client.NewClient(d.Control).Forecast(context.WithoutCancel(ctx), ptr(string(text)), nil)
	if err != nil {
		return Summary{}, fmt.Errorf("foretelling: %w", err)
	}
	if _, err := d.Larder.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "demo", Text: text, Base: base}); err != nil {
		return Summary{}, err
	}
	sleep(ctx, length/6) // memory fills
	calls, hits := d.answered()
	out := Summary{Predicted: predicted.Draft.OfAll}
	for part := range 2 { // once in the middle, once at the end
		sleep(ctx, length/2+length*time.Duration(part+1)/4-time.Since(began))
		d.traffic.mu.Lock()
		out.Compared += len(d.traffic.reads)
		d.traffic.mu.Unlock()
		stale, err := d.traffic.compare(context.WithoutCancel(ctx))
		if err != nil {
			return out, fmt.Errorf("asking again what was answered: %w", err)
		}
		out.Stale += stale
	}
	if d.follows {
		if out.Followed, err = d.tideScene(context.WithoutCancel(ctx)); err != nil {
			return out, err
		}
	}
	d.traffic.end()
	calls2, hits2 := d.answered()
	out.Actual = float64(hits2-hits) / float64(max(calls2-calls, 1))
	t := d.Larder.Engine().Ledger.Total.Total()
	msec := func(d time.Duration) float64 {
		return float64(d.Round(10*time.Microsecond)) / float64(time.Millisecond)
	}
	out.Statements, out.Hits, out.Misses, out.Bypasses, out.Writes = t.Calls(), t.Count[ledger.Hit], t.Count[ledger.Miss], t.Count[ledger.Bypass], t.Count[ledger.Write]
	for _, x := range d.Larder.Engine().Tables() {
		out.Around += x.Around
	}
	var st control.Status
	d.Larder.Describe(&st)
	for _, f := range st.Feeds {
		out.Lag = f.LagMS
	}
	out.Drops = d.Larder.Engine().Ledger.Drops.Load()
	if changed, same := d.Larder.Engine().Drops.Counts(); changed > 0 {
		out.DropsFor = float64(changed+same) / float64(changed)
	}
	out.Errors = d.traffic.errors.Load()
	out.Saved, out.Hit, out.Origin = msec(t.Saved), msec(t.Waited[ledger.Hit]), msec(t.AllWaited()-t.Waited[ledger.Hit])
	out.Seconds = time.Since(began).Seconds()
	if d.traffic.first != nil {
		out.FirstError = d.traffic.first.Error()
	}
	return out, nil
}

// answered gives how many statements the applications sent through the larder, and how many were answered from memory.
func (d *Demo) answered() (calls, hits uint64) {
	d.Larder.Engine().Ledger.Applications(func(name string, t *ledger.Tally) {
		if s := t.Total(); name != checker {
			calls, hits = calls+s.Calls(), hits+s.Count[ledger.Hit]
		}
	})
	return calls, hits
}

func ptr[T any](v T) *T { return &v }
