package engine

import (
	"bytes"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/store"
)

// Statement is one statement's text as the engine read it.
type Statement struct {
	Pattern *Pattern
	// Exact is the normalised text with its literals: what the key is made of.
	Exact []byte
	// MayMeanNow is set when a literal may stand for the current time.
	MayMeanNow bool

	shared bool // Exact is nobody's to change
}

// Clone gives the statement with an Exact that stays valid.
func (st Statement) Clone() Statement {
	if !st.shared {
		st.Exact = bytes.Clone(st.Exact)
	}
	return st
}

// Read reads a statement's text and finds its pattern, parsing it if it is new. Exact is valid until the next Read,
// and must not be changed.
func (s *Session) Read(sql []byte) Statement {
	if s.unreadable != "" {
		return Statement{Pattern: s.e.Unreadable(s.unreadable)}
	}
	known, hash := s.e.texts.get(sql)
	if known != nil {
		return *known
	}
	s.scan.Read(sql)
	p := s.e.patterns.find(s.scan.Pattern)
	if p == nil {
		p = s.e.learn(s.scan.Pattern, sql)
	}
	st := Statement{Pattern: p, Exact: s.scan.Exact, MayMeanNow: s.scan.MayMeanNow}
	s.e.texts.put(sql, hash, st)
	return st
}

// Unreadable gives the pattern of statements that cannot be read, for the reason given; each may do anything. The
// reasons must be few.
func (e *Engine) Unreadable(why string) *Pattern { return e.named(why, analysis.Unreadable) }

// Harmless gives the pattern of what is no SQL and changes nothing, named in words.
func (e *Engine) Harmless(what string) *Pattern {
	return e.named(what, func(what string) *analysis.Facts { return &analysis.Facts{Verb: "other", Reasons: []string{what}} })
}

// named gives a pattern that is not made from a statement's text.
func (e *Engine) named(what string, facts func(string) *analysis.Facts) *Pattern {
	text := []byte("(" + what + ")")
	if p := e.patterns.find(text); p != nil {
		return p
	}
	p := &Pattern{ID: statement.Name(text), Text: string(text), Facts: facts(what), clock: freshness.Clock{Name: patternClock}}
	return e.patterns.add(p, e.Ledger.NewPattern)
}

// Request is one statement to be decided on.
type Request struct {
	Statement
	// Shape tells apart the forms in which the protocol can ask for the same result.
	Shape byte
	// Types and Bound are the parameters' declared types, and their formats, values and the result formats wanted: the
	// protocol's own bytes, which are exact.
	Types, Bound []byte
	// Busy is a reason, or empty, why it cannot be answered at this moment whatever is kept.
	Busy string
	// NoAsking is set when the server cannot be asked before this statement is sent.
	NoAsking bool
}

// Decision is what is to be done with one statement.
type Decision struct {
	Outcome ledger.Outcome
	// Reason says why it passes.
	Reason  string
	Pattern *Pattern
	// Entry is what a hit is answered with.
	Entry *store.Entry
	// Need is what the server must be asked first; when it is not zero the decision is to be asked for again.
	Need Need
	// Keepable is set when a rule could keep its result.
	Keepable bool

	resolved *resolution
	stamp    freshness.Stamp
	key      []byte
}

// Reasons to pass that do not come from the statement itself.
const (
	whyNoRule      = "no rule keeps this pattern"
	whyNever       = "a rule says never"
	whyHeld        = "all keeping is on hold"
	whyFailed      = "its transaction has failed"
	whySnapshot    = "in a transaction that must see its own moment"
	whyIsolation   = "in a transaction whose isolation is not known"
	whyOwnWrite    = "reads what its own transaction has written"
	whyNow         = "a value in it may mean the current time"
	whySettings    = "the session's settings are not known at this moment"
	whyTemporary   = "its session has temporary tables"
	whySerializing = "transactions of this session see their own moment by default"
)

// Decide says what to do with a statement. It changes nothing: Send is to be called when it is sent on.
func (s *Session) Decide(r *Request, now time.Time) Decision {
	p := r.Pattern
	res := p.in(s.db)
	d := Decision{Outcome: ledger.Pass, Pattern: p, resolved: res}
	if !res.change.Empty() && (len(res.Writes) > 0 || p.Facts.Effect&(analysis.Schema|analysis.Unknown) != 0) {
		d.Outcome = ledger.Write
		return d
	}
	rule := p.Rule()
	keep := rule != nil && rule.Verdict == rules.Keep && !s.e.held.Load()
	if res.schema == nil && keep && !r.NoAsking && s.state == Idle && p.Facts.Plain() {
		if n := s.Wants(now); n&NeedCatalog != 0 {
			d.Need = n
			return d
		}
	}
	if len(res.Reasons) > 0 {
		d.Reason = res.Reasons[0]
		return d
	}
	d.Keepable = true
	switch {
	case s.e.held.Load():
		d.Reason = whyHeld
	case rule == nil:
		d.Reason = whyNoRule
	case rule.Verdict == rules.Never:
		d.Reason = whyNever
	case r.Busy != "":
		d.Reason = r.Busy
	case s.state == Failed:
		d.Reason = whyFailed
	case r.MayMeanNow:
		d.Reason = whyNow
	case s.collected.Touches(res.readings):
		d.Reason = whyOwnWrite
	case s.InBlock() && s.isolation == snapshot:
		d.Reason = whySnapshot
	case s.InBlock() && s.isolation != readCommitted, s.ended: // after an end it is not known which block the next is in
		d.Reason = whyIsolation
	case len(s.identity) == 0:
		s.needs()
		if d.Reason = whySettings; !r.NoAsking && s.state == Idle {
			d.Need, d.Reason = NeedSettings, ""
		}
	case s.settings.Strange != "":
		d.Reason = s.settings.Strange
	case s.settings.Temporary:
		d.Reason = whyTemporary
	case !s.InBlock() && !s.settings.ReadCommitted:
		d.Reason = whySerializing
	default:
		s.needs()
		s.lookUp(&d, r, rule, now)
	}
	return d
}

// needs notes that a statement came that cannot be decided without the session's settings.
func (s *Session) needs() {
	if !s.needed {
		s.needed = true
		s.db.habit(s.asker(), true).note(true)
	}
}

// InBlock says whether the session is in a transaction block, or will be when what was sent has been done.
func (s *Session) InBlock() bool { return s.state == InBlock || s.begun }

// StaysInBlock is InBlock where nothing was sent that may end the block.
func (s *Session) StaysInBlock() bool { return s.InBlock() && !s.ended }

// Quiet says whether a statement's reply tells nothing that the database holds, so that a statement behind it may be
// answered before it: nobody can find the second answer older than the first.
func (d *Decision) Quiet() bool {
	switch d.Pattern.Facts.Verb {
	case "begin", "savepoint":
		return true
	}
	return false
}

// lookUp decides between a hit and a miss.
func (s *Session) lookUp(d *Decision, r *Request, rule *rules.Rule, now time.Time) {
	k := append(s.key[:0], s.identity...)
	k = append(k, r.Shape)
	k = appendPart(k, r.Exact)
	k = appendPart(k, r.Types)
	k = appendPart(k, r.Bound)
	s.key = k
	if e := s.e.store.Get(k); e != nil && e.Stamp.Valid() && (rule.TTL == 0 || now.Sub(e.Fetched) < rule.TTL) {
		d.Outcome, d.Entry = ledger.Hit, e
		return
	}
	d.Outcome = ledger.Miss
	d.key = append([]byte(nil), k...)
	d.stamp = d.resolved.readings.Take()
}

// Send follows a statement that is about to be sent to the origin. It must be called before the first byte is.
func (s *Session) Send(d *Decision, now time.Time) {
	f := d.Pattern.Facts
	res := d.resolved
	if f.Effect&analysis.Begins != 0 {
		s.isolation = s.isolationOf(f)
		s.begun = true
	}
	if res.Settings || res.Everything || f.Effect&analysis.Schema != 0 {
		s.ForgetSettings()
		if s.state != Idle || s.begun {
			s.isolation = unknownIsolation
		}
	}
	change := res.change
	if res.SchemaChanges {
		change = freshness.Change{}
		change.Add(res.change.Clocks()...)
		change.Add(s.e.everyDatabase(s.Origin)...)
	}
	if !change.Empty() {
		s.collected.Add(change.Clocks()...)
		if res.schema == nil && !res.SchemaChanges {
			s.db.wroteBlindly(d.Pattern)
		}
	}
	s.ended = s.ended || f.Effect&(analysis.Commits|analysis.Unknown|analysis.Ends) != 0
	switch {
	case f.Effect&(analysis.Commits|analysis.Unknown) != 0:
		s.begin(s.collected)
	case s.state == Idle || s.ended:
		s.begin(change)
	}
	s.runs(d.Pattern, d.Outcome, d.Reason, now)
}

// begin moves the clocks of what may be committed from now on.
func (s *Session) begin(c freshness.Change) {
	if c.Empty() {
		return
	}
	s.pending.Add(c.Begin())
	s.e.wrote(s.db, c.Clocks())
}

// Ready follows the end of an exchange, at which the server says where the session stands, when nothing more is under
// way. It must be called before the client gets to know.
func (s *Session) Ready(state TxState) {
	s.endUnseen(state)
	if state == Idle {
		s.collected.Clear()
		s.isolation = unknownIsolation
	} else if s.state == Idle && !s.begun {
		s.isolation = unknownIsolation
	}
	s.state = state
	s.begun, s.ended = false, false
	s.runs(nil, 0, "", time.Time{})
}

// ReadyBehind is Ready while more has been sent already: where the session stands is then known only when the last of
// it has ended.
func (s *Session) ReadyBehind(state TxState) {
	s.endUnseen(state)
	s.state = state
}

// endUnseen moves the clocks of what was written in a block that ended in a way that was not recognised.
func (s *Session) endUnseen(state TxState) {
	if state == Idle && s.state != Idle && !s.ended {
		p := s.collected.Begin()
		s.e.wrote(s.db, p.Clocks())
		p.End()
	}
}

// Unknown notes that what is sent from now on is not looked at.
func (s *Session) Unknown(now time.Time) {
	d := s.Decide(&Request{Statement: Statement{Pattern: s.e.Unreadable("not a message of the protocol")}, NoAsking: true}, now)
	s.Send(&d, now)
}

// Pending hands over what Send has made pending since it was last called. It is to be ended when the exchange that it
// was sent in has ended, before the client gets to know, or else given to Close.
func (s *Session) Pending() freshness.Pending {
	p := s.pending
	s.pending = freshness.Pending{}
	return p
}

// State says where the session stands.
func (s *Session) State() TxState { return s.state }

// Result is how a statement ended.
type Result struct {
	Took   time.Duration
	Rows   int
	Bytes  int
	Failed bool
	// Fetch is the part of Took that the origin needed.
	Fetch time.Duration
	// Reply is the whole reply for a miss that may be kept, or nil. It is the engine's from then on.
	Reply []byte
}

// Finish follows the end of one statement: it is counted, and a miss is kept if that is still right.
func (s *Session) Finish(d *Decision, r Result, now time.Time) {
	rec := ledger.Record{Outcome: d.Outcome, Reason: d.Reason, Took: r.Took, Keepable: d.Keepable, Failed: r.Failed, Rows: r.Rows, Bytes: r.Bytes}
	var age time.Duration
	switch d.Outcome {
	case ledger.Hit:
		rec.Spared = d.Entry.Took - r.Took
		rec.Rows = d.Entry.Rows
		d.Entry.Uses.Add(1)
		age = now.Sub(d.Entry.Fetched)
	case ledger.Miss:
		if r.Reply != nil && !r.Failed && len(r.Reply) <= s.e.opts.Largest && d.stamp.Storable() {
			s.e.keep(s.db, d.key, &store.Entry{
				Reply: r.Reply, Stamp: d.stamp, Pattern: d.Pattern.ID, Numbers: d.Pattern.Numbers,
				Rows: r.Rows, Fetched: now, Took: r.Fetch,
			})
		}
	}
	s.app.Record(rec)
	d.Pattern.Numbers.Record(rec)
	if s.e.stream.watched() {
		s.e.stream.send(Event{
			At: now, Pattern: d.Pattern, Outcome: d.Outcome, Reason: d.Reason,
			Application: s.Application, User: s.User, Database: s.db.name, Address: s.Address,
			Took: r.Took, Spared: rec.Spared, Age: age, Rows: rec.Rows, Bytes: r.Bytes, Failed: r.Failed,
		})
	}
}

// Close ends the session. What was sent and whose outcome has not arrived is taken to be under way until it has
// settled.
func (s *Session) Close(now time.Time, outstanding ...freshness.Pending) {
	if !s.needed {
		if h := s.db.habit(s.asker(), false); h != nil {
			h.note(false)
		}
	}
	if s.askedSchema { // somebody else may ask at once
		s.LearnedCatalog(nil, now)
		s.db.mu.Lock()
		s.db.askNext = now
		s.db.mu.Unlock()
	}
	s.e.mu.Lock()
	defer s.e.mu.Unlock()
	delete(s.e.sessions, s)
	for _, p := range append(outstanding, s.Pending()) {
		if !p.Empty() {
			s.e.unsettled = append(s.e.unsettled, unsettled{s.db, p, now.Add(s.e.opts.Settle)})
		}
	}
}

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
