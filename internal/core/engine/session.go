package engine

import (
	"encoding/binary"
	"hash/maphash"
	"net/netip"
	"sync"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Identity is who a session is, as its start-up said.
type Identity struct {
	// Origin names the database server, where a larder stands before several.
	Origin                               string
	Database, User, Application, Address string
	// Since is when its login began, or that with which it became another user, and Until when that had ended: some of its
	// privileges may be those of that time for as long as it is connected. The zero values are for servers where none are.
	Since, Until time.Time
	// Own is set for a session of the larder's own, by which it fetches ahead: what it waits for no client waits for,
	// and it is not counted.
	Own bool
}

// Settings is what a session's server said of it when asked.
type Settings struct {
	// Values are every setting that can change a result, in an order that never changes; Roles are those in force, with
	// the one whose privileges count first.
	Values, Roles []string
	// Role is the number of the role whose privileges count: its name may become another's.
	Role string
	// Account is that by whose privileges the session reads, where a login takes some of them with it.
	Account string
	// Isolation is that of transactions which do not say otherwise; DefaultIsolation stands for one that is not known.
	Isolation analysis.Isolation
	// BlockEach is set when each statement outside of a block begins one.
	BlockEach bool
	// Path is the search path in effect: the schemas in which names without one are looked up.
	Path []string
	// Temporary says whether the session has temporary tables.
	Temporary bool
	// LeftOut says whether the session asked not to be answered from memory.
	LeftOut bool
	// Patience is how long a statement may take, or 0 for any time.
	Patience time.Duration
	// Server is what the server says of itself: a text that no other server has, nor the same one after a restart;
	// empty if it does not tell.
	Server string
	// Strange is why statements of this session cannot be read the usual way, or None.
	Strange reason.Code
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

	e          *Engine
	db         *database
	server     *originServer
	serverSaid string // what its server said of itself
	epoch      uint64 // which of the origin's servers that is
	app        *ledger.Tally
	ofRule     struct {
		rule  *rules.Rule
		tally *ledger.Tally
	}
	who           *ledger.Caller
	class         uint16 // of its statements without a comment
	host          string
	labelled      []byte // the comment that labelledClass was worked out for
	labelledClass uint16
	lane          uint8
	dice          uint64
	hash          uint64 // of what all its inputs have in common
	texts         *texts
	scan          statement.Scan
	again         statement.Scan // for what was read before
	utf8          bool           // its client's encoding is UTF-8
	setting       bool           // that may change by what was sent since the last Ready
	undoable      bool           // settings may have been changed in a way that the end of a transaction undoes
	key           []byte

	last   Report
	lately lately                  // what was followed last
	mine   map[*resolution]*ruling // the rules that hold for it

	leading leading

	renamings uint64

	inSQL  map[string]*Pattern // statements prepared in SQL, by name; nil for one of which it is not certain which it is
	temp   map[string]bool     // its temporary tables, as far as nothing happens when they are written
	before []past              // what its settings were

	unreadable reason.Reason // why its statements cannot be read at all

	pathKey  string // the search path as one text; empty while not known
	identity []byte // the beginning of its keys, spelled out; empty while not known
	number   []byte // that which stands for it; known when it is
	// sharedNumber stands for the beginning of keys of what it may share with others; empty until it is needed.
	sharedNumber []byte
	entered      stretch // when it entered the database in use, where that is another than at its login
	settings     Settings
	generation   uint64 // counts what may have changed settings
	asked        uint64 // the generation for which settings were asked
	needed       bool   // a statement came that could not be decided without them
	askedSchema  bool
	questions    []catalog.Question // of the catalog
	unfit        bool               // its answers about the catalog cannot be trusted
	askedAt      time.Time

	definitions []*definition  // that it is changing
	writes      []write        // what it wrote, or may have, in the block
	writesBy    catalog.Schema // the catalog by which the first of that was resolved
	writesAt    uint64         // and how many beginnings and ends of changed definitions there had been
	repaths     bool           // it may have changed which schemas there are

	outdatedAsked uint64 // what the database's count of outdated settings showed when they were asked for
	outdatedAt    uint64 // and when those were that are known

	state     TxState
	isolation analysis.Isolation // of the block it is in; DefaultIsolation while that is not known
	begunIn   uint64             // the generation of the settings in which it began, if that decides its isolation; or 0
	awaits    bool               // it is the session's own, which was asked for before the block began and is to arrive
	blockAt   uint64             // the engine's count of moments when the block began, or before
	seenAt    uint64             // the sequence of changes then
	snapped   bool               // in the block something has been read or written, and has ended well
	snapping  bool               // or is about to be
	isolated  bool               // that was set within the block, which may turn out to have failed
	first     bool               // nothing has been sent in the block that can have decided what it sees
	doubtful  bool               // it may stand elsewhere than the server said last
	begun     bool               // a BEGIN was sent since the last Ready
	hasty     bool               // its statements may have less time by now than its settings say

	collected freshness.Change  // what it wrote and may not have committed
	blind     []*Pattern        // what of that was sent while the catalog was not known
	onlyBlind bool              // all of that was only asked, while the catalog was not known
	schemaAt  uint64            // what the schema's clock showed when the first of that was sent
	pending   freshness.Pending // what it has sent for commitment, until its ticket has it
	under     *ticket           // the last that was sent and has not come to its end, and behind it the others
	idle      []*ticket         // for use again
	unsure    []*Pattern        // what it asked while the catalog was not known, and may have made such a thing or changed its settings
	unsureAt  uint64            // what the schema's clock showed then
	temporary bool              // it may have made something that goes when it ends
	ended     bool              // something that may end a block was sent since the last Ready
	lastSent  time.Time

	running struct { // what Running shows, which is asked for by others
		sync.Mutex
		pattern *Pattern
		outcome ledger.Outcome
		reason  reason.Reason
		since   time.Time
	}
}

// lately is the input that a session asked for last, and how often more in the same tick.
type lately struct {
	pattern        *Pattern
	input, changes uint64 // changes of whole tables
	tick           int64
	more           uint32
}

// runs notes the statement that is under way, or none.
func (s *Session) runs(p *Pattern, o ledger.Outcome, why reason.Reason, since time.Time) {
	s.running.Lock()
	s.running.pattern, s.running.outcome, s.running.reason, s.running.since = p, o, why, since
	s.running.Unlock()
}

// Running is a statement that is under way.
type Running struct {
	Identity
	Pattern *Pattern
	Outcome ledger.Outcome
	Reason  reason.Reason
	Since   time.Time
}

// NewSession begins a session. It must be ended with Close.
func (e *Engine) NewSession(id Identity) *Session {
	s := &Session{
		Identity:   id,
		e:          e,
		db:         e.database(id.Origin, id.Database),
		server:     e.originServer(id.Origin),
		generation: 1,
	}
	s.SetSyntax(s.db.dialect.Syntax)
	s.lane = uint8(e.lanes.Add(1))
	s.dice = uint64(s.e.lanes.Load()) * 0x9e3779b97f4a7c15 // short sessions would else all begin with the same throws
	s.hash = maphash.String(seed, id.Origin+"\x00"+id.Database+"\x00"+id.User)
	s.counts(id.Application)
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
	s.mine = nil
	s.counts(name)
}

// databaseName gives that of the session's database, with its origin's before it.
func (s *Session) databaseName() string {
	if s.Origin == "" {
		return s.Database
	}
	return s.Origin + "/" + s.Database
}

// counts has what the session does counted for an application.
func (s *Session) counts(application string) {
	if s.Own {
		return
	}
	s.app = s.e.Ledger.Application(application)
	s.who = s.e.Ledger.Caller(ledger.Caller{Application: application, User: s.User, Database: s.databaseName()})
	s.host = s.Address
	if at, err := netip.ParseAddrPort(s.Address); err == nil {
		s.host = at.Addr().Unmap().String()
	}
	s.labelled = nil
	s.class = s.e.Inputs.Class(inputs.Class{Caller: s.who, Client: s.host})
}

// Knows says whether the session's settings are known.
func (s *Session) Knows() bool { return len(s.identity) > 0 }

// SetUTF8 says whether what the client sends is encoded in UTF-8.
func (s *Session) SetUTF8(is bool) { s.utf8 = is }

// SetSyntax says how what the client sends is written from now on: one of its dialect's syntaxes.
func (s *Session) SetSyntax(syntax *statement.Syntax) {
	if s.scan.Syntax != syntax {
		s.scan.Syntax, s.again.Syntax = syntax, syntax
		s.texts = s.e.textsOf(syntax)
	}
}

// SetUnreadable notes that the session's statements cannot be split into tokens, and why; the zero Reason takes it
// back.
func (s *Session) SetUnreadable(why reason.Reason) { s.unreadable = why }

// ForgetSettings notes that settings may be others than were learned.
func (s *Session) ForgetSettings() {
	s.generation++
	s.identity, s.number = s.identity[:0], s.number[:0]
	s.pathKey = ""
}

// rechecksSettings forgets the settings if which schemas there are may have changed since they were asked for, as the
// search path in effect holds only those that there are, or if other settings count. It says whether it did.
func (s *Session) rechecksSettings() bool {
	if len(s.identity) == 0 || s.outdatedAt == s.db.outdated.Load() || freshness.Off(freshness.SchemasAnew) {
		return false
	}
	s.ForgetSettings()
	return true
}

// Unreviewed gives the settings of the server of which it is not known what they do to results. They are to be asked for
// with the others, once Asking was called.
func (s *Session) Unreviewed() []string { return s.db.unreviewedSettings() }

// path gives the search path in effect, or nil while that is not known.
func (s *Session) path() []string {
	if s.pathKey == "" {
		return nil
	}
	return s.settings.Path
}

// Wants says what the session's server should be asked at the next quiet moment, whatever statement comes. No pattern
// can be judged without the catalog. Settings are asked for ahead of need only where the same user's same application
// has needed them before: whose statements only pass is not to pay for it.
func (s *Session) Wants(now time.Time) Need {
	var n Need
	if len(s.identity) == 0 && s.e.Rules().Caches() {
		if s.mayNeed() {
			n |= NeedSettings
		}
	}
	if s.WantsCatalog(now) {
		n |= NeedCatalog
	}
	return n
}

// mayNeed says whether the session's settings have been needed, or mostly are in sessions like it.
func (s *Session) mayNeed() bool {
	if s.needed {
		return true
	}
	h := s.db.habit(s.asker(), false)
	return h != nil && h.score.Load() > 0
}

// WantsCatalog says whether the catalog is among what Wants would give.
func (s *Session) WantsCatalog(now time.Time) bool {
	if s.epoch != 0 && s.elsewhere() {
		return false // what its server says is not what counts
	}
	young := s.db.younger(now, s.e.opts.CatalogAge)
	if young && len(s.db.settledDefinitions()) == 0 {
		return false
	}
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	if s.db.reader.InRound() && !s.db.asking && !s.db.round.schema.Valid() { // it would not be true any more at its end
		s.db.reader.GiveUp()
		s.db.pauses(now)
	}
	next := s.db.askNext
	if young {
		next = s.db.askSoon
	}
	return !s.unfit && !s.db.asking && (s.db.reader.InRound() || !now.Before(next))
}

// AsksCatalog says whether an answer about the catalog is still of interest.
func (s *Session) AsksCatalog() bool { return s.askedSchema }

// CatalogQuestions gives what of the catalog the server is to be asked, in this order.
func (s *Session) CatalogQuestions() []catalog.Question { return s.questions }

// PlainCatalog says whether the database has shown that it cannot describe its schema whole.
func (s *Session) PlainCatalog() bool {
	s.db.mu.Lock()
	defer s.db.mu.Unlock()
	return s.db.plain
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
			if s.epoch == 0 || s.elsewhere() {
				n |= NeedSettings // with which server this is
			}
			s.askedSchema, s.askedAt = true, now
			if !s.db.reader.InRound() || !s.db.round.schema.Valid() {
				open, short := s.db.settledDefinitions(), s.db.younger(now, s.e.opts.CatalogAge)
				if short {
					s.db.reader.Begin(concerned(open)...)
				} else {
					s.db.reader.Begin()
				}
				s.db.round = round{
					schemaAt: s.db.clocks.Schema.Changes(), schema: freshness.Dependencies{s.db.clocks.Schema}.Take(), grants: freshness.Dependencies{s.db.clocks.Grants}.Take(),
					count: s.db.definitions.count.Load(), open: open, short: short, first: s.db.described == nil,
				}
			}
			s.questions = s.db.reader.Bundle()
		}
		s.db.mu.Unlock()
	}
	if n&NeedSettings != 0 {
		s.asked, s.hasty = s.generation, false
		s.outdatedAsked = s.db.outdated.Load()
	}
	return n
}

// beginsBlock notes the isolation of a block that a statement begins, or may.
func (s *Session) beginsBlock(f *analysis.Facts) {
	s.isolation, s.awaits, s.begunIn = analysis.DefaultIsolation, false, 0
	switch {
	case s.state != Idle || s.begun || f.Kind != analysis.KindBegin:
		// A BEGIN within a block changes nothing, and one among several cannot be told apart.
	case f.Isolation != analysis.DefaultIsolation:
		s.isolation = f.Isolation
	case len(s.identity) > 0:
		s.isolation = s.settings.Isolation
	default:
		s.awaits, s.begunIn = s.asked == s.generation, s.generation
	}
}

// lostBlock notes that it is not known of which isolation the block is.
func (s *Session) lostBlock() {
	s.isolation, s.awaits, s.first, s.begunIn = analysis.DefaultIsolation, false, false, 0
}

// view says what a read in the present block sees, or in the one that it begins.
func (s *Session) view() dialect.View {
	if s.beginsWithAny() {
		return s.db.dialect.Views[s.settings.Isolation]
	}
	return s.db.dialect.Views[s.isolation]
}

// beginsWithAny says whether the session is in no block, and the next statement of whatever kind begins one.
func (s *Session) beginsWithAny() bool {
	return s.state == Idle && !s.begun && len(s.identity) > 0 && s.settings.BlockEach
}

// appendPart adds a part to a key so that no two lists of parts make the same bytes.
func appendPart(key, part []byte) []byte {
	return append(binary.AppendUvarint(key, uint64(len(part))), part...)
}
