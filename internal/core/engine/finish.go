package engine

import (
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// Result is how a statement ended.
type Result struct {
	Took   time.Duration
	Rows   int
	Bytes  int
	Failed bool
	// Here is set for the beginning or end of a block that the larder answered itself.
	Here bool
	// Fetch is the part of Took that the origin needed.
	Fetch time.Duration
	// Sum is a hash of the rows and their description, where Compare asked for it; 0 if there is none.
	Sum uint64
	// Reply is the whole reply for a miss that may be kept, or nil. It is the engine's from then on.
	Reply []byte
}

// finish follows the end of one statement: observers are told, and a miss is kept if that is still right.
func (t *ticket) finish(r Result, now time.Time) {
	s, d := t.s, &t.Decision
	if d.Own {
		return
	}
	if r.Here {
		d.Reason = reason.Of(reason.AnsweredHere)
	}
	rec := &t.ended.Record
	*rec = ledger.Record{
		Outcome:   d.Outcome,
		Reason:    d.Reason,
		Took:      r.Took,
		Cacheable: d.Cacheable,
		Failed:    r.Failed,
		Here:      r.Here,
		Rows:      r.Rows,
		Bytes:     r.Bytes,
		Caller:    s.who,
		Lane:      s.lane,
		Ruled:     d.ruled,
		LeftOut:   d.Reason.Code == reason.SessionLeftOut || d.Reason.Code == reason.StatementLeftOut,
	}
	var age time.Duration
	switch d.Outcome {
	case ledger.Hit:
		rec.Saved = d.Entry.Took - r.Took
		rec.Followed = d.Waited
		rec.Rows = d.Entry.Rows
		if !s.Own {
			d.Entry.Uses.Add(1)
		}
		age = now.Sub(d.Entry.Fetched)
		s.follow(d, now)
	case ledger.Miss:
		rec.Own = max(r.Took-r.Fetch, 0)
		if d.sampled {
			s.sampled(d, &r, now)
		}
		if r.Rows > 0 && d.Pattern.Facts.RowsAreFound || freshness.Off(freshness.UniqueFound) {
			d.stamp.Found()
		}
		if r.Reply == nil && !r.Failed && r.Bytes > s.e.largest(d.rule) { // it was not even gathered
			s.e.tooLarge(d, int64(r.Bytes))
		}
		if r.Reply != nil && !r.Failed && s.e.fits(d, r.Reply) && !(r.Rows == 0 && d.rule.SkipEmpty) &&
			d.stamp.Storable() {
			s.e.keep(d.key, &store.Entry{
				Reply: r.Reply, Stamp: d.stamp, Dependencies: d.dependencies(), Pattern: d.Pattern.ID, Numbers: d.Pattern.Numbers, Rule: d.rule, Moment: d.moment,
				Rows: r.Rows, Fetched: now.Add(-r.Fetch), Took: r.Fetch,
			})
		}
	}
	if w := d.write; w != nil && w.name != "" && !r.Failed && d.Pattern.Facts.Kind != analysis.KindPrepareTransaction {
		s.db.done(w.name, w.times)
	}
	if d.Compare && r.Sum != 0 && !r.Failed && d.Outcome != ledger.Hit {
		s.e.inputs(d.Pattern).Compare(d.input, r.Sum, d.changes, s.db.feed.follows(d.resolved.Reads, now), now)
	}
	s.last = Report{d.Pattern.ID, d.Outcome, d.Reason, r.Took, age, rec.Saved}
	x := &t.ended // filled in place, as it is long
	x.At, x.Session, x.Pattern, x.Rule, x.Age = now, s, d.Pattern, d.rule, age
	x.Numbers, x.Application, x.OfRule = s.e.numbers(d.Pattern), s.app, s.tallyOf(d.rule)
	x.Comment, x.Exact, x.Types, x.Bound = d.comment, d.exact, d.types, d.bound
	for _, o := range s.e.opts.Observers {
		o.Ended(x)
	}
}

// tallyOf gives where statements of a rule are counted, or nil if there is none. Most of a session's statements are of
// one rule, whose tally it remembers.
func (s *Session) tallyOf(r *rules.Rule) *ledger.Tally {
	if r == nil {
		return nil
	}
	if s.ofRule.rule != r {
		s.ofRule.rule, s.ofRule.tally = r, s.e.Ledger.Rule(r.Name)
	}
	return s.ofRule.tally
}

// sampled tells of a control sample.
func (s *Session) sampled(d *Decision, r *Result, now time.Time) {
	x := &Sampled{
		At:          now,
		Database:    s.databaseName(),
		SameRows:    s.db.dialect.SameRows,
		Pattern:     d.Pattern,
		Rule:        d.rule,
		Numbers:     s.e.numbers(d.Pattern),
		Application: s.app,
		Took:        r.Fetch,
		Failed:      r.Failed,
		Was:         d.sample,
		Reply:       r.Reply,
		Steady:      d.stamp.Storable(),
		AnyRows:     d.resolved.AnyRows,
		Tables:      d.resolved.Reads,
		db:          s.db,
	}
	for _, o := range s.e.opts.Observers {
		o.Sampled(x)
	}
}

// fits says whether a reply is not too large to be kept, and counts it if it is.
func (e *Engine) fits(d *Decision, reply []byte) bool {
	if len(reply) <= e.largest(d.rule) && e.store.Fits(d.rule, len(d.key)+len(reply)) {
		return true
	}
	e.tooLarge(d, int64(len(reply)))
	return false
}

// tooLarge counts a result that was not kept for its size in bytes, or for so many of them.
func (e *Engine) tooLarge(d *Decision, size int64) {
	m := &d.Pattern.Numbers.Cached
	m.TooLarge.Add(1)
	for have := m.Largest.Load(); size > have && !m.Largest.CompareAndSwap(have, size); {
		have = m.Largest.Load()
	}
}

// largest is the largest reply in bytes that is kept by a rule.
func (e *Engine) largest(r *rules.Rule) int {
	if r.SizeLimit > 0 {
		return min(r.SizeLimit, e.opts.Largest)
	}
	return e.opts.Largest
}

// Close ends the session. What was sent and has not come to its end is taken to be under way until it has settled.
func (s *Session) Close(now time.Time) {
	if !s.needed {
		if h := s.db.habit(s.asker(), false); h != nil {
			h.note(false)
		}
	}
	lost := s.lost()
	s.leavesDefinitions() // what was not committed will not be
	if s.askedSchema {    // somebody else may ask at once
		s.db.mu.Lock()
		s.db.asking = false
		s.db.mu.Unlock()
	}
	leaves := s.mayLeave()
	s.e.mu.Lock()
	defer s.e.mu.Unlock()
	delete(s.e.sessions, s)
	if leaves {
		var gone freshness.Change
		gone.Add(s.db.clocks.System)
		s.e.unsettled = append(s.e.unsettled, unsettled{s.db, gone.Begin(), now.Add(min(s.e.opts.Settle, leavesTime))})
	}
	for _, p := range lost {
		if freshness.Off(freshness.LostConnections) {
			p.End()
		}
		if !p.Empty() {
			s.e.unsettled = append(s.e.unsettled, unsettled{s.db, p, now.Add(s.e.opts.Settle)})
		}
	}
}

// leavesTime is how long a server may take after a connection has ended to take what was temporary out of its catalogs.
const leavesTime = 10 * time.Second

// Running gives the statements that are under way.
func (e *Engine) Running() []Running {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var out []Running
	for s := range e.sessions {
		s.running.Lock()
		if r := &s.running; r.pattern != nil {
			out = append(out, Running{s.Identity, r.pattern, r.outcome, r.reason, r.since})
		}
		s.running.Unlock()
	}
	return out
}
