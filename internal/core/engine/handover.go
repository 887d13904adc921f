package engine

import (
	"sync"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// handovers are the transactions of a database that were prepared for a second phase, by name: what they wrote counts
// when somebody commits the name, from whichever session.
type handovers struct {
	mu sync.Mutex
	by map[string]*handover
}

// handover is what was prepared under one name.
type handover struct {
	change   freshness.Change
	schemaAt uint64 // what the schema's clock showed when the first of that was sent
	times    int    // how often the name was used
}

// mostHandovers bounds the names that are remembered. One that is not may have written anything.
const mostHandovers = 1000

// longestHandover is the length in bytes of the longest name that is remembered, as it is written: the server takes no
// longer ones.
const longestHandover = 1 << 10

// secondPhase says whether a pattern makes or ends a prepared transaction.
func (p *Pattern) secondPhase() bool {
	switch p.Facts.Kind {
	case analysis.KindPrepareTransaction, analysis.KindCommitPrepared, analysis.KindRollbackPrepared:
		return true
	}
	return false
}

// handedOver gives the name in a statement of the second phase, as it is written.
func (s *Session) handedOver(r *Request) string {
	s.again.Read(r.Exact)
	if l := s.again.Literals; len(l) == 1 {
		return string(r.Exact[l[0].Start:l[0].End])
	}
	return ""
}

// prepared notes what a transaction wrote that is being prepared. If that fails, nobody will commit the name.
func (db *database) prepared(name string, c freshness.Change, schemaAt uint64) {
	h := &db.handovers
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.by == nil {
		h.by = map[string]*handover{}
	}
	x := h.by[name]
	if x == nil {
		if len(h.by) >= mostHandovers || len(name) > longestHandover {
			return
		}
		x = &handover{schemaAt: schemaAt}
		h.by[name] = x
	}
	x.change.AddAll(c) // with what an earlier transaction of the name wrote, which may not be done with
	x.schemaAt = min(x.schemaAt, schemaAt)
	x.times++
}

// committed gives what a name stands for, and how often it was used by then; times is 0 where that is not known.
func (db *database) committed(name string) (c freshness.Change, times int) {
	h := &db.handovers
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.by[name]
	if x == nil {
		return c, 0
	}
	if freshness.Off(freshness.TwoPhase) {
		return c, x.times
	}
	c.AddAll(x.change)
	if db.clocks.Schema.Changes() != x.schemaAt {
		c.Add(db.clocks.Every) // it may have done more than was known when it was sent
	}
	return c, x.times
}

// done forgets a name whose transaction has ended, if it was not used since.
func (db *database) done(name string, times int) {
	h := &db.handovers
	h.mu.Lock()
	defer h.mu.Unlock()
	if x := h.by[name]; x != nil && x.times == times {
		delete(h.by, name)
	}
}
