package freshcheck

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/feed"
	"jollylarder/internal/wire/link"
)

// repeats is how often an answer from memory is asked for again at once.
const repeats = 3

// tickEvery is how often the larder does what is to be done from time to time.
const tickEvery = 5 * time.Millisecond

// settleTime is how long a write of unknown outcome takes to settle, by the clock of the larder under test.
const settleTime = 10 * time.Second

// run is one script being run on a larder of its own, before a database of its own.
type run struct {
	kind      Database
	address   string
	generated bool
	inOrder   bool
	database  string
	engine    *larder.Larder
	wire      link.Server
	gate      *gate
	ln        net.Listener
	shift     atomic.Int64 // by how much the larder's clock is ahead
	misused   atomic.Pointer[string]
	ended     chan struct{}

	clients  [sessionCount]*client
	observer conn
	follower feed.Follower
	stopFeed context.CancelFunc

	patience time.Duration // how long a read is awaited that may wait for what is held back

	counts Counts
}

// Counts are what was done: reads, of which some were answered from memory, and results that writes dropped, of which
// some were other ones when they were fetched again, and others the same.
type Counts struct {
	Scripts, Operations, Reads, Hits, Around int
	Drops, Changed, Same                     uint64
}

func (c *Counts) add(o Counts) {
	c.Scripts += o.Scripts
	c.Operations += o.Operations
	c.Reads += o.Reads
	c.Hits += o.Hits
	c.Around += o.Around
	c.Drops += o.Drops
	c.Changed += o.Changed
	c.Same += o.Same
}

// client is one client of the larder.
type client struct {
	name    string
	conn    conn
	dead    bool        // its connection was cut
	busy    chan string // the outcome of what it has begun and was not awaited, or nil
	waiting string      // the statement of a read that waits for another's, or empty
	allowed []string    // what that may be answered with
	plain   bool        // it has changed nothing of its session
	held    bool
}

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func newRun(kind Database, address, database string, withFeed bool) (_ *run, err error) {
	r := &run{kind: kind, address: address, database: database, ended: make(chan struct{})}
	defer func() {
		if err != nil {
			r.close()
		}
	}()
	if r.gate, err = newGate(kind, address); err != nil {
		return nil, err
	}
	uncompared := *kind.protocol().Dialect
	uncompared.SameRows = nil // every answer is judged here
	r.engine, err = larder.New(engine.Options{
		Misuse:  func(what string) { r.misused.Store(&what) },
		Dialect: &uncompared, Settle: settleTime, CatalogAge: time.Hour,
	}, r.now())
	if err != nil {
		return nil, err
	}
	r.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	r.wire = kind.protocol().New(link.Options{Engine: r.engine.Engine, Origin: r.gate.address(), Log: quiet, Now: r.now})
	r.wire.Configure(link.Settings{LostTimeout: 200 * time.Millisecond, Unchallenged: link.Anybody, Catalog: kind.account()})
	if r.ln, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	go func() { _ = r.wire.Serve(r.ln) }()
	go func() {
		t := time.NewTicker(tickEvery)
		defer t.Stop()
		for {
			select {
			case <-t.C:
				r.engine.Tick(r.now())
			case <-r.ended:
				return
			}
		}
	}()
	if r.observer, err = kind.connect(address, database, "observer"); err != nil {
		return nil, err
	}
	if withFeed {
		if err = r.follow(); err != nil {
			return nil, err
		}
	}
	for i := range r.clients {
		r.clients[i] = &client{name: fmt.Sprintf("s%d", i)}
		if err = r.dial(r.clients[i]); err != nil {
			return nil, err
		}
	}
	for end := time.Now().Add(20 * time.Second); ; {
		if r.clients[0].conn.ask(r.kind.harmless(), 0); r.known() {
			return r, nil
		}
		if time.Now().After(end) {
			return nil, errors.New("the larder does not come to know the catalog")
		}
		time.Sleep(time.Millisecond)
	}
}

func (r *run) now() time.Time { return time.Now().Add(time.Duration(r.shift.Load())) }

func (r *run) known() (known bool) {
	realm := r.database
	if r.kind.protocol().Dialect.Realm == dialect.Server {
		realm = ""
	}
	r.engine.Databases(func(name string, k, _ bool, _ []string) { known = known || k && name == realm })
	return known
}

func (r *run) dial(c *client) (err error) {
	c.conn, err = r.kind.connect(r.ln.Addr().String(), r.database, c.name)
	c.plain, c.held, c.busy, c.waiting, c.dead = true, false, nil, "", false
	return err
}

// follow sets up a change feed and waits until it is followed.
func (r *run) follow() (err error) {
	if r.follower, err = r.kind.follow(r.address, r.database, r.engine.Engine); err != nil {
		return err
	}
	run, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); r.follower.Run(run) }()
	r.stopFeed = func() { stop(); <-ended }
	return r.caughtUp()
}

// caughtUp waits until the feed has told all that was committed by now.
func (r *run) caughtUp() error {
	from := time.Now()
	for time.Since(from) < 20*time.Second {
		if s := r.follower.Status(); s.Mode == feed.Stream && s.At.Add(-s.Lag).After(from) {
			return nil
		}
		time.Sleep(200 * time.Microsecond)
	}
	return fmt.Errorf("the feed does not come to the present: %+v", r.follower.Status())
}

func (r *run) close() {
	if r.stopFeed != nil {
		r.stopFeed()
	}
	if r.gate != nil {
		for _, c := range r.clients {
			if c != nil {
				r.gate.release(c.name)
			}
		}
	}
	for _, c := range r.clients {
		if c != nil && c.conn != nil {
			c.conn.close()
		}
	}
	if r.ln != nil {
		r.ln.Close()
		r.wire.Close()
	}
	if r.gate != nil {
		r.gate.close()
	}
	close(r.ended)
	if r.engine != nil {
		r.engine.Close()
	}
	if r.observer != nil {
		for _, sql := range r.kind.forever() {
			r.observer.ask(r.local(sql), 0)
		}
		if r.follower != nil {
			for range 100 { // the server takes a moment to see that nobody follows any more
				if r.kind.unfollow(r.address, r.database) {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
		}
		r.observer.close()
	}
}

// truth is what the database says to the same session at this moment, asked in the same way, of the same prepared
// statement if it is one.
func (r *run) truth(c *client, sql string, mode int) string {
	r.engine.SetCaching(false)
	defer r.engine.SetCaching(true)
	return c.conn.ask(sql, mode)
}

// same says whether two answers to a query are of the same rows. Those of a random statement may come in any order.
func (r *run) same(sql, a, b string) bool {
	if a == b || !r.generated || r.inOrder && strings.Contains(sql, "order by") {
		return a == b
	}
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

func (r *run) hits() uint64 { return r.engine.Ledger.Total.Total().Count[ledger.Hit] }

// start sends a statement and does not wait for what comes of it.
func (r *run) start(c *client, sql string, mode int) chan string {
	done := make(chan string, 1)
	go func() { done <- c.conn.ask(sql, mode) }()
	return done
}

// ErrOld is an answer that was another than the database's.
var errOld = errors.New("an answer was another than the database's")

// step does one step. An error is a violation if it is errOld, or else a fault of the checker's surroundings.
// It is long, as it has a case of its own for each kind there is.
func (r *run) step(s step) error {
	c := r.clients[s.session]
	r.counts.Operations++
	if what := r.misused.Load(); what != nil {
		return errors.New(*what)
	}
	s.sql = r.local(s.sql)
	if c.busy == nil && (c.dead || c.conn.closed()) {
		r.gate.release(c.name)
		if err := r.dial(c); err != nil {
			return err
		}
	}
	if c.busy != nil && c.waiting == "" && !c.held {
		if err := r.finish(c); err != nil {
			return err
		}
	}
	busy := c.busy != nil
	switch s.kind {
	case read, write, beginHeld, beginStuck:
		if busy {
			return nil
		}
	}
	switch s.kind {
	case read:
		return r.read(c, s)
	case write:
		r.changes(c, s.sql)
		c.conn.ask(s.sql, s.mode)
	case beginHeld, beginStuck:
		r.changes(c, s.sql)
		before := r.gate.readies(c.name)
		r.gate.hold(c.name, s.kind == beginHeld)
		c.held = true
		done := r.start(c, s.sql, 0)
		ended := make(chan struct{})
		c.busy = make(chan string, 1)
		go func() { c.busy <- <-done; close(ended) }()
		if s.kind == beginHeld {
			r.gate.await(c.name, before, ended)
		} else {
			r.awaitSent(c, ended)
		}
	case release:
		r.gate.release(c.name)
		c.held = false
		return r.finish(c)
	case cutOrigin:
		r.gate.cut(c.name)
		c.held = false
		c.dead = true
		err := r.finish(c)
		c.conn.close()
		return err
	case cutClient:
		c.dead = true
		c.conn.close()
		err := r.finish(c)
		r.gate.release(c.name)
		c.held = false
		return err
	case cutLate:
		before := r.engine.Sessions()
		r.gate.orphan(c.name)
		c.dead, c.held = true, false
		err := r.finish(c)
		c.conn.close()
		for end := time.Now().Add(time.Second); r.engine.Sessions() >= before && time.Now().Before(end); {
			time.Sleep(100 * time.Microsecond) // the larder comes to know
		}
		return err
	case arrives:
		r.gate.arrive()
	case later:
		r.shift.Add(int64(3 * settleTime))
		time.Sleep(3 * tickEvery)
	case around:
		r.counts.Around++
		r.observer.ask(s.sql, 0)
		return r.caughtUp()
	}
	return nil
}

// local fills in what is another for each database.
func (r *run) local(sql string) string { return r.kind.local(sql, r.address, r.database) }

// awaitSent waits until the larder has sent on a client's statement, or has answered it itself, or a while.
func (r *run) awaitSent(c *client, ended <-chan struct{}) {
	for end := time.Now().Add(2 * time.Second); time.Now().Before(end) && !r.gate.holds(c.name); {
		select {
		case <-ended:
			return
		case <-time.After(200 * time.Microsecond):
		}
	}
}

// changes notes that a client is not as it was when it connected.
func (r *run) changes(c *client, sql string) {
	if !r.kind.plain(sql) {
		c.plain = false
	}
}

// read asks, and judges the answer if it came from memory: what did not is the database's own.
func (r *run) read(c *client, s step) error {
	r.counts.Reads++
	if c.conn.atRest() && !r.known() {
		r.shift.Add(int64(time.Second)) // the larder leaves a pause between two readings
		// It is being read again, or else most of the time nothing would be cached. That does not end while something is held
		// back that may do anything.
		for end := time.Now().Add(r.whileHeld(300*time.Millisecond, r.patience)); !r.known() && time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
			c.conn.ask(r.kind.harmless(), 0)
		}
	}
	before, ready := r.hits(), r.gate.readies(c.name)
	done := r.start(c, s.sql, s.mode)
	patience := r.whileHeld(20*time.Second, r.patience)
	select {
	case got := <-done:
		if r.hits() == before && r.gate.readies(c.name) > ready || strings.HasPrefix(got, refused) || strings.HasPrefix(got, noAnswer) { // no error is kept
			return nil
		}
		if r.gate.readies(c.name) > ready && !c.conn.fromMemory() {
			return nil // the hit that was counted was an earlier one
		}
		r.counts.Hits++
		want := r.truth(c, s.sql, s.mode)
		if strings.HasPrefix(want, locked) { // somebody locks the table, and nothing can be said
			return nil
		}
		for more := 0; r.same(s.sql, got, want) && more < repeats; more++ { // nothing happens meanwhile
			r.counts.Reads++
			r.counts.Hits++
			got = c.conn.ask(s.sql, s.mode)
		}
		if !r.same(s.sql, got, want) {
			return fmt.Errorf("%w: %d asked %s, and was answered\n%sand not\n%s", errOld, s.session, s.sql, got, want)
		}
	case <-time.After(patience):
		c.busy, c.waiting = done, s.sql
		c.allowed = []string{r.observed(s.sql)}
	}
	return nil
}

// whileHeld gives how long something is awaited: less while something is held back, which it may wait for.
func (r *run) whileHeld(usual, less time.Duration) time.Duration {
	for _, c := range r.clients {
		if c != nil && c.held {
			return less
		}
	}
	return usual
}

// observed is what the database says to somebody else.
func (r *run) observed(sql string) string {
	return r.observer.ask(sql, 0)
}

// finish waits for what a client has begun.
func (r *run) finish(c *client) error {
	if c.busy == nil || c.waiting != "" {
		return nil
	}
	patience := r.whileHeld(20*time.Second, 10*time.Millisecond)
	select {
	case <-c.busy:
		c.busy = nil
	case <-time.After(patience):
		if patience > time.Second {
			return errors.New("a statement does not end that was let go on")
		}
	}
	return nil
}

// waiters looks what reads have been answered that waited for another's: it may be with anything that was true since
// they were sent.
func (r *run) waiters() error {
	for i, c := range r.clients {
		if c.waiting == "" {
			continue
		}
		c.allowed = append(c.allowed, r.observed(c.waiting))
		select {
		case got := <-c.busy:
			sql := c.waiting
			c.busy, c.waiting = nil, ""
			if !c.conn.fromMemory() {
				continue // it is the database's own
			}
			if c.plain && !sharedParameter.MatchString(sql) && !strings.HasPrefix(got, noAnswer) && !strings.HasPrefix(got, refused) && // no error is kept
				!slices.ContainsFunc(c.allowed, func(a string) bool { return r.same(sql, a, got) }) {
				return fmt.Errorf("%w: %d asked %s, waited, and was answered\n%sand not one of\n%s", errOld, i, sql, got, strings.Join(c.allowed, "or\n"))
			}
			r.counts.Hits++
		default:
		}
	}
	return nil
}

// all runs a whole script.
func (r *run) all(s Script) error {
	r.counts.Scripts++
	for _, x := range s {
		if err := r.step(x); err != nil {
			return err
		}
		if err := r.waiters(); err != nil {
			return err
		}
	}
	return nil
}
