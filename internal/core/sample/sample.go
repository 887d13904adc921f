// Package sample holds what was fetched for control samples against what would have been answered from memory. An
// answer that is another, with no change in between that explains it, is told as stale: what rests on its tables is
// dropped, and its rule paused.
package sample

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/engine"
)

// Stale is an answer that was kept, and found to be another than the origin's with no change in between that explains
// it.
type Stale struct {
	At       time.Time
	Database string
	Pattern  *engine.Pattern
	Rule     string
	// Tables are those it rests on, all of whose results were dropped.
	Tables []string
	// Age is how old the answer was.
	Age time.Duration
	// Paused is set when its rule was paused for it.
	Paused bool
}

// Samples is what the control samples have found. Make it with New.
type Samples struct {
	engine.Unmoved
	engine *engine.Engine

	mu       sync.Mutex
	suspects []engine.Sampled // of which it is not yet known whether a change explains that they differ
	stale    []Stale
	found    chan Stale

	taken, equal, explained, unordered, old atomic.Uint64
}

// mostRemembered bounds the stale answers, and the suspects, that are remembered.
const mostRemembered = 100

// New makes what compares control samples.
func New() *Samples {
	return &Samples{found: make(chan Stale, mostRemembered)}
}

// Attach says which engine is observed, before it has sessions.
func (s *Samples) Attach(e *engine.Engine) { s.engine = e }

// Sampled holds the rows that were fetched against those that would have been answered.
func (s *Samples) Sampled(x *engine.Sampled) {
	if x.Was == nil {
		return
	}
	s.taken.Add(1)
	if x.Reply == nil || x.Failed || x.SameRows == nil {
		return
	}
	switch {
	case x.SameRows(x.Was.Reply, x.Reply):
		s.equal.Add(1)
	case !x.Was.Stamp.Valid() || !x.Steady:
		s.explained.Add(1) // by a change through the larder
	case x.AnyRows:
		s.unordered.Add(1)
	default:
		s.mu.Lock()
		defer s.mu.Unlock()
		if len(s.suspects) < mostRemembered {
			suspect := *x
			suspect.Reply = nil
			s.suspects = append(s.suspects, suspect)
		}
	}
}

// Tick decides about the suspects: a change around the larder may explain them, if a feed tells of it.
func (s *Samples) Tick(now time.Time) {
	s.mu.Lock()
	list := s.suspects
	s.suspects = nil
	s.mu.Unlock()
	for i := range list {
		switch x := &list[i]; {
		case !x.Was.Stamp.Valid():
			s.explained.Add(1)
		case !x.Told(now):
			s.mu.Lock()
			s.suspects = append(s.suspects, *x)
			s.mu.Unlock()
		default:
			s.caught(x)
		}
	}
}

// caught deals with an old answer: what rests on its tables is dropped, and its rule paused.
func (s *Samples) caught(x *engine.Sampled) {
	found := Stale{
		At: x.At, Database: x.Database, Pattern: x.Pattern, Rule: x.Rule.Name, Tables: slices.Clone(x.Tables),
		Age: x.At.Sub(x.Was.Fetched), Paused: !x.Rule.GoOn,
	}
	for _, t := range found.Tables {
		s.engine.DropTable(t)
	}
	if found.Paused {
		s.engine.Suspend(x.Rule)
	}
	s.mu.Lock()
	s.stale = append(s.stale, found)
	if len(s.stale) > mostRemembered {
		s.stale = slices.Delete(s.stale, 0, 1)
	}
	s.old.Add(1) // now that it is listed and acted upon
	s.mu.Unlock()
	select {
	case s.found <- found:
	default:
	}
}

// Stale gives the last answers that were found to be old, the latest last.
func (s *Samples) Stale() []Stale {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.stale)
}

// Found tells of each answer that is found to be old.
func (s *Samples) Found() <-chan Stale { return s.found }

// Counts are how many control samples were taken of which the rows can be compared, and how many of them had equal
// rows, others that a change explains, others because the statement does not say which rows it wants, and others that
// nothing explains.
type Counts struct{ Taken, Equal, Explained, Unordered, Stale uint64 }

// Counts gives what was found so far.
func (s *Samples) Counts() Counts {
	return Counts{s.taken.Load(), s.equal.Load(), s.explained.Load(), s.unordered.Load(), s.old.Load()}
}
