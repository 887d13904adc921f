package engine

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// originServer is the database server that answers at an origin's address. Another may do so from one moment to the
// next: a standby that was promoted, or the same after a crash. It may lack what the one before had committed, so that
// nothing that was kept can be trusted any more.
type originServer struct {
	epoch atomic.Uint64 // counts the servers that have answered

	mu       sync.Mutex
	identity string
	changes  []ServerChange
}

// ServerChange says that another server than before was found to answer for an origin, or that its connections were
// lost without a word. Everything that was kept of it was dropped.
type ServerChange struct {
	Origin string
	// At is when that was found, to a tenth of a second; zero in the first moment after it.
	At time.Time
	// Lost is set where a connection ended without a word, as they do when a server crashes.
	Lost bool
	// Before and After are what the servers said of themselves.
	Before, After string
}

// mostServerChanges bounds those that are remembered, for each origin.
const mostServerChanges = 20

func (e *Engine) originServer(origin string) *originServer {
	if s, ok := e.servers.Load(origin); ok {
		return s.(*originServer)
	}
	s, _ := e.servers.LoadOrStore(origin, &originServer{})
	return s.(*originServer)
}

// SeenServer takes what the server said of itself over a new connection to an origin: a text that no other server has,
// nor the same one after a restart. If it is another than before, everything that was kept is dropped before it
// returns.
func (e *Engine) SeenServer(origin, identity string) (epoch uint64) {
	o := e.originServer(origin)
	o.mu.Lock()
	defer o.mu.Unlock()
	// Not everybody may ask for all of it.
	if identity == "" || identity == o.identity || strings.HasSuffix(o.identity, " "+identity) {
		return o.epoch.Load()
	}
	before := o.identity
	o.identity = identity
	epoch = o.epoch.Add(1) // sessions with the one before pass from here on
	if before != "" {
		o.note(ServerChange{Origin: origin, Before: before, After: identity})
		e.distrust(origin)
		e.settleAll(origin)
	}
	return epoch
}

// LostServer notes that a connection to an origin ended without a word, as they do when a server crashes. What its last
// transactions wrote may be gone then, where it does not wait for its disk.
func (e *Engine) LostServer(origin string) {
	o := e.originServer(origin)
	o.mu.Lock()
	defer o.mu.Unlock()
	if n := len(o.changes); n > 0 && o.changes[n-1].Lost && o.changes[n-1].At.IsZero() {
		o.changes = o.changes[:n-1] // all of a server's connections end at the same time
	}
	o.note(ServerChange{Origin: origin, Lost: true, Before: o.identity})
	e.distrust(origin)
}

// note is called with the lock held.
func (o *originServer) note(c ServerChange) {
	if len(o.changes) >= mostServerChanges {
		o.changes = slices.Delete(o.changes, 0, 1)
	}
	o.changes = append(o.changes, c)
}

// distrust drops everything that was kept of an origin, and its catalogs.
func (e *Engine) distrust(origin string) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, db := range e.databases {
		if db.origin == origin {
			move(db.clocks.Every, db.clocks.Shape, db.clocks.Schema, db.clocks.Grants)
			db.forgets()
		}
	}
}

// settleAll ends the waiting for writes whose outcome never arrived: the server that they were sent to answers no more,
// so that none of them can still come true where anybody reads.
func (e *Engine) settleAll(origin string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.unsettled = slices.DeleteFunc(e.unsettled, func(u unsettled) bool {
		if u.db.origin != origin {
			return false
		}
		u.pending.End()
		return true
	})
}

// Servers gives the changes of servers that are remembered, the latest last for each origin, and what the present ones
// say of themselves.
func (e *Engine) Servers() (changes []ServerChange, now map[string]string) {
	now = map[string]string{}
	e.servers.Range(func(origin, x any) bool {
		o := x.(*originServer)
		o.mu.Lock()
		defer o.mu.Unlock()
		changes = append(changes, o.changes...)
		now[origin.(string)] = o.identity
		return true
	})
	return changes, now
}

// dateServers puts down when changes were found.
func (e *Engine) dateServers(now time.Time) {
	e.servers.Range(func(_, x any) bool {
		o := x.(*originServer)
		o.mu.Lock()
		defer o.mu.Unlock()
		for i := range o.changes {
			if o.changes[i].At.IsZero() {
				o.changes[i].At = now
			}
		}
		return true
	})
}

// meets takes what the session's server said of itself.
func (s *Session) meets(identity string) {
	if identity != s.serverSaid || s.epoch == 0 {
		s.serverSaid, s.epoch = identity, s.e.SeenServer(s.Origin, identity)
	}
}

// elsewhere says whether another server answers for the origin by now than the one that this session is connected to.
func (s *Session) elsewhere() bool { return s.epoch != s.server.epoch.Load() }
