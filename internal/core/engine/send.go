package engine

import (
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
)

// InBlock says whether the session is in a transaction block, or will be when what was sent has been done.
func (s *Session) InBlock() bool { return s.state == InBlock || s.begun || s.beginsWithAny() }

// StaysInBlock is InBlock where nothing was sent that may end the block.
func (s *Session) StaysInBlock() bool { return s.InBlock() && !s.ended }

// Quiet says whether a statement's reply tells nothing that the database holds, so that a statement behind it may be
// answered before it: nobody can find the second answer older than the first.
func (d *Decision) Quiet() bool {
	k := d.Pattern.Facts.Kind
	return k == analysis.KindBegin || k == analysis.KindSavepoint
}

// renames says whether a statement may change what the names of prepared statements stand for, other than by saying so.
func (d *Decision) renames() bool {
	f := d.does
	return d.resolved.Everything && !d.blind() || f.Effect&analysis.Unknown != 0 ||
		(f.Prepares != "" || f.Forgets) && f.Kind == analysis.KindSeveral
}

// Renamings counts the statements that may have changed what the names of prepared statements stand for, other than by
// saying so.
func (s *Session) Renamings() uint64 { return s.renamings }

// send follows a statement that is about to be sent to the origin.
func (s *Session) send(d *Decision, now time.Time) {
	f := d.does
	res := d.resolved
	s.follows(d)
	s.follow(d, now)
	s.sendsInBlock(d)
	s.sendsSettings(d)
	s.db.privileges.mayChange(f, res.MayGrant, now)
	change := s.changes(d)
	blind := d.blind() && len(f.Writes) == 0
	by := source{pattern: d.Pattern, application: s.Application, blind: blind}
	s.makes(d)
	if d.renames() {
		s.renamings++
	}
	schemaAt := s.collects(d, change, blind)
	if f.Later {
		s.later(change, now)
	}
	s.ended = s.ended || f.Effect&(analysis.Commits|analysis.Unknown|analysis.Ends) != 0
	switch {
	case f.Effect&(analysis.Commits|analysis.Unknown) != 0 && (f.Kind == analysis.KindCommit || !freshness.Off(freshness.ImplicitCommits)):
		if !s.collected.Empty() && s.db.clocks.Schema.Changes() != s.schemaAt {
			s.collected.Add(s.db.clocks.Every) // what it wrote may have done more than was known when it was sent
		}
		by.blind = s.onlyBlind
		s.begin(s.collected.Clone(), schemaAt, by, now)
	// What may do anything may do what no rollback undoes.
	case s.state == Idle || s.ended || s.doubtful,
		res.AtOnce && !freshness.Off(freshness.AtOnce),
		res.Everything && !freshness.Off(freshness.Unrollable):
		writes, blind := s.writes, s.blind
		s.begin(change, schemaAt, by, now)
		if s.InBlock() && !s.ended { // they count once more at its end
			s.writes, s.blind = writes, blind
		}
	}
	s.lastSent = now
	s.runs(d.Pattern, d.Outcome, d.Reason, now)
}

// later takes into account that what a statement writes may be written only after its reply.
func (s *Session) later(c freshness.Change, now time.Time) {
	s.e.mu.Lock()
	defer s.e.mu.Unlock()
	s.e.unsettled = append(s.e.unsettled, unsettled{s.db, c.Begin(), now.Add(s.e.opts.Settle)})
}

// sendsInBlock follows where a statement begins, ends or stands in a transaction block.
func (s *Session) sendsInBlock(d *Decision) {
	f, res := d.does, d.resolved
	first := s.first
	switch {
	case f.Effect&analysis.Begins != 0:
		s.beginsBlock(f)
		if s.state == Idle && !s.begun {
			s.sees(s.e.moments.Add(1))
		}
		s.first = s.state == Idle && !s.begun && !f.Snapshot && f.Kind == analysis.KindBegin
		s.begun = true
	case s.beginsWithAny():
		s.isolation, s.awaits, s.first = s.settings.Isolation, false, false
		s.sees(s.e.moments.Add(1))
		s.begun = true
	default:
		s.first = false
	}
	switch {
	case f.Effect&analysis.Unknown != 0 || res.Everything: // nothing is early enough for what is not known
		s.sees(0)
	case f.Effect&(analysis.Commits|analysis.Ends) != 0: // the next block may begin with it
		s.sees(s.e.moments.Add(1))
	// The reply tells which read it was, also while it is not known how the block is isolated.
	case s.view() == dialect.FirstRead, s.isolation == analysis.DefaultIsolation && s.db.dialect.SnapsByReads():
		if first { // nothing before it can have settled what the block sees
			s.sees(s.e.moments.Add(1))
		}
	case f.Kind == analysis.KindSelect,
		f.Kind == analysis.KindInsert,
		f.Kind == analysis.KindUpdate,
		f.Kind == analysis.KindDelete,
		f.Kind == analysis.KindMerge:
		s.snapping = true
	}
}

// sees notes that what the block sees is of no earlier moment than this, by the engine's count.
func (s *Session) sees(moment uint64) {
	s.blockAt, s.snapped, s.snapping = moment, false, false
	s.seenAt = 0
	if moment > 0 {
		s.seenAt = freshness.Sequence()
	}
}

// sendsSettings follows what a statement may change of its session's settings.
func (s *Session) sendsSettings(d *Decision) {
	f, res := d.does, d.resolved
	if res.Settings || res.Everything || f.Effect&analysis.Schema != 0 {
		if !s.doubts(d) {
			s.ForgetSettings()
			s.undoable = true
		}
		s.setting = true
		if s.InBlock() {
			s.lostBlock()
		}
	}
	if f.Effect&analysis.Patience != 0 {
		s.hasty = true
	}
	if f.Effect&analysis.Isolates != 0 && s.InBlock() {
		s.lostBlock()
		s.isolated = true
		if f.Kind == analysis.KindSet { // and not one of several statements
			s.isolation = f.Isolation
		}
	}
	if s.undoable && (f.Effect&(analysis.Commits|analysis.Ends) != 0 || f.Kind == analysis.KindSavepoint) {
		s.ForgetSettings() // what the block has changed may be undone by its end, or by going back in it
	}
}

// changes gives what a statement that is sent may change, with all that its definitions concern.
func (s *Session) changes(d *Decision) freshness.Change {
	res := d.resolved
	change := res.change
	if d.Outcome == ledger.Write {
		change = d.write.change
	}
	redefines := res.SchemaChanges
	if len(res.Defines) > 0 && !res.Everything {
		list, ok := s.db.defines(res.Defines)
		s.definitions = append(s.definitions, list...)
		redefines = !ok
	}
	if redefines && (d.write == nil || d.write.times == 0) && !freshness.Off(freshness.UnknownEffects) {
		all := freshness.Change{}
		all.AddAll(change)
		all.Add(s.e.definitions(s.db, res.Resolved)...)
		change = all
		s.repaths = true
		s.db.outdated.Add(1)
	}
	return change
}

// collects adds what a statement may change to what its transaction has, and gives what the schema's clock showed when
// that was worked out.
func (s *Session) collects(d *Decision, change freshness.Change, blind bool) (schemaAt uint64) {
	f, res := d.does, d.resolved
	schemaAt = s.db.clocks.Schema.Changes()
	if res.schema != s.db.current() {
		schemaAt-- // it was resolved by another catalog than this moment's: then nothing is sure
	}
	if !change.Empty() {
		if s.collected.Empty() {
			s.schemaAt, s.onlyBlind = schemaAt, true
		}
		s.onlyBlind = s.onlyBlind && blind
		s.collected.AddAll(change)
		if res.schema != nil && !res.Everything && len(res.Defines) == 0 && len(s.writes) <= mostWrites {
			if len(s.writes) == 0 {
				s.writesBy, s.writesAt = res.schema, d.defined
			}
			s.writes = append(s.writes, write{d.does, d.Pattern})
		}
		if res.schema == nil && !res.SchemaChanges {
			s.db.wroteBlindly(d.Pattern)
			s.blind = append(s.blind, d.Pattern)
		}
	}
	if f.Kind == analysis.KindPrepareTransaction {
		all := s.collected.Clone()
		if len(s.blind) > 0 || len(s.definitions) > 0 { // it may have changed the schema
			all = freshness.Change{}
			all.Add(s.e.everyDatabase(s.Origin)...)
		}
		s.db.prepared(d.write.name, all, s.schemaAt)
	}
	return schemaAt
}

// begin moves the clocks of what may be committed from now on. SchemaAt is what the schema's clock showed when that was
// resolved.
func (s *Session) begin(c freshness.Change, schemaAt uint64, by source, now time.Time) {
	if c.Empty() {
		return
	}
	p := c.Begin()
	if !c.Has(s.db.clocks.Every) {
		p.Guard(s.db.clocks, schemaAt)
	}
	if list := s.definitions; len(list) > 0 {
		s.definitions = nil
		for _, d := range list {
			d.counts.Store(true)
		}
		db := s.db
		p.AtEnd(func() { db.defined(list) })
	}
	if s.repaths {
		db := s.db
		p.AtEnd(func() { db.outdated.Add(1) })
	}
	if list := s.writes; len(list) > 0 {
		s.writes = nil
		e, db, by, at := s.e, s.db, s.writesBy, s.writesAt
		p.AtEnd(func() { e.endedSince(db, by, at, list) })
	}
	if blind := s.blind; len(blind) > 0 {
		s.blind = nil
		e, db := s.e, s.db
		p.AtEnd(func() { e.blindEnded(db, blind) })
	}
	s.pending.Add(p)
	if by.blind { // it most likely only reads, and nothing that it could have changed is kept
		s.e.toReclaim(s.db, &p, nil)
		return
	}
	s.e.wrote(s.db, &c, &p, by, now)
}

// Ready follows the end of an exchange, at which the server says where the session stands, when nothing more is under
// way: every ticket that was sent has come to its end. It must be called before the client gets to know.
func (s *Session) Ready(state TxState) {
	s.noneLeft()
	s.endUnseen(state)
	s.failed(state)
	if state == Idle {
		s.collected.Clear()
		s.blind, s.writes, s.repaths = nil, nil, false
		s.leavesDefinitions()
		s.lostBlock()
		s.isolated = false
	} else if s.state == Idle && !s.begun {
		s.lostBlock()
	}
	if s.undoable && state == Idle { // what was sent in one breath is a transaction, too
		s.ForgetSettings()
		s.undoable = false
	}
	s.snapped, s.snapping = state == InBlock && (s.snapped || s.snapping), false
	s.state, s.doubtful = state, false
	s.begun, s.ended, s.setting = false, false, false
	s.runs(nil, 0, reason.Reason{}, time.Time{})
}

// ReadyBehind is Ready while more has been sent already: where the session stands is then known only when the last of
// it has ended.
func (s *Session) ReadyBehind(state TxState) {
	s.endUnseen(state)
	s.failed(state)
	s.state, s.doubtful = state, false
}

// Doubt follows Ready where the server has not said where the session stands: what it said before may not hold any more.
// Until the next Ready nothing is answered from memory, and what is written may be committed at once.
func (s *Session) Doubt() { s.doubtful = true }

// leavesDefinitions notes that what the session was defining has come to its end, one way or another.
func (s *Session) leavesDefinitions() {
	if len(s.definitions) > 0 {
		s.db.defined(s.definitions)
		s.definitions = nil
	}
}

// failed follows the failure of a block, which may have been that of setting its isolation.
func (s *Session) failed(state TxState) {
	if state == Failed && s.isolated {
		s.lostBlock()
	}
}

// endUnseen moves the clocks of what was written in a block that ended in a way that was not recognised.
func (s *Session) endUnseen(state TxState) {
	if state == Idle && s.state != Idle && !s.ended {
		all := s.collected.Clone()
		p := all.Begin()
		s.e.wrote(s.db, &all, &p, source{application: s.Application}, s.lastSent)
		p.End()
	}
}

// Unknown notes that what is sent from now on is not looked at: until the session is closed it may do anything.
func (s *Session) Unknown(now time.Time) {
	s.Begin(
		&Request{Statement: Statement{Pattern: s.e.Unreadable(reason.Of(reason.BadMessage))}, NoAsking: true},
		now,
	).Sent(
		now,
	)
	s.LetGo()
}

// State says where the session stands.
func (s *Session) State() TxState { return s.state }
