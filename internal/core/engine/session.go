package engine

import (
	"encoding/binary"
	"sync"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
)

// Identity is who a session is, as its start-up said.
type Identity struct {
	// Origin names the database server, where a larder stands before several.
	Origin                               string
	Database, User, Application, Address string
}

// Settings is what a session's server said of it when asked.
type Settings struct {
	// Values are every setting that can change a result, the roles in force among them, in an order that never changes.
	Values []string
	// ReadCommitted says whether transactions are READ COMMITTED unless they say otherwise.
	ReadCommitted bool
	// Temporary says whether the session has temporary tables.
	Temporary bool
	// Strange is a reason, or empty, why statements of this session cannot be read the usual way.
	Strange string
}

// Need is what a session's server has to be asked before a decision can be made.
type Need uint8

// The needs.
const (
	NeedSettings Need = 1 << iota
	NeedCatalog
)

// TxState is where a session stands, as the server says at the end of every exchange.
type TxState uint8

// The states.
const (
	Idle    TxState = iota
	InBlock         // in a transaction block
	Failed          // in a transaction block that can only be rolled back
)

// Session is one client's session as the engine knows it. Its methods must not be called at the same time; they are
// called in the order in which things are sent and arrive.
type Session struct {
	Identity

	e    *Engine
	db   *database
	app  *ledger.Tally
	scan statement.Scan
	key  []byte

	unreadable string // why its statements cannot be read at all

	identity    []byte // the beginning of its keys; empty while not known
	settings    Settings
	generation  uint64 // counts what may have changed settings
	asked       uint64 // the generation for which settings were asked
	needed      bool   // a statement came that could not be decided without them
	askCatalog  freshness.Stamp
	askedSchema bool
	askedAt     time.Time

	state     TxState
	isolation isolation
	begun     bool // a BEGIN was sent since the last Ready

	collected freshness.Change  // what it wrote and may not have committed
	pending   freshness.Pending // what it has sent for commitment, until handed over
	ended     bool              // something that may end a block was sent since the last Ready

	running struct { // what Running shows, which is asked for by others
		sync.Mutex
		pattern *Pattern
		outcome ledger.Outcome
		reason  string
		since   time.Time
	}
}

// runs notes the statement that is under way, or none.
func (s *Session) runs(p *Pattern, o ledger.Outcome, reason string, since time.Time) {
	s.running.Lock()
	s.running.pattern, s.running.outcome, s.running.reason, s.running.since = p, o, reason, since
	s.running.Unlock()
}

type isolation uint8

const (
	unknownIsolation isolation = iota
	readCommitted
	snapshot
)

// Running is a statement that is under way.
type Running struct {
	Identity
	Pattern *Pattern
	Outcome ledger.Outcome
	Reason  string
	Since   time.Time
}

// NewSession begins a session. It must be ended with Close.
func (e *Engine) NewSession(id Identity) *Session {
	s := &Session{Identity: id, e: e, db: e.database(id.Origin, id.Database), generation: 1}
	s.app = e.Ledger.Application(id.Application)
	e.mu.Lock()
	e.sessions[s] = struct{}{}
	e.mu.Unlock()
	return s
}

// SetApplication notes the application's name, which a client may change at any time.
func (s *Session) SetApplication(name string) {
	s.running.Lock()
	s.Application = name
	s.running.Unlock()
	s.app = s.e.Ledger.Application(name)
}

// SetUnreadable notes that the session's statements cannot be split into tokens, and why; empty takes it back.
func (s *Session) SetUnreadable(why string) { s.unreadable = why }

// ForgetSettings notes that settings may be others than were learned.
func (s *Session) ForgetSettings() {
	s.generation++
	s.identity = s.identity[:0]
}

// Wants says what the session's server should be asked at the next quiet moment, whatever statement comes. No pattern
// can be judged without the catalog. Settings are asked for ahead of need only where the same user's same application
// has needed them before: whose statements only pass is not to pay for it.
func (s *Session) Wants(now time.Time) Need {
	var n Need
	if len(s.identity) == 0 && s.e.Rules().Keeps() {
		if h := s.db.habit(s.asker(), false); h != nil && h.score.Load() > 0 {
			n |= NeedSettings
		}
	}
	if s.WantsCatalog(now) {
		n |= NeedCatalog
	}
	return n
}

// WantsCatalog says whether the catalog is among what Wants would give.
func (s *Session) WantsCatalog(now time.Time) bool {
	if s.db.current() != nil {
		return false
	}
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	return !s.db.asking && !now.Before(s.db.askNext)
}

type asker struct{ user, application string }

func (s *Session) asker() asker { return asker{s.User, s.Application} }

// Asking notes that the server is being asked. It must be called before the question is sent. What another session
// is asking already is taken out.
func (s *Session) Asking(n Need, now time.Time) Need {
	if n&NeedCatalog != 0 {
		s.db.mu.Lock()
		if s.db.asking {
			n &^= NeedCatalog
		} else {
			s.db.asking = true
			s.askedSchema, s.askedAt = true, now
			s.askCatalog = freshness.Readings{s.db.clocks.Schema}.Take()
		}
		s.db.mu.Unlock()
	}
	if n&NeedSettings != 0 {
		s.asked = s.generation
	}
	return n
}

// isolationOf gives the isolation of a block that a statement begins.
func (s *Session) isolationOf(f *analysis.Facts) isolation {
	switch {
	case s.state != Idle || s.begun || f.Verb != "begin":
		return unknownIsolation // a BEGIN within a block changes nothing, and one among several cannot be told apart
	case f.Isolation == analysis.ReadCommitted:
		return readCommitted
	case f.Isolation == analysis.SnapshotIsolation:
		return snapshot
	case len(s.identity) == 0:
		return unknownIsolation
	case s.settings.ReadCommitted:
		return readCommitted
	}
	return snapshot
}

// appendPart adds a part to a key so that no two lists of parts make the same bytes.
func appendPart(key, part []byte) []byte {
	return append(binary.AppendUvarint(key, uint64(len(part))), part...)
}
