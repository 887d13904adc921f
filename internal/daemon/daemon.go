// Package daemon puts one larder together: engine, wire, rules file, control API, and the clock that drives them.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/feed"
	"jollylarder/internal/lock"
	"jollylarder/internal/protocol"
	"jollylarder/internal/state"
	"jollylarder/internal/succession"
	"jollylarder/internal/wire/link"
)

// Version is this program's.
const Version = "0.1.0"

// Options are what is not in a configuration.
type Options struct {
	// Note is shown to whoever attaches.
	Note string
	// Log receives what happens and what goes wrong; nil means slog.Default.
	Log *slog.Logger
	// Sockets are listening sockets that are open already: they are used for the origins that listen at their addresses.
	Sockets []net.Listener
	// TakeOver has the larder that runs with the same directory for state, if one does, hand its clients' sockets over.
	TakeOver bool
	// Before is a larder of the same process from which another process has not taken over after all: this one goes on with
	// its sockets, while that one serves its last clients.
	Before *Larder
	// BeforeHandover, if any, is called when the larder hands over, before the other one goes on.
	BeforeHandover func()
	// Successor, if any, checks the program as it is installed now, and starts it so that it takes over.
	Successor func() (*exec.Cmd, error)
}

// Larder is one that runs.
type Larder struct {
	opts      Options
	log       *slog.Logger
	engine    *larder.Larder
	origins   []*origin
	book      *ruleBook
	api       *controlserver.Server
	state     *state.Store
	rollups   rollups
	collector collector
	held      []func()         // release its locks
	offered   succession.Offer // what it takes over, and then what it has not been able to hand over
	fetch     []fetching
	feeds     []following

	mu  sync.Mutex // of cfg
	cfg config.Config

	metricsAddress string // of the metrics, if they are exposed
	controlAddress string // of the control API over TCP, if it is open

	mark     string                    // the file that says that it runs; empty if there is none
	beat     atomic.Pointer[time.Time] // when what is done from time to time was done last
	stopping atomic.Bool
	drained  bool // Drain has returned

	handedOver chan HandedOver // of which there is one at most
	leaving    *leaving        // since it has handed over, or nil
	silent     atomic.Bool     // the service manager hears no more of it
	succeeding sync.Mutex
	successor  *atomic.Pointer[control.Successor]

	accepting sync.WaitGroup // clients: whom one of it has accepted counts as connected when it has ended

	handing sync.Mutex     // held while it ends what only one larder may do at a time
	retired chan struct{}  // closed then, and at the end
	alone   sync.WaitGroup // what only one larder may do at a time
	ended   chan struct{}
	wg      sync.WaitGroup
	close   []func() // of what accepts connections
	atEnd   []func() // of what is asked to the end
	once    sync.Once
	closing sync.Once
}

// origin is one database server with its listeners.
type origin struct {
	protocol  *protocol.Protocol
	server    link.Server
	listeners []listening
}

// listening is a socket that clients connect to. It is owned if a larder has opened it, and no service manager.
type listening struct {
	net.Listener
	owned bool
}

// fetching is what fetches ahead for an origin, and following what follows one of its databases.
type (
	fetching struct {
		origin string
		*link.Fetcher
	}
	following struct {
		origin, database string
		feed.Follower
	}
)

// Check says what is wrong with a configuration, its rules and certificates, without opening anything.
func Check(cfg config.Config) error {
	_, err := settings(cfg)
	_, _, err2 := readRules(cfg.Rules)
	_, _, err3 := controlTCP(cfg)
	return errors.Join(err, err2, err3)
}

// Start makes a larder and begins to serve. What is wrong with the configuration is said before anything is opened.
func Start(cfg config.Config, opts Options) (_ *Larder, err error) {
	l := &Larder{opts: opts, cfg: cfg, log: opts.Log, ended: make(chan struct{}), retired: make(chan struct{}), handedOver: make(chan HandedOver, 1)}
	l.successor = &atomic.Pointer[control.Successor]{}
	if b := opts.Before; b != nil {
		l.offered, l.successor = b.offered, b.successor
	}
	if l.log == nil {
		l.log = slog.Default()
	}
	sets, err := settings(cfg)
	if err != nil {
		return nil, err
	}
	text, set, err := readRules(cfg.Rules)
	if err != nil {
		return nil, fmt.Errorf("nothing was started: %w", err)
	}
	e, err := larder.New(engine.Options{
		Dialects: dialects(sets), Memory: cfg.Memory, Overhead: cfg.Overhead, Largest: int(cfg.MaxResultSize),
		Misuse: func(what string) { l.log.Error("a fault in the larder, without an effect", "fault", what) },
	}, time.Now())
	if err != nil {
		return nil, err
	}
	l.engine = e
	defer func() {
		if err != nil {
			if l.state == nil {
				e.Close()
			}
			l.releaseLocks()
		}
	}()
	before, err := l.takesOver()
	if err != nil {
		return nil, err
	}
	defer func() { l.offered.CloseSockets() }() // for which there is no address any more
	if before != nil {
		defer before.Close()
	}
	if err := l.locksInTime(cfg); err != nil {
		return nil, err
	}
	l.state = state.Open(cfg.State, time.Now())
	for _, p := range []string{l.state.Notice(), l.state.Problem()} {
		if p != "" {
			l.log.Warn(p)
		}
	}
	l.book = &ruleBook{engine: e, state: l.state, chooser: choices.New(l.state.Chosen()...)}
	l.book.begin(cfg.Rules, text, set, "start")
	l.rollups.l = l
	l.api = controlserver.New(l)
	defer func() {
		if err != nil {
			l.end()
		}
	}()
	if err := l.listen(sets); err != nil {
		return nil, err
	}
	if cfg.Control != "" {
		cl, err := controlserver.Listen(cfg.Control)
		if err != nil {
			return nil, err
		}
		l.close = append(l.close, func() { cl.Close() })
		l.wg.Go(func() { l.complain(l.api.Serve(cl)) })
	}
	if err := l.serveControlTCP(cfg); err != nil {
		return nil, err
	}
	if err := l.serveMetrics(cfg.Metrics); err != nil {
		return nil, err
	}
	if before != nil {
		if err := before.Confirm(); err != nil {
			return nil, err
		}
	}
	l.ownsSockets()
	l.waitsForEarlier(before != nil || opts.Before != nil, time.Now())
	l.waitsForPredecessors()
	l.serve(sets)
	l.followChanges()
	l.warmUp()
	l.begin()
	l.alone.Go(l.watchRules)
	l.alone.Go(l.watchSamples)
	l.offersHandover()
	return l, nil
}

// listen opens what clients connect to.
func (l *Larder) listen(sets []originSettings) (err error) {
	open := inherited(slices.Clone(l.opts.Sockets))
	for i, o := range l.cfg.Origins {
		x := &origin{protocol: sets[i].protocol}
		x.server = x.protocol.New(link.Options{Engine: l.engine.Engine, Name: o.Name, Origin: o.Address, Log: l.log})
		x.server.Configure(sets[i].Settings)
		for _, address := range o.Listen {
			ln := listening{Listener: open.take(address)}
			if ln.Listener == nil {
				handed := l.takeOffered(address)
				ln = listening{handed.Listener, handed.Owned}
			}
			if ln.Listener == nil {
				ln.owned = true
				if ln.Listener, err = listen(address); err != nil {
					return fmt.Errorf("listening for clients: %w: choose another address with --listen, or listen in the configuration", err)
				}
			}
			x.listeners = append(x.listeners, ln)
			l.close = append(l.close, func() { ln.Close() })
		}
		l.origins = append(l.origins, x)
	}
	return open.rest()
}

// serve begins to serve clients, and to fetch ahead where the configuration says so.
func (l *Larder) serve(sets []originSettings) {
	for i, o := range l.origins {
		for _, ln := range o.listeners {
			l.accepting.Go(func() { l.complain(o.server.Serve(ln)) })
		}
		if a := sets[i].Fetch; a != nil {
			f := o.protocol.Fetch(o.server, *a)
			l.fetch = append(l.fetch, fetching{l.cfg.Origins[i].Name, f})
			ctx, stop := context.WithCancel(context.Background())
			l.close = append(l.close, stop)
			l.wg.Go(func() { f.Run(ctx) })
		}
	}
}

func (l *Larder) complain(err error) {
	if err != nil {
		l.log.Error("a part of the larder ended", "error", err)
	}
}

func (l *Larder) stopAccepting() {
	l.stopping.Store(true)
	for _, f := range l.close {
		f()
	}
}

// Drain accepts no more clients and lets those that are busy finish, for as long as the configuration says or until
// the context ends. It is to be followed by Close.
func (l *Larder) Drain(ctx context.Context) {
	l.once.Do(l.stopAccepting)
	l.mu.Lock()
	bound := l.cfg.DrainTimeout
	l.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, bound)
	defer cancel()
	l.drain(ctx)
	l.drained = true
}

func (l *Larder) drain(ctx context.Context) {
	var wg sync.WaitGroup
	for _, o := range l.origins {
		wg.Go(func() { o.server.Drain(ctx) })
	}
	wg.Wait()
}

// Close ends all connections and everything else. Nothing that the larder has begun runs any more when it returns.
func (l *Larder) Close() {
	l.closing.Do(func() {
		l.end()
		l.releaseLocks()
		if l.leaving != nil {
			l.leaving.release()
		}
	})
}

// end ends whatever has begun.
func (l *Larder) end() {
	l.once.Do(l.stopAccepting)
	l.accepting.Wait()
	l.handing.Lock() // it may be handing over at this moment
	l.leavesNothing()
	l.handing.Unlock()
	var servers sync.WaitGroup // each may take some seconds
	for _, o := range l.origins {
		servers.Go(o.server.Close)
	}
	servers.Wait()
	l.api.Close()
	for _, f := range l.atEnd {
		f()
	}
	close(l.ended)
	l.endsAlone()
	l.wg.Wait()
	l.rememberInputs()
	l.state.Close()
	l.engine.Close()
}

// locks keeps other larders from the directory for state and from the rules file. Where no lock can be made, nothing
// can be written either.
func (l *Larder) locks(cfg config.Config) error {
	if cfg.State != "" {
		_ = os.MkdirAll(cfg.State, 0o700)
		if err := l.lock(filepath.Join(cfg.State, "lock")); err != nil {
			return fmt.Errorf("the directory for state %s cannot be used: %w: give each larder its own, with --state or state in the configuration, or take over from it with jollylarder hand-over", cfg.State, err)
		}
		if info, err := os.Stat(cfg.State); err == nil && info.Mode().Perm()&0o022 != 0 {
			l.log.Warn("other users of this system may write to the state directory: run chmod 700 on it", "directory", cfg.State)
		}
	}
	if cfg.Rules != "" {
		if err := l.lock(cfg.Rules + ".lock"); err != nil {
			return fmt.Errorf("the rules file %s cannot be used: %w: give each larder its own, with --rules or rules in the configuration", cfg.Rules, err)
		}
	}
	return nil
}

func (l *Larder) lock(path string) error {
	release, err := lock.File(path)
	var held *lock.HeldError
	switch {
	case errors.As(err, &held):
		return err
	case err == nil:
		l.held = append(l.held, release)
	}
	return nil
}

func (l *Larder) releaseLocks() {
	for _, f := range l.held {
		f()
	}
	l.held = nil
}

// Address is where clients connect to: the first address of the first origin.
func (l *Larder) Address() string { return l.origins[0].listeners[0].Addr().String() }

// Engine implements controlserver.Larder.
func (l *Larder) Engine() *larder.Larder { return l.engine }

// Book implements controlserver.Larder.
func (l *Larder) Book() controlserver.Book { return l.book }

// ShowsValues implements controlserver.Larder.
func (l *Larder) ShowsValues() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.ShowValues
}

// Render implements controlserver.Larder.
func (l *Larder) Render(origin string, types, bound []byte, event *control.Event) {
	if event.Statement == "" && len(bound) == 0 {
		return // nobody asked for values
	}
	for i := range l.cfg.Origins { // which do not change
		if l.cfg.Origins[i].Name != origin {
			continue
		}
		p := l.origins[i].protocol
		event.Protocol = p.Name
		if len(bound) > 0 {
			r := p.Render(types, bound)
			event.Values, event.Parameters, event.Types = r.Values, r.Parameters, r.Types
		}
	}
}

// Describe implements controlserver.Larder.
func (l *Larder) Describe(s *control.Status) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s.ShowsValues, s.StoresValues = l.cfg.ShowValues, l.cfg.StoreValues
	for _, f := range l.fetch {
		done, failed, why := f.Counts()
		s.Fetching = append(s.Fetching, control.Fetch{Origin: f.origin, Done: done, Failed: failed, Why: why})
	}
	for _, f := range l.feeds {
		x := f.Status()
		out := control.Feed{
			Origin: f.origin, Database: f.database, Mode: string(x.Mode), Problem: x.Problem, LagMS: ms(x.Lag),
			Held: x.Held, Bound: x.Bound, Transactions: x.Transactions, Rows: x.Rows, Gaps: x.Gaps, Polled: x.Polled,
		}
		if !x.At.IsZero() {
			out.At = &x.At
		}
		s.Feeds = append(s.Feeds, out)
	}
	if !l.state.Lasting() && l.cfg.State == "" {
		s.Forgetful = true
	}
	s.Process, s.Successor = os.Getpid(), l.successor.Load()
	s.Version, s.Note, s.RulesAt = Version, l.opts.Note, l.cfg.Rules
	var listen, address []string
	for i, o := range l.origins {
		cfg := l.cfg.Origins[i]
		out := control.Origin{Name: cfg.Name, Protocol: o.protocol.Name, Address: cfg.Address, Clients: o.server.Clients(), OnlyWatched: o.protocol.OnlyWatches(cfg.CatalogUser != ""), Unfollowed: o.protocol.Follow == nil}
		for _, ln := range o.listeners {
			out.Listen = append(out.Listen, ln.Addr().String())
		}
		listen, address = append(listen, out.Listen...), append(address, cfg.Address)
		s.Origins = append(s.Origins, out)
		if out.OnlyWatched {
			s.Problems = append(s.Problems, fmt.Sprintf("only watched until [origin.catalog] names an account: statements for %s. %s shows its whole schema to no other", cfg.Address, o.protocol.Title))
		}
	}
	if l.engine.Predecessor() {
		s.Problems = append(s.Problems, "nothing is cached until the larder before has ended: it still serves its last clients, for handover_timeout at most")
	}
	if until := l.engine.Earlier(); !until.IsZero() {
		s.Problems = append(s.Problems, fmt.Sprintf("nothing is cached until %s: the larder that ran before ended while clients were connected, and their statements may still be running", until.Format("15:04:05")))
	}
	s.Listen, s.Origin = strings.Join(listen, ", "), strings.Join(address, ", ")
}

// Clients is how many clients are connected.
func (l *Larder) Clients() int {
	n := 0
	for _, o := range l.origins {
		n += o.server.Clients()
	}
	return n
}
