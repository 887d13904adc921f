package engine

import (
	"bytes"
	"hash/maphash"
	"math/bits"
	"time"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// needs notes that a statement came that cannot be decided without the session's settings.
func (s *Session) needs() {
	if !s.needed {
		s.needed = true
		s.db.habit(s.asker(), true).note(true)
	}
}

// inputOf hashes what a statement asks: equal hashes are taken for equal inputs, which is good enough for what is
// foretold.
func (s *Session) inputOf(r *Request) uint64 {
	h := s.hash ^ uint64(r.Shape)
	for _, part := range [...][]byte{r.Exact, r.Types, r.Bound} {
		h = bits.RotateLeft64(h, 23)*0x9e3779b97f4a7c15 ^ maphash.Bytes(seed, part)
	}
	return max(h, 1)
}

// repeats says whether a statement asks what the session's last one asked a moment ago.
func (s *Session) repeats(d *Decision, now time.Time) bool {
	l := &s.lately
	return l.pattern == d.Pattern && l.input == d.input && l.changes == d.tables &&
		l.tick == now.UnixNano()/int64(inputs.Tick)
}

// oneInSome is of how many calls one is enough to see which inputs are popular.
const oneInSome = 16

// follow has the ledger follow the inputs of a statement, before it is sent or when it was answered from memory.
func (s *Session) follow(d *Decision, now time.Time) {
	if d.input == 0 {
		return
	}
	l := &s.lately
	if s.repeats(d, now) {
		l.more++ // a session that asks the same over and over is counted at once
		return
	}
	if l.more > 0 {
		l.pattern.Inputs.FollowMore(l.input, l.more)
		l.pattern.Inputs.Popular(l.input, float64(l.more)/oneInSome)
	}
	*l = lately{d.Pattern, d.input, d.tables, now.UnixNano() / int64(inputs.Tick), 0}
	// Not every so manieth, but by chance: applications ask in turns. It is a linear congruential generator, whose high
	// bits are good enough.
	if s.dice = s.dice*0x5851f42d4c957f2d + 0x14057b7ef767814f; (s.dice>>32)%oneInSome == 0 {
		d.Pattern.Inputs.Popular(d.input, 1)
	}
	if !d.Pattern.Inputs.Follows(d.input) {
		return
	}
	class := s.class
	if bytes.Contains(d.labels, []byte("='")) {
		if s.labelled == nil || !bytes.Equal(s.labelled, d.labels) {
			s.labelled = append(s.labelled[:0], d.labels...)
			s.labelledClass = s.e.Inputs.Class(inputs.Class{Caller: s.who, Client: s.host, Comment: string(d.labels)})
		}
		class = s.labelledClass
	}
	d.Compare = d.Pattern.Inputs.Follow(
		inputs.Asked{Input: d.input, Changes: uint32(d.changes), Class: class, Blocked: d.blocked},
		now,
	)
}

// lookUp decides between a hit and a miss. Fetches is set for the first read of a block, which is a miss unless its rule
// accepts what is committed by now.
func (s *Session) lookUp(d *Decision, r *Request, rule *rules.Rule, now time.Time, fetches bool) {
	d.rule, d.ruled, d.fetches = rule, true, fetches
	dependencies := d.resolved.dependencies
	k := s.key[:0]
	if rule.AcrossUsers && s.db.knowsPrivileges() && d.resolved.SharedBy(s.settings.Role) {
		if len(s.sharedNumber) == 0 {
			s.sharedNumber = s.e.identities.number(s.sharedNumber, s.appendIdentity(nil, "", nil))
		}
		k = append(k, s.sharedNumber...)
	} else {
		k = append(k, s.number...)
	}
	form := r.Shape
	if rule.TTLOnly { // what is kept for those who accept an age is nobody else's
		form |= ttlOnlyForm
		dependencies = d.resolved.shape
	}
	parsed, why := s.appendParsed(nil, r, d)
	if why != reason.None {
		d.Reason = reason.Of(why)
		return
	}
	if len(parsed) > 0 {
		k = appendPart(append(k, form^parsedForm), parsed)
	} else {
		k = append(k, form)
	}
	if s.db.dialect.TextNamesColumns && !freshness.Off(freshness.TextInKey) {
		k = appendPart(k, r.Written)
	} else {
		k = appendPart(k, r.Exact)
	}
	k = appendPart(k, r.Types)
	k = appendPart(k, r.Bound)
	s.key = k
	early := !fetches && s.InBlock() && s.view() != dialect.EachStatement && !freshness.Off(freshness.Isolation)
	// What the block sees may be the present nevertheless. It is looked at after what is to be true of the present.
	seesNow := func() bool {
		return s.view() == dialect.FirstRead && !rule.TTLOnly && dependencies.UnmovedSince(s.seenAt)
	}
	committed := s.readsCommitted(rule)
	if fetches {
		d.Reason = reason.Of(reason.FirstRead)
	}
	var e *store.Entry
	if !fetches || committed {
		e = s.e.store.Get(rule, k)
	}
	if e != nil && e.Stamp.Valid() && (rule.TTL == 0 || now.Sub(e.Fetched) < rule.TTL) &&
		(!early || e.Moment < s.blockAt || committed || seesNow()) {
		if !s.samples(rule) {
			d.Outcome, d.Entry, d.Reason = ledger.Hit, e, reason.Reason{}
			return
		}
		d.Reason, d.sampled = reason.Of(reason.Sampled), true
		if !rule.TTLOnly && !(rule.TimeFunctions && d.resolved.OfTime) { // which may differ
			d.sample = e
		}
	}
	if early && !seesNow() || fetches && !s.firstSeesNow() { // what it gets may be of an earlier moment than this
		d.Outcome = ledger.Bypass
		if !d.Reason.Some() {
			d.Reason = reason.Of(reason.EarlierSnapshot)
		}
		d.sample = nil
		return
	}
	d.Outcome = ledger.Miss
	d.key = append([]byte(nil), k...)
	if rule.TTLOnly {
		d.stamp = dependencies.Take()
	} else {
		d.stamp = dependencies.Take(s.pinned(d.resolved, r)...)
	}
	if early && !seesNow() { // something has changed at this moment
		d.Outcome, d.Reason, d.key = ledger.Bypass, reason.Of(reason.EarlierSnapshot), nil
		return
	}
	d.moment = s.e.moments.Load()            // behind the stamp: who begins a block from now on has a later one
	if s.db.current() != d.resolved.schema { // then it may rest on more than that: it is not known what the stamp should hold
		d.Outcome, d.Reason, d.key = ledger.Bypass, reason.Of(reason.SchemaChanged), nil
	}
}

// ttlOnlyForm is added to the form of a request in the keys of results that are answered whatever is written. Forms are
// letters.
const ttlOnlyForm = 0x80

// parsedForm makes the form of a request a capital letter, where it was prepared under other settings or definitions
// than those of now.
const parsedForm = 0x20

// dependencies gives what a decision's stamp was taken of.
func (d *Decision) dependencies() freshness.Dependencies {
	if d.rule.TTLOnly {
		return d.resolved.shape
	}
	return d.resolved.dependencies
}
