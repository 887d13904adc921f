package engine

import (
	"slices"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
)

// Ticket is one statement's way past the engine, from when it has been read until what it did is known. It owns what
// the engine holds for it: the result that others may wait for, the changes that are pending from when it is sent, and
// the stamp with which its result may be kept.
//
// Session.Begin gives it, and Step says what is next:
//
//	StepAnswer   Entry is written to the client; then End.
//	StepForward  Sent is called, before the first byte is written to the origin. When the server has said that the exchange is
//	             over, and before the client gets to know, End is called, or Skip if the server skipped it after an error.
//	StepAsk      The server is asked for Need; then Again.
//	StepWait     Another session fetches the same. Done is waited for, Most long; then Again. It may be forwarded at once as well.
//
// A ticket that is neither answered nor sent is dropped by Drop. One that was sent and has not come to its end when its
// session is closed is lost: what it changes is pending until it has settled.
//
// So each ticket has one end, and is nothing afterwards. A call out of this order is reported to Options.Misuse, and
// does nothing else: what a ticket changes stays pending until it has come to an end in order, or its session to its
// own.
//
// A Ticket is used under the lock that its session is used under.
type Ticket struct {
	*ticket
	use uint32 // which use of the memory behind it
}

// Step is what is to be done next about a statement.
type Step uint8

// The steps.
const (
	StepAnswer Step = iota
	StepForward
	StepAsk
	StepWait
)

// ticket is the memory behind a Ticket. It is the session's, which uses it again.
type ticket struct {
	Decision
	s     *Session
	use   uint32
	stage stage
	began time.Time

	waits   bool // it has waited for another session
	done    <-chan struct{}
	flight  *flight           // others may wait for what it fetches
	pending freshness.Pending // what it changes, from when it is sent
	ended   Ended             // what observers are told at its end

	before, after *ticket // among those that were sent
}

// stage is how far a ticket has come.
type stage uint8

const (
	over stage = iota
	decided
	sent
)

// mostIdle is how many tickets a session keeps for use again.
const mostIdle = 16

// Begin decides on a statement. It changes nothing that others see.
func (s *Session) Begin(r *Request, now time.Time) Ticket {
	var t *ticket
	if n := len(s.idle); n > 0 {
		t, s.idle = s.idle[n-1], s.idle[:n-1]
	} else {
		t = &ticket{s: s}
	}
	t.began, t.waits = now, false
	t.decide(r, now)
	return Ticket{t, t.use}
}

// Again decides anew, after the server was asked or another session was waited for.
func (t Ticket) Again(r *Request, now time.Time) {
	if !t.is(decided) || t.Step() != StepAsk && t.Step() != StepWait {
		t.misused("decided on again")
		return
	}
	t.waits = t.waits || t.done != nil
	t.decide(r, now)
}

func (t *ticket) decide(r *Request, now time.Time) {
	t.stage, t.done = decided, nil
	t.s.decide(&t.Decision, r, now)
	if t.waits {
		t.Waited = now.Sub(t.began)
	}
	if t.Outcome == ledger.Miss && t.Need == 0 {
		if done := t.s.join(t); !r.NoWaiting && !t.waits && !t.fetches {
			t.done = done
		}
	}
}

// Step says what is next.
func (t Ticket) Step() Step {
	switch {
	case t.Need != 0:
		return StepAsk
	case t.Outcome == ledger.Hit:
		return StepAnswer
	case t.done != nil:
		return StepWait
	}
	return StepForward
}

// Done is closed when the result that is waited for has been kept, or will not be. Most is how long to wait for that.
func (t Ticket) Done() (done <-chan struct{}, most time.Duration) { return t.done, t.s.patience() }

// AsksOfLast says whether the statement may ask what became of the one before it, as how many rows that changed.
func (t Ticket) AsksOfLast() bool {
	f, res := t.does, t.resolved
	asks := func(r reason.Reason) bool { return r.Code == reason.AsksOfEarlier }
	return f.Effect&analysis.Unknown != 0 || f.Kind == analysis.KindShow || res.Everything || res.AsksOfLast ||
		slices.ContainsFunc(f.Reasons, asks) || slices.ContainsFunc(res.Reasons, asks)
}

// Calls says whether its text calls one of the server's own functions.
func (t Ticket) Calls(builtIn string) bool { return slices.Contains(t.does.BuiltIns, builtIn) }

// UsesTables says whether it may read or write a table.
func (t Ticket) UsesTables() bool {
	return len(t.resolved.Reads)+len(t.resolved.Writes)+len(t.does.Reads)+len(t.does.Writes) > 0 || t.resolved.Everything ||
		t.does.Effect&(analysis.Schema|analysis.Unknown) != 0
}

// FindsRows says whether the statement may be a query, or run one whose rows are given out.
func (t Ticket) FindsRows() bool {
	switch t.does.Kind {
	case analysis.KindInsert, analysis.KindUpdate, analysis.KindDelete, analysis.KindTruncate, analysis.KindSet, analysis.KindBegin,
		analysis.KindCommit, analysis.KindRollback, analysis.KindSavepoint, analysis.KindDefinition, analysis.KindLock:
		return false
	}
	return true
}

// ChangesSettings says whether settings of the session may be others afterwards.
func (t Ticket) ChangesSettings() bool {
	return t.resolved.Settings || t.resolved.Everything || t.does.Effect&(analysis.Settings|analysis.Schema) != 0
}

// Enters says whether the server may say of it that the session's state has changed, which it has not: it reads a view of
// another database, which the server enters and leaves for that.
func (t Ticket) Enters() bool { return t.resolved.Enters }

// MayMakeTemporary says whether the statement may make a temporary table.
func (t Ticket) MayMakeTemporary() bool {
	made := reason.Of(reason.MakesTemporary)
	return t.does.Effect&analysis.Unknown != 0 || t.resolved.Temporary || slices.Contains(t.does.Reasons, made)
}

// Sent follows that the statement is about to be sent: from now on it may change what it changes.
func (t Ticket) Sent(now time.Time) {
	if !t.is(decided) || t.Step() != StepForward && t.Step() != StepWait {
		t.misused("sent")
		return
	}
	s := t.s
	t.stage = sent
	s.send(&t.Decision, now)
	t.pending, s.pending = s.pending, freshness.Pending{}
	if t.after = s.under; t.after != nil {
		t.after.before = t.ticket
	}
	s.under = t.ticket
}

// End follows that the statement has been answered, from memory or by the server: what it changed has been changed, it
// is counted, and the result of a miss is kept if that is still right.
func (t Ticket) End(r Result, now time.Time) {
	switch {
	case t.is(sent):
		t.settled()
		if t.resolved.Snaps && r.Rows > 0 && !r.Failed {
			t.s.snapping = true
		}
	case !t.is(decided) || t.Step() != StepAnswer:
		t.misused("ended")
		return
	}
	t.finish(r, now)
	t.over()
}

// Skip follows that the server has not run a statement that was sent, since something before it went wrong.
func (t Ticket) Skip() {
	if !t.is(sent) {
		t.misused("skipped")
		return
	}
	t.settled()
	t.over()
}

// Drop follows that the statement will neither be answered nor be sent.
func (t Ticket) Drop() {
	if !t.is(decided) {
		t.misused("dropped")
		return
	}
	t.over()
}

func (t Ticket) is(x stage) bool { return t.ticket != nil && t.ticket.use == t.use && t.stage == x }

func (t Ticket) misused(how string) {
	if t.ticket == nil || t.s.e.opts.Misuse == nil {
		return
	}
	why := map[stage]string{over: "came to its end", decided: "was not sent", sent: "was sent"}[t.stage]
	if t.ticket.use != t.use {
		why = "came to its end"
	}
	t.s.e.opts.Misuse("a ticket is " + how + " that " + why)
}

// settled ends what is pending: the server has said that it is over.
func (t *ticket) settled() {
	s := t.s
	if t.after != nil {
		t.after.before = t.before
	}
	if t.before != nil {
		t.before.after = t.after
	} else {
		s.under = t.after
	}
	t.before, t.after = nil, nil
	t.pending.End()
}

// over gives the ticket back.
func (t *ticket) over() {
	s := t.s
	s.landed(t.flight)
	*t = ticket{s: s, use: t.use + 1}
	if len(s.idle) < mostIdle {
		s.idle = append(s.idle, t)
	}
}

// Writing says whether something is under way that may change something.
func (s *Session) Writing() bool {
	for t := s.under; t != nil; t = t.after {
		if !t.pending.Empty() {
			return true
		}
	}
	return false
}

// noneLeft has every ticket over that was sent, when the server has nothing more to do.
func (s *Session) noneLeft() {
	for s.under != nil {
		Ticket{s.under, s.under.use}.misused("forgotten")
		Ticket{s.under, s.under.use}.Skip()
	}
}

// lost has every ticket over, and gives what they have changed or will.
func (s *Session) lost() (changes []freshness.Pending) {
	s.LetGo()
	for t := s.under; t != nil; t = t.after {
		changes = append(changes, t.pending)
		t.stage, t.use = over, t.use+1
	}
	s.under = nil
	return append(changes, s.pending)
}
