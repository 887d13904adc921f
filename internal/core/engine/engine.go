// Package engine is the one place that decides: what to do with a statement, and what to do with its result. The wire
// packages tell it what arrives and do what it says; it knows no bytes of any protocol, no network and no clock.
package engine

import (
	"errors"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/store"
)

// Options are an engine's knobs.
type Options struct {
	// Dialect is the kind of database that origins are of. Required, but where Dialects names every origin.
	Dialect *dialect.Dialect
	// Dialects are those of origins of another kind, by the origins' names.
	Dialects map[string]*dialect.Dialect
	// CatalogAge is how long a catalog is trusted before it is read again, since definitions may change around the
	// larder; 0 means a minute.
	CatalogAge time.Duration
	// Memory is the limit for kept results in bytes; 0 means 256 MiB.
	Memory int64
	// Overhead is the limit in bytes for everything that is no kept result; 0 means DefaultOverhead.
	Overhead int64
	// Largest is the largest reply in bytes that is kept; 0 means 1 MiB.
	Largest int
	// MostPatterns is how many patterns are told apart; 0 means 50,000. Statements beyond them pass.
	MostPatterns int
	// Settle is how long a write whose outcome never arrived is taken to be under way; 0 means 60 s.
	Settle time.Duration
	// Misuse is told of a Ticket that is used out of order, which is a fault of the caller's and has no effect; nil
	// means that nobody is.
	Misuse func(what string)
	// Ledger is where patterns, applications and rules have their numbers; nil means one of its own. The engine counts
	// nothing in it: an observer does.
	Ledger *ledger.Ledger
	// Observers learn what becomes of statements and of what is kept.
	Observers []Observer
}

func (o Options) withDefaults() Options {
	if o.Memory == 0 {
		o.Memory = 256 << 20
	}
	if o.Overhead == 0 {
		o.Overhead = DefaultOverhead
	}
	if o.Largest == 0 {
		o.Largest = 1 << 20
	}
	if o.MostPatterns == 0 {
		o.MostPatterns = 50_000
	}
	if o.CatalogAge == 0 {
		o.CatalogAge = time.Minute
	}
	if o.Settle == 0 {
		o.Settle = time.Minute
	}
	return o
}

// Engine decides for all sessions of its origins. It is safe for concurrent use.
type Engine struct {
	Ledger *ledger.Ledger
	Inputs *inputs.Book

	opts        Options
	store       *store.Store
	rules       atomic.Pointer[rules.Set]
	switchedOff atomic.Bool
	aside       atomic.Bool // a trial has caching off at this moment

	overhead    overhead
	reading     chan struct{} // holds who reads what takes long to read
	patterns    patterns
	texts       sync.Map // by syntax: *texts
	flights     flights
	again       again
	identities  identities
	suspensions suspensions
	sampling    sampling
	servers     sync.Map // by origin: *originServer

	mu        sync.RWMutex
	databases map[string]*database
	unsettled []unsettled
	sessions  map[*Session]struct{}

	earlier     atomic.Pointer[time.Time] // until when what an earlier process has sent may be running; nil for nothing
	predecessor atomic.Bool               // another process still serves clients, of whom this one does not know
	retired     atomic.Bool               // another process serves the clients that connect
	moments     atomic.Uint64             // counts the beginnings of blocks
	lanes       atomic.Uint32
	keepers     keepers

	clocksCounted, merged time.Time // only Tick touches these
}

// New makes an engine. Now is the time it begins at.
func New(opts Options, now time.Time) (*Engine, error) {
	if opts.Dialect == nil && len(opts.Dialects) == 0 {
		return nil, errors.New("no kind of database is given")
	}
	opts = opts.withDefaults()
	if opts.Ledger == nil {
		opts.Ledger = ledger.New(now)
	}
	s, err := store.New(opts.Memory)
	if err != nil {
		return nil, err
	}
	s.Tick(now)
	e := &Engine{
		Ledger: opts.Ledger, Inputs: inputs.New(), opts: opts, store: s,
		databases: map[string]*database{}, sessions: map[*Session]struct{}{},
	}
	e.reading = make(chan struct{}, max(runtime.GOMAXPROCS(0)/2, 1))
	e.overhead.divide(opts.Overhead)
	e.patterns.room = &e.overhead.patterns
	e.Inputs.Limit(opts.Overhead*shareInputs/16, opts.Overhead*shareTraces/16)
	e.again.bell = make(chan struct{}, 1)
	e.keepers.tables = map[string]*TableDrops{}
	e.keepers.moved = map[*freshness.Counter]moved{}
	e.rules.Store(rules.NewSet(nil))
	return e, nil
}

// Close ends what runs beside the engine. It is not to be used any more.
func (e *Engine) Close() { e.store.Close() }

// dialect gives that of an origin.
func (e *Engine) dialect(origin string) *dialect.Dialect {
	if d := e.opts.Dialects[origin]; d != nil {
		return d
	}
	return e.opts.Dialect
}

// Dialects gives those of all origins.
func (e *Engine) Dialects() (list []*dialect.Dialect) {
	if e.opts.Dialect != nil {
		list = append(list, e.opts.Dialect)
	}
	for _, d := range e.opts.Dialects {
		if !slices.Contains(list, d) {
			list = append(list, d)
		}
	}
	return list
}

// textsOf gives the statements of a syntax that are remembered.
func (e *Engine) textsOf(syntax *statement.Syntax) *texts {
	t, ok := e.texts.Load(syntax)
	if !ok {
		t, _ = e.texts.LoadOrStore(syntax, &texts{room: &e.overhead.texts})
	}
	return t.(*texts)
}

// Rules gives the rules in force.
func (e *Engine) Rules() *rules.Set { return e.rules.Load() }

// SetCaching switches all caching off, or on again. Clocks keep running meanwhile, so that cached results stay trustworthy.
func (e *Engine) SetCaching(on bool) { e.switchedOff.Store(!on) }

// CachingOff says whether all caching is switched off.
func (e *Engine) CachingOff() bool { return e.switchedOff.Load() }

// SetAside switches caching off for a slice of a live trial: what is passed for it is told by its own reason.
func (e *Engine) SetAside(on bool) { e.aside.Store(on) }

// WaitsForEarlier has nothing be answered from memory, or cached, for as long as a write is waited for whose outcome never
// arrives: an earlier process has ended while clients were busy, and what it had sent for them may still be running, of which
// nobody will tell.
func (e *Engine) WaitsForEarlier(now time.Time) {
	until := now.Add(e.opts.Settle)
	e.earlier.Store(&until)
}

// Earlier is until when it waits for that, or the zero time.
func (e *Engine) Earlier() time.Time {
	if until := e.earlier.Load(); until != nil {
		return *until
	}
	return time.Time{}
}

// WaitsForPredecessor has nothing be answered from memory, or cached, until PredecessorHasGone: another process still serves
// clients, and nobody tells this one of what they write.
func (e *Engine) WaitsForPredecessor() { e.predecessor.Store(true) }

// PredecessorHasGone ends that. If it has left something behind that may still be running, that is waited for as well.
func (e *Engine) PredecessorHasGone(settled bool, now time.Time) {
	if !settled {
		e.WaitsForEarlier(now)
	}
	e.predecessor.Store(false)
}

// Predecessor says whether it is waited for.
func (e *Engine) Predecessor() bool { return e.predecessor.Load() }

// waits gives the reason, or None, why nothing is answered from memory, or cached, for what another process does.
func (e *Engine) waits() reason.Code {
	switch {
	case e.predecessor.Load():
		return reason.Predecessor
	case e.earlier.Load() != nil:
		return reason.EarlierLarder
	}
	return reason.None
}

// Retires has nothing be answered from memory, or cached, any more: a successor serves the clients that connect from now on,
// and nobody tells this process of what they write. What is cached is dropped.
func (e *Engine) Retires() {
	e.retired.Store(true)
	for _, entry := range e.cached(func(*store.Entry) bool { return true }) {
		e.store.Remove(entry)
	}
}

// Settled says whether everything that was sent to the origins for clients who are gone has come to its end, as far as is
// known.
func (e *Engine) Settled() bool {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.waits() == reason.None && len(e.unsettled) == 0
}

// off says whether nothing is answered from memory at this moment.
func (e *Engine) off() bool { return e.switchedOff.Load() || e.aside.Load() || e.retired.Load() }

// Cached gives how many results are kept, the bytes they take, and the bytes they may take.
func (e *Engine) Cached() (results int, bytes, limit int64) {
	return e.store.Len(), e.store.Bytes(), e.store.Limit()
}

// Limit is how many bytes may be kept.
func (e *Engine) Limit() int64 { return e.store.Limit() }

// RoomFor gives how many bytes there are for results within a limit of so many bytes kept.
func (e *Engine) RoomFor(limit int64) int64 { return e.store.ForResults(limit) }

// SetLimit has at most so many bytes kept from now on.
func (e *Engine) SetLimit(bytes int64) { e.store.SetLimit(bytes) }

// Beside gives how many bytes of what is kept are no results, but what is needed to tell what a write changes.
func (e *Engine) Beside() int64 { return e.store.BesideBytes() }

// Shares gives what each rule with a share of the memory of its own keeps, and may keep.
func (e *Engine) Shares() map[string]store.Share { return e.store.Shares() }

// Largest is the largest reply in bytes that is kept.
func (e *Engine) Largest() int { return e.opts.Largest }

// Sessions is how many clients are connected.
func (e *Engine) Sessions() int {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return len(e.sessions)
}

// Tick does what is to be done from time to time: reclaiming what writes dropped, settling writes that were lost,
// closing the ledger's slots. It is to be called some ten times a second.
func (e *Engine) Tick(now time.Time) {
	e.store.Tick(now)
	if until := e.earlier.Load(); until != nil && !now.Before(*until) {
		e.earlier.Store(nil)
	}
	e.dateServers(now)
	for _, o := range e.opts.Observers {
		o.Tick(now)
	}
	e.reclaim(now)
	e.settle(now)
	e.Ledger.Tick(now)
	e.Inputs.Tick(now)
	e.keepers.rotate(now)
	e.mergeRare(now)
	e.countClocks(now)
}

// countClocks leaves room in memory for the counters of the clocks.
func (e *Engine) countClocks(now time.Time) {
	if now.Sub(e.clocksCounted) < time.Second {
		return
	}
	e.clocksCounted = now
	var n int64
	e.mu.RLock()
	for _, db := range e.databases {
		n += db.clocks.Bytes()
	}
	e.mu.RUnlock()
	e.store.Beside(n)
}
