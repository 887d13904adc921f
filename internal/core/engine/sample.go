package engine

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// StaleCatch is an answer that was kept, and found to be another than the origin's with no change in between that explains it.
type StaleCatch struct {
	At       time.Time
	Database string
	Pattern  *Pattern
	Rule     string
	// Tables are those it rests on, all of whose results were dropped.
	Tables []string
	// Age is how old the answer was.
	Age time.Duration
	// Paused is set when its rule was paused for it.
	Paused bool
}

// samples is what the control samples have found.
type samples struct {
	counts [16]struct { // by the session's lane, so that sessions do not wait for each other
		atomic.Uint64
		_ [56]byte
	}

	mu       sync.Mutex
	suspects []suspect
	caught   []StaleCatch

	Taken, Equal, Explained, Unordered, Stale atomic.Uint64

	suspended []suspension
	paused    atomic.Pointer[map[*rules.Rule]bool] // those of the rules in force that are suspended
	found     chan StaleCatch
}

// suspect is an answer that was another than the origin's, for which it is not yet known whether a change explains that.
type suspect struct {
	db    *database
	d     Decision
	entry *store.Entry
	at    time.Time
}

// mostCaught bounds the stale catches, and the suspects, that are remembered.
const mostCaught = 100

// sampled says whether a would-be hit is one that the origin is asked for all the same.
func (s *Session) sampled(rule *rules.Rule) bool {
	share := rule.Sample()
	if share <= 0 || s.Own {
		return false
	}
	n := float64(s.e.samples.counts[int(s.lane)%len(s.e.samples.counts)].Add(1))
	return math.Floor(n*share) != math.Floor((n-1)*share)
}

// timed counts how long the origin took for a control sample.
func (s *Session) timed(d *Decision, took time.Duration) {
	s.e.numbers(d.Pattern).Sample(took)
	s.app.Sample(took)
	s.e.Ledger.Rule(d.rule.Name).Sample(took)
}

// compare holds the rows that were fetched for a control sample against those that would have been answered.
func (s *Session) compare(d *Decision, r *Result, now time.Time) {
	x := &s.e.samples
	x.Taken.Add(1)
	if r.Reply == nil || r.Failed || s.e.opts.SameRows == nil {
		return
	}
	switch same := s.e.opts.SameRows(d.sample.Reply, r.Reply); {
	case same:
		x.Equal.Add(1)
	case !d.sample.Stamp.Valid() || !d.stamp.Storable():
		x.Explained.Add(1) // by a change through the larder
	case d.resolved.AnyRows:
		x.Unordered.Add(1)
	default:
		x.mu.Lock()
		if len(x.suspects) < mostCaught {
			x.suspects = append(x.suspects, suspect{s.db, *d, d.sample, now})
		}
		x.mu.Unlock()
	}
}

// judge decides about the suspects: a change around the larder may explain them, if a feed tells of it.
func (e *Engine) judge(now time.Time) {
	x := &e.samples
	x.mu.Lock()
	list := x.suspects
	x.suspects = nil
	x.mu.Unlock()
	for _, c := range list {
		switch {
		case !c.entry.Stamp.Valid():
			x.Explained.Add(1)
		case !c.db.feed.passed(c.d.resolved.Reads, c.at, now):
			x.mu.Lock()
			x.suspects = append(x.suspects, c)
			x.mu.Unlock()
		default:
			e.caught(c)
		}
	}
}

// caught deals with an old answer: what rests on its tables is dropped, and its rule paused.
func (e *Engine) caught(c suspect) {
	x := &e.samples
	x.Stale.Add(1)
	caught := StaleCatch{
		At: c.at, Database: c.db.name, Pattern: c.d.Pattern, Rule: c.d.rule.Name, Tables: slices.Clone(c.d.resolved.Reads),
		Age: c.at.Sub(c.entry.Fetched), Paused: !c.d.rule.GoOn,
	}
	for _, t := range caught.Tables {
		e.DropTable(t)
	}
	x.mu.Lock()
	if caught.Paused {
		x.suspended = append(x.suspended, suspension{rule: *c.d.rule})
		x.apply(e.Rules(), c.d.rule)
	}
	x.caught = append(x.caught, caught)
	if len(x.caught) > mostCaught {
		x.caught = slices.Delete(x.caught, 0, 1)
	}
	x.mu.Unlock()
	select {
	case x.found <- caught:
	default:
	}
}

// suspension is a rule that was paused by a stale catch. It stays so, whatever else changes, until it was paused in the rules
// themselves and is not any more: then somebody has looked at it.
type suspension struct {
	rule  rules.Rule
	filed bool // the rules have said that it is paused
}

// apply works out which rules of a set are suspended. It is called with mu held.
func (x *samples) apply(set *rules.Set, more ...*rules.Rule) {
	paused := map[*rules.Rule]bool{}
	for _, r := range more {
		paused[r] = true
	}
	left := x.suspended[:0]
	for _, s := range x.suspended {
		lifted := false
		for i := range set.List() {
			r := &set.List()[i]
			if !r.SameAs(&s.rule) {
				continue
			}
			lifted = s.filed && !r.Paused
			s.filed = s.filed || r.Paused
			paused[r] = !lifted
		}
		if !lifted {
			left = append(left, s)
		}
	}
	x.suspended = left
	x.paused.Store(&paused)
}

// resume has the suspensions hold for another set of rules.
func (x *samples) resume(set *rules.Set) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.apply(set)
}

// suspended says whether a rule was paused by a stale catch.
func (e *Engine) suspended(r *rules.Rule) bool {
	p := e.samples.paused.Load()
	return p != nil && (*p)[r]
}

// StaleCatches gives the last ones, the latest last; Caught tells of each as it is found.
func (e *Engine) StaleCatches() []StaleCatch {
	e.samples.mu.Lock()
	defer e.samples.mu.Unlock()
	return slices.Clone(e.samples.caught)
}

// Caught is described at StaleCatches.
func (e *Engine) Caught() <-chan StaleCatch { return e.samples.found }

// Sampled says how many control samples were taken, and how many of them had equal rows, others that a change explains, others because
// the statement does not say which rows it wants, and others that nothing explains.
func (e *Engine) Sampled() (taken, equal, explained, unordered, stale uint64) {
	x := &e.samples
	return x.Taken.Load(), x.Equal.Load(), x.Explained.Load(), x.Unordered.Load(), x.Stale.Load()
}
