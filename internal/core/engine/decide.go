package engine

import (
	"bytes"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/store"
)

// Statement is one statement's text as the engine read it.
type Statement struct {
	Pattern *Pattern
	// Exact is the normalised text with its literals: what the key is made of. Written is the text as it came but for what
	// is before its first token and behind its last; it is nil for a dialect that does not need it.
	Exact, Written []byte
	// Comment is the inside of its last comment, in which its labels are.
	Comment []byte
	// MayMeanNow is set when a literal may stand for the current time.
	MayMeanNow bool

	shared bool // Exact is nobody's to change
}

// Clone gives the statement with an Exact that stays valid.
func (st Statement) Clone() Statement {
	if !st.shared {
		st.Exact, st.Written, st.Comment = bytes.Clone(st.Exact), bytes.Clone(st.Written), bytes.Clone(st.Comment)
	}
	return st
}

// Read reads a statement's text and finds its pattern, parsing it if it is new. Exact is valid until the next Read,
// Written and Comment as long as sql; none must be changed.
func (s *Session) Read(sql []byte) Statement {
	if s.unreadable.Some() {
		return Statement{Pattern: s.e.Unreadable(s.unreadable)}
	}
	known, hash := s.texts.get(sql)
	if known != nil {
		return *known
	}
	if len(sql) > long {
		s.e.reading <- struct{}{}
		defer func() { <-s.e.reading }()
	}
	s.scan.Read(sql)
	p := s.e.patterns.find(s.scan.Syntax, s.scan.Shape)
	if p == nil {
		p = s.e.learnInTurn(s.scan.Syntax, s.db.dialect, s.scan.Shape, sql)
	}
	st := Statement{Pattern: p, Exact: s.scan.Exact, Comment: s.scan.Comment, MayMeanNow: s.scan.MayMeanNow}
	if s.db.dialect.TextNamesColumns {
		st.Written = sql[s.scan.Start:s.scan.End]
	}
	s.texts.put(sql, hash, st)
	return st
}

// Unreadable gives the pattern of statements that cannot be read, for the reason given; each may do anything. The
// reasons must be few.
func (e *Engine) Unreadable(why reason.Reason) *Pattern {
	return e.named(why.String(), analysis.Unreadable(why))
}

// Unreadable is the engine's.
func (s *Session) Unreadable(why reason.Reason) *Pattern { return s.e.Unreadable(why) }

// Harmless gives the pattern of what is no SQL and changes nothing.
func (e *Engine) Harmless(what reason.Reason) *Pattern {
	return e.named(what.String(), &analysis.Facts{Kind: analysis.KindOther, Reasons: []reason.Reason{what}})
}

// Resetting gives the pattern of what sets a session back to its beginning and is no SQL: what it had open is rolled
// back, and what it had of its own is gone.
func (e *Engine) Resetting() *Pattern {
	what := reason.Of(reason.Discards)
	return e.named(what.String(), &analysis.Facts{
		Kind: analysis.KindDiscard, Effect: analysis.Settings | analysis.System | analysis.Ends, Forgets: true, Reasons: []reason.Reason{what},
	})
}

// named gives a pattern that is not made from a statement's text.
func (e *Engine) named(what string, facts *analysis.Facts) *Pattern {
	text := []byte("(" + what + ")")
	if p := e.patterns.find(nil, text); p != nil {
		return p
	}
	p := &Pattern{
		ID:    statement.Name(text),
		Text:  string(text),
		Facts: facts,
		clock: freshness.Clock{Name: patternClock},
	}
	if known := e.patterns.add(p, nil, text, text, e.newNumbers); known != nil {
		return known
	}
	return e.rest(p.Facts)
}

// Request is one statement to be decided on.
type Request struct {
	Statement
	// Shape tells apart the forms in which the protocol can ask for the same result.
	Shape byte
	// Types and Bound are the parameters' declared types, and their formats, values and the result formats wanted, in the
	// protocol's own bytes, which are exact. Only the dialect reads them.
	Types, Bound []byte
	// Parsed is when it was prepared, or nil for what is prepared and run in one go.
	Parsed *Parsed
	// Busy is why it cannot be answered at this moment whatever is kept, or None.
	Busy reason.Code
	// NoAsking is set when the server cannot be asked before this statement is sent, and NoWaiting when it cannot wait
	// for what another session fetches.
	NoAsking, NoWaiting bool
}

// Decision is what is to be done with one statement.
type Decision struct {
	Outcome ledger.Outcome
	// Reason says why it passes.
	Reason  reason.Reason
	Pattern *Pattern
	// Entry is what a hit is answered with, at StepAnswer.
	Entry *store.Entry
	// Need is what the server must be asked first, at StepAsk.
	Need Need
	// Ahead is what the server is to be asked before the statement is sent, without waiting for the answer.
	Ahead Need
	// Cacheable is set when a rule could keep its result.
	Cacheable bool
	// Own is set when the larder is to answer of its own, with Last.
	Own bool
	// Waited is for how long it was held back while another session fetched the same.
	Waited time.Duration
	// Compare is set by Sent when the hash of its result is wanted.
	Compare bool

	ruled    bool            // a rule that is in force keeps its pattern
	input    uint64          // a hash of what was asked; 0 if that is not followed
	tables   uint64          // changes of the tables that it reads, before it was sent
	changes  uint64          // and of those rows of them that it reads
	does     *analysis.Facts // what the statement does: what its pattern does, or the statement that it runs by name
	write    *writing
	exact    []byte // its text and values, for whoever watches
	bound    []byte
	types    []byte
	comment  []byte
	labels   []byte // its comment, valid until it is sent or answered
	resolved *resolution
	stamp    freshness.Stamp
	key      []byte
	moment   uint64
	defined  uint64       // how many beginnings and ends of changed definitions there had been, but for those that may come first
	rule     *rules.Rule  // that keeps it
	sampled  bool         // it is a control sample
	sample   *store.Entry // what would have been answered, for one that is compared
	blocked  bool         // it cannot be answered from memory at this moment, whatever the rules are
	fetches  bool         // it goes to the origin whatever is kept
}

// writing is what a statement writes.
type writing struct {
	change freshness.Change
	name   string // of the prepared transaction that it makes or ends
	times  int    // how often that name was used, where it is known what was prepared
}

// decide says what to do with a statement. It changes nothing of the session.
func (s *Session) decide(d *Decision, r *Request, now time.Time) {
	p := r.Pattern
	set := s.e.Rules()
	acts := s.acts(p, r.Exact)
	defined := s.db.definedSoFar() // before it is worked out what the statement does
	res := acts.in(s.e, s.db, s.path(), s.pathKey)
	if s.rechecksSettings() { // behind the catalog, which says what settings count
		res = acts.in(s.e, s.db, s.path(), s.pathKey)
	}
	if len(s.unsure) > 0 && res.schema != nil {
		s.judge()
		res = acts.in(s.e, s.db, s.path(), s.pathKey) // by the path that is certain
	}
	if res.ifOwn != nil && s.owns(res.Missing) {
		res = res.ifOwn
	}
	res = res.among(acts)
	*d = Decision{
		Outcome:  ledger.Bypass,
		Pattern:  p,
		resolved: res,
		defined:  defined,
		does:     acts.Facts,
		labels:   r.Comment,
	}
	if p.secondPhase() {
		d.write = &writing{name: s.handedOver(r)}
	}
	if w := s.e.wants(); w != 0 {
		d.noted(r, w)
	}
	if p.own && r.Busy == reason.None && s.state != Failed {
		d.Outcome, d.Own = ledger.Hit, true
		return
	}
	if d.writes(acts.Facts) {
		s.decideWrite(d, r, set)
		return
	}
	if p.Facts.Kind == analysis.KindSelect && !p.passing && !s.Own {
		d.input = s.inputOf(r)
		s.sums(d, r, now)
	}
	rule := s.rule(set, res, r)
	if acts.Facts.Effect&analysis.Begins != 0 && s.beginsUnknown(r) && set.Caches() {
		d.Ahead = NeedSettings // within the block it would be too late
	}
	s.decideRead(d, r, set, rule, now)
}

// writes says whether a statement counts as a write.
func (d *Decision) writes(does *analysis.Facts) bool {
	res := d.resolved
	return !res.change.Empty() &&
		(len(res.Writes) > 0 || len(does.Writes) > 0 || len(res.Defines) > 0 || does.Effect&(analysis.Schema|analysis.Unknown) != 0 ||
			res.Everything && d.Pattern.Facts.Kind == analysis.KindCall)
}

// decideWrite decides on a write: it is sent on, and what it may change is worked out.
func (s *Session) decideWrite(d *Decision, r *Request, set *rules.Set) {
	p, res := d.Pattern, d.resolved
	d.Outcome = ledger.Write
	if d.write == nil {
		d.write = &writing{}
	}
	d.write.change = s.changeOf(res, r)
	if p.Facts.Kind == analysis.KindCommitPrepared {
		if c, times := s.db.committed(d.write.name); times > 0 {
			d.write.change, d.write.times = c, times
		}
	}
	if s.pathKey == "" && !r.NoAsking && s.state == Idle && res.schema != nil && set.Caches() &&
		res.schema.PathMatters(p.Facts) {
		d.Need = NeedSettings // or it would drop what rests on every table of the name
	}
}

// decideRead decides between a hit, a miss and a pass.
func (s *Session) decideRead(d *Decision, r *Request, set *rules.Set, rule *rules.Rule, now time.Time) {
	res := d.resolved
	accepted := rule != nil && rule.TimeFunctions
	if len(res.Reasons) > 0 && !(accepted && res.OfTime) {
		d.Reason = res.Reasons[0]
		return
	}
	d.Cacheable = true
	obstacle := s.obstacle(d, r, accepted)
	d.blocked = obstacle.Some()
	switch {
	case s.e.retired.Load():
		d.Reason = reason.Of(reason.Successor)
	case s.e.switchedOff.Load():
		d.Reason = reason.Of(reason.CachingOff)
	case s.e.aside.Load():
		d.Reason = reason.Of(reason.InTrial)
	case rule == nil:
		d.Reason = reason.Of(reason.NoRule)
	case rule.Action == rules.Bypass:
		d.Reason = reason.Of(reason.Bypass)
	case rule.Paused:
		d.Reason = reason.Of(reason.RulePaused)
	case s.e.Suspended(rule):
		d.Reason = reason.Of(reason.RuleFoundOld)
	case rule.Action == rules.Advised:
		d.Reason = reason.Of(reason.NotChosen)
	case s.asksInBlock(r):
		s.needs()
		d.Need = NeedSettings
	case obstacle.Code == reason.FirstRead && (s.firstSeesNow() || s.readsCommitted(rule)):
		s.needs()
		s.lookUp(d, r, rule, now, true)
	case obstacle.Some():
		if d.Reason, d.ruled = obstacle, true; len(s.identity) == 0 {
			s.needs()
		}
	case len(s.identity) == 0:
		s.needs()
		if r.NoAsking || s.state != Idle {
			d.Reason = reason.Of(reason.SettingsUnknown)
		} else {
			d.Need = NeedSettings
		}
	default:
		s.needs()
		s.lookUp(d, r, rule, now, false)
	}
}

// asksInBlock says whether settings are to be asked for within a block that began before they were known.
func (s *Session) asksInBlock(r *Request) bool {
	return len(s.identity) == 0 && s.db.dialect.AsksInBlock && !r.NoAsking && r.Busy == reason.None && s.state == InBlock && !s.doubtful &&
		s.begunIn == s.generation && s.asked != s.generation
}

// firstSeesNow says whether a read that is the first of its block sees what any other would that is sent at this moment.
func (s *Session) firstSeesNow() bool {
	return s.beginsWithAny() || s.first && s.view() == dialect.FirstRead && len(s.identity) > 0
}

// readsCommitted says whether a rule has a read of a block that sees one moment answered with what is committed by now.
func (s *Session) readsCommitted(rule *rules.Rule) bool {
	view := s.view()
	return rule.ReadCommitted && len(s.identity) > 0 && (view == dialect.FirstRead || view == dialect.FirstStatement)
}

// noted copies what observers want of a statement, which is gone when it ends.
func (d *Decision) noted(r *Request, w Bytes) {
	if w&Comments != 0 {
		d.comment = bytes.Clone(r.Comment)
	}
	if w&Values != 0 {
		d.exact, d.bound, d.types = bytes.Clone(r.Exact), bytes.Clone(r.Bound), bytes.Clone(r.Types)
	}
}

// beginsUnknown says whether a block is about to begin in a session whose settings are not known, and are needed or
// were needed by others like it.
func (s *Session) beginsUnknown(r *Request) bool {
	return s.state == Idle && !s.begun && !r.NoAsking && len(s.identity) == 0 && s.asked != s.generation && s.mayNeed()
}

// sums notes how often what a statement reads has changed, where its input is followed.
func (s *Session) sums(d *Decision, r *Request, now time.Time) {
	d.tables = d.resolved.dependencies.Sum()
	if s.repeats(d, now) {
		return
	}
	d.changes = d.tables
	if len(d.resolved.reads)+len(d.resolved.columns) > 0 && d.Pattern.Inputs.Follows(d.input) {
		d.changes = d.resolved.dependencies.Sum(s.pinned(d.resolved, r)...)
	}
}

// obstacle gives the reason, if there is one, why a statement cannot be answered from memory at this moment though its
// pattern can.
func (s *Session) obstacle(d *Decision, r *Request, timeAccepted bool) reason.Reason {
	known := len(s.identity) > 0
	blocks := s.InBlock() && !freshness.Off(freshness.Isolation)
	switch {
	case r.Busy != reason.None:
		return reason.Of(r.Busy)
	case s.e.waits() != reason.None:
		return reason.Of(s.e.waits())
	case s.state == Failed:
		return reason.Of(reason.TransactionFailed)
	case s.doubtful && !freshness.Off(freshness.DoubtfulState):
		return reason.Of(reason.DoubtfulState)
	case r.MayMeanNow && !timeAccepted:
		return reason.Of(reason.ValueMayMeanTime)
	case s.collected.Touches(d.resolved.dependencies):
		return reason.Of(reason.OwnWrite)
	case blocks && s.isolation != analysis.DefaultIsolation && s.view() == dialect.Unknowable:
		return reason.Of(reason.SerializableBlock)
	case blocks && (s.view() == dialect.FirstStatement || s.view() == dialect.FirstRead) && !s.snapped,
		blocks && s.beginsWithAny(): // the server is to know that it has begun
		return reason.Of(reason.FirstRead)
	case s.ended, // after an end it is not known which block the next is in
		blocks && s.view() == dialect.Unknowable:
		return reason.Of(reason.UnknownIsolation)
	case len(r.Comment) > 0 && leftOut(r.Comment):
		return reason.Of(reason.StatementLeftOut)
	case !known:
	case s.elsewhere() && !freshness.Off(freshness.OtherServers):
		return reason.Of(reason.OtherServer)
	case s.settings.LeftOut:
		return reason.Of(reason.SessionLeftOut)
	case s.settings.Strange != reason.None:
		return reason.Of(s.settings.Strange)
	case s.settings.Temporary && !freshness.Off(freshness.TemporaryTables):
		return reason.Of(reason.TemporaryTables)
	case s.outgrown() && !freshness.Off(freshness.OlderPrivileges):
		return reason.Of(reason.OlderPrivileges)
	case d.resolved.Remembers && !s.steady():
		return reason.Of(reason.RemembersOthers)
	case !s.InBlock() && s.db.dialect.Views[s.settings.Isolation] == dialect.Unknowable && !freshness.Off(freshness.Isolation):
		return reason.Of(reason.SerializableSession)
	}
	return reason.Reason{}
}

// Label is that by which a statement asks with the value off not to be answered from memory, and OptOutComment a comment
// with it.
const (
	Label         = "jollylarder"
	OptOutComment = "/*" + Label + "='off'*/"
)

// leftOut says whether a statement's label asks for it to be left out.
func leftOut(comment []byte) bool {
	if !bytes.Contains(comment, []byte(Label)) {
		return false
	}
	for _, l := range statement.Labels(comment) {
		if l.Key == Label && l.Value == "off" {
			return true
		}
	}
	return false
}
