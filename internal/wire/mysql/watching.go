package mysql

import (
	"cmp"
	"hash/maphash"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/fault"
)

// The engine is told of every statement, and how it ended.

// watching is a session as the engine is told of it. It is used with the session's lock held.
type watching struct {
	eng      *engine.Session // nil until the login has ended well
	reader   syntax.Server
	mode     syntax.Mode
	assumed  bool   // the server may not have said yet that double quotes are those of names
	schema   string // that names without one are looked up in; empty if it has none
	prepared map[uint32]*prepared
	last     *prepared // that was asked for last
	runs     uint64    // of statements with values that were sent in pieces
	setting  int       // commands under way that may change how others are read
	kept     int64     // the room that the client's packet takes which is kept
	bound    []byte    // for what a statement is run with
	now      time.Time // when what is being followed was sent or came
	since    time.Time // when the client's login began
	blind    bool      // the engine was told that it will hear no more
	resolved bool      // what was read last has comments that the server runs
	knowing
}

// told is what the engine was told of a command.
type told struct {
	ticket   engine.Ticket
	some     bool // there is a ticket
	began    time.Time
	sent     time.Time
	prepares *prepared
	settling
	resets bool      // it sets the session back to its beginning
	runs   *prepared // the prepared statement that it runs
	typed  bool      // with the types of its parameters
	odd    bool      // it is in a form that is not kept
	repays bool      // it leaves nothing to be asked of what was answered from memory before it, if it does not fail
}

// settling is what a statement may change in how others are read.
type settling struct {
	sets     bool // it may do that
	several  bool // it is one of several statements
	settings []syntax.Setting
	assigns  syntax.Assigned
	foretold foretold
	locks    lock
}

// version reads what a server says of its version: "5.5.5-10.11.19-MariaDB" or "8.0.36".
func version(said string) (v syntax.Server) {
	v.MariaDB = strings.Contains(said, "MariaDB")
	if v.MariaDB {
		said = strings.TrimPrefix(said, "5.5.5-") // what it says to be taken for a server that old replicas know
	}
	for _, part := range strings.SplitN(said, ".", 3) {
		digits := len(part) - len(strings.TrimLeft(part, "0123456789"))
		n, _ := strconv.Atoi(part[:digits])
		v.Version = 100*v.Version + min(n, 99)
	}
	return v
}

// telling runs what tells the engine something. After a fault in that it hears no more of the session, which is followed
// nevertheless.
func (s *session) telling(f func()) {
	if s.eng == nil || s.blind {
		return
	}
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("the statements of a connection are no longer watched", r)
			s.blinds()
		}
	}()
	f()
}

// blinds tells the engine that anything may be done from now on, once.
func (s *session) blinds() {
	if s.eng == nil || s.blind {
		return
	}
	s.blind = true
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("the engine was not told that a connection is no longer watched", r)
		}
	}()
	s.eng.Unknown(s.now)
}

// started is begins for a session whose client must not be hurt by a fault of ours.
func (s *session) started() {
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("a connection is not watched", r)
			s.blinds()
		}
	}()
	fault.Point("begins")
	s.begins()
}

// begins tells the engine that the client has logged in.
func (s *session) begins() {
	i := s.login.intro
	s.eng = s.server.Engine.NewSession(engine.Identity{
		Origin: s.server.Name, Database: i.database, User: i.user, Address: s.accepted.RemoteAddr().String(),
		Application: cmp.Or(i.attributes["program_name"], i.user), // few drivers send a name, and most applications have a user
		Since:       s.since, Until: s.now, Own: s.login.own,
	})
	s.reader, s.schema = version(s.login.greeting.version), s.login.intro.database
	s.prepared, s.last, s.assumed = map[uint32]*prepared{}, nil, true
	s.knowing = knowing{values: s.login.values}
	s.login.values = nil // they are those of a session that has just begun
	s.owed = owed{}
	s.encodedAs(s.login.intro.charset)
	if s.values != nil {
		s.inUse()
	}
	s.states()
	s.learns()
}

// leaves tells the engine that the client has gone.
func (s *session) leaves() {
	if s.eng == nil {
		return
	}
	s.forgets()
	s.keptNoLonger()
	for i := range s.queue {
		s.gathersNot(&s.queue[i])
	}
	s.eng.Close(s.server.Time())
	s.eng, s.blind, s.setting = nil, false, 0
}

// encodedAs notes the number of the character set that the client writes in, as it is in the protocol.
func (s *session) encodedAs(charset byte) {
	name := map[byte]string{1: "big5", 84: "big5", 95: "cp932", 96: "cp932", 28: "gbk", 87: "gbk", 13: "sjis", 88: "sjis", 248: "gb18030", 249: "gb18030", 250: "gb18030"}[charset]
	s.encodes(cmp.Or(name, "another"))
}

// encodes notes the character set that the client writes in. In some a backslash or a quote can be the second byte of a
// character, so that nobody can say where a text ends without knowing them.
func (s *session) encodes(name string) {
	var why reason.Reason
	switch name {
	case "": // which is not known
		why = reason.About(reason.Encoding, "set by an expression")
	case "default":
		s.encodedAs(s.login.intro.charset)
		return
	case "big5", "cp932", "gb18030", "gbk", "sjis":
		why = reason.About(reason.Encoding, name)
	}
	s.eng.SetUnreadable(why)
}

// learns tells the engine what is known of the session: of its settings what the server said last, if nothing has changed
// them since, or else in which schema names without one are looked up.
func (s *session) learns() {
	s.eng.SetSyntax(syntax.Of(s.mode))
	if s.eng.WantsCatalog(s.now) {
		s.learnsCatalog()
	}
	switch {
	case len(s.queue) > 1: // what has been sent behind this may be changing them at this moment
	case s.eng.Knows():
	case s.values != nil:
		s.eng.Asking(engine.NeedSettings, s.now)
		s.eng.Learned(s.settings())
	case s.schema != "":
		s.eng.LearnedSchema(s.schema)
	}
}

// states reads the state that the server says the session is in.
func (s *session) states() engine.TxState {
	mode := syntax.Mode(0)
	if s.status&statusNoBackslash != 0 {
		mode = syntax.NoBackslashEscapes
	}
	switch {
	case !s.reader.MariaDB: // MySQL says nothing of it
		mode |= s.mode & syntax.ANSIQuotes
	case s.status&statusANSIQuotes != 0, s.assumed && s.login.status&statusANSIQuotes != 0:
		mode |= syntax.ANSIQuotes
	}
	if mode != s.mode {
		s.mode = mode
		s.eng.ForgetSettings()
	}
	if s.status&statusInTransaction != 0 {
		return engine.InBlock
	}
	return engine.Idle
}

// reads has the engine read what the client asks for. There is a ticket to be made of the request if some is set.
func (s *session) reads(r *engine.Request, f *frame, kind byte) (t told) {
	fault.Point("asked")
	t.began, t.some = s.now, true
	switch kind {
	case comQuery:
		r.Statement, t.settling = s.read(f, f.start[1:])
		if s.resolved {
			r.Busy = reason.ServerComments
		}
	case comInitDB:
		use := []byte("use " + quoted(string(f.start[1:])))
		r.Statement, t.settling = s.read(f, use)
	case comExecute, comBulkExecute:
		s.executes(r, f, &t)
	case comReset:
		t.resets, t.sets = true, true
		r.Statement = engine.Statement{Pattern: s.server.Engine.Resetting()}
	case comBinlogDump, comBinlogDumpGTID:
		r.Statement = engine.Statement{Pattern: s.server.Engine.Harmless(reason.Of(reason.Replication))}
	case comPrepare:
		t.some = false
		t.prepares = s.prepares(f)
		s.last = t.prepares
	case comClose:
		t.some = false
		if p := s.statement(f); p != nil {
			s.forget(p.number)
			if p == s.last {
				s.last = nil
			}
		}
	case comSendLongData:
		t.some = false
		if p := s.statement(f); p != nil {
			p.pieces = true
		}
	default:
		if t.some = !harmless[kind]; t.some {
			r.Statement = s.mayDoAnything(reason.BadMessage)
		}
	}
	return t
}

// quoted writes a name in SQL, whatever the mode.
func quoted(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// harmless are the commands that change nothing in a database, and are no statements. Source: enum_server_command.
var harmless = map[byte]bool{
	comQuit: true, comFieldList: true, 0x07: true, 0x08: true, comStatistics: true, comProcessInfo: true, 0x0c: true, 0x0d: true, 0x0e: true,
	comChangeUser: true, 0x15: true, 0x1a: true, 0x1b: true, comFetch: true,
}

// mayDoAnything gives the statement that stands for one which is not understood.
func (s *session) mayDoAnything(why reason.Code) engine.Statement {
	return engine.Statement{Pattern: s.server.Engine.Unreadable(reason.Of(why))}
}

// read has the engine read a statement, and says what it changes in how others are read. A fault in that must not cost the
// client its connection: the statement then counts as one that may do anything.
func (s *session) read(f *frame, sql []byte) (st engine.Statement, x settling) {
	defer func() {
		if r := recover(); r != nil {
			s.server.Fault("a statement could not be read", r)
			st, x = s.mayDoAnything(reason.LarderFault), settling{sets: true}
		}
	}()
	fault.Point("read")
	s.resolved = false
	if !f.whole() {
		return s.mayDoAnything(reason.TooLongToAnalyse), settling{sets: true}
	}
	written := sql
	sql, ok := s.reader.Resolve(written, s.mode)
	s.resolved = ok && len(sql) > 0 && &sql[0] != &written[0]
	if !ok {
		st = engine.Statement{Pattern: s.server.Engine.Unreadable(reason.About(reason.NotUnderstood, "servers differ in how they read one of its comments or names"))}
		return st, settling{sets: true}
	}
	if s.setting > 0 { // what is under way may change how this is read
		x.settings = syntax.Settings(syntax.Of(s.mode), sql)
		x.sets = len(x.settings) > 0
		return s.mayDoAnything(reason.EarlierReply), x
	}
	st = s.eng.Read(sql)
	if facts := st.Pattern.Facts; facts.Effect&analysis.Settings != 0 {
		x = settling{sets: true, several: facts.Kind == analysis.KindSeveral, settings: syntax.Settings(syntax.Of(s.mode), sql)}
		x.assigns = syntax.Assignments(syntax.Of(s.mode), sql)
		x.foretold = s.foretells(&x, sql)
	}
	x.locks = locking(st.Pattern.Facts)
	return st, x
}

// longestKept is the longest packet of a client that is kept whole, in bytes. A longer statement may do anything.
const longestKept = 1 << 20

// keeps says how many bytes are kept of a packet of the client's, and takes room for one that does not fit into a buffer.
func (s *session) keeps(first byte, length int) int {
	switch first {
	case comChangeUser:
		s.since = s.server.Time()
		return longestLogin
	case comQuery, comPrepare, comExecute, comInitDB:
		switch {
		case s.eng == nil || length > longestKept:
		case length <= bufferSize:
			return length
		case s.server.Engine.SessionRoom().Take(2 * int64(length)): // it is withheld, too
			s.kept = 2 * int64(length)
			return length
		}
	}
	return 0
}

// keptNoLonger gives back the room of a packet.
func (s *session) keptNoLonger() {
	if s.kept > 0 {
		s.server.Engine.SessionRoom().Give(s.kept)
		s.kept = 0
	}
}

// answered tells the engine how a command has ended.
func (s *session) answered(x *command) {
	fault.Point("answered")
	switch x.own {
	case ownQuestion:
		s.answeredQuestion(x)
		s.gathersNot(x)
		return
	case ownRepayment:
		return
	}
	s.owed.count = false // also by a command that is no statement
	s.owed.warnings = s.owed.warnings && !x.failed && !x.warned
	if p := x.prepares; p != nil {
		x.prepares = nil
		if x.failed {
			s.server.Engine.SessionRoom().Give(p.size)
		} else {
			s.forget(x.number)
			p.parameters, p.number = x.parameters, x.number
			s.eng.Ended(&p.parsed)
			s.prepared[x.number] = p
		}
	}
	if x.kind == comChangeUser && !x.failed {
		s.leaves()
		i := s.login.intro
		i.database, i.charset, i.attributes = s.changing.database, s.changing.charset, s.changing.attributes
		s.begins()
	}
	s.assumed = s.assumed && !x.sets || x.resets
	was := s.eng.State()
	state := s.states()
	if x.some {
		took := s.now.Sub(x.began)
		changes := x.ticket.ChangesSettings()
		if x.ticket.MayMakeTemporary() {
			s.temporary, changes = true, true
			s.eng.ForgetSettings()
		}
		r := engine.Result{Took: took, Fetch: s.now.Sub(x.sent), Rows: x.rows, Bytes: x.bytes, Failed: x.failed, Reply: s.storable(x)}
		if x.ticket.Compare && r.Reply != nil {
			r.Sum = max(maphash.Bytes(sums, r.Reply), 1)
		}
		x.ticket.End(r, s.now)
		if len(s.queue) > 1 {
			s.eng.ReadyBehind(state)
		} else {
			s.eng.Ready(state)
		}
		if !s.heard {
			s.eng.Doubt()
		}
		if changes {
			s.changed(x)
		}
		if x.repays && !x.failed {
			s.owed = owed{}
		}
	} else if s.heard && len(s.queue) <= 1 { // it may have come behind statements
		s.eng.Ready(state)
	}
	s.gathersNot(x)
	if x.locks == unlocks && !x.failed {
		s.locked = false
	}
	if was != engine.Idle && state == engine.Idle && s.heard {
		s.once = false
	}
	s.settled(x)
	s.learns()
}

// sums is the seed of the hashes of replies.
var sums = maphash.MakeSeed()

// settled notes what a command has changed in how the session is read, and what the server has told of that, which knows
// it best.
func (s *session) settled(x *command) {
	if x.some && x.sets {
		s.setting--
	}
	switch {
	case x.failed && x.several: // it may have done some of that before
		for _, c := range x.settings {
			s.applies(x, syntax.Setting{Name: c.Name})
		}
	case x.failed:
	case x.resets:
		s.forgets()
		s.encodedAs(s.login.intro.charset)
	default:
		for _, c := range x.settings {
			s.applies(x, c)
		}
	}
	for _, c := range s.tracked {
		s.applies(x, c)
	}
	s.tracked = s.tracked[:0]
}

// applies notes that a command has given a setting a value. An empty one is not known, or is that of a session with no schema
// in use.
func (s *session) applies(x *command, c syntax.Setting) {
	switch c.Name {
	case syntax.SchemaInUse:
		s.schema = c.Value
		s.eng.Entered(x.sent, s.now)
		s.eng.ForgetSettings()
	case syntax.Encoding:
		s.encodes(c.Value)
	case syntax.SQLMode:
		if s.reader.MariaDB { // which tells it in its state
			return
		}
		if s.mode &^= syntax.ANSIQuotes; strings.Contains(c.Value, "ansi") {
			s.mode |= syntax.ANSIQuotes
		}
		s.eng.ForgetSettings()
	}
}
