package mysql

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	dialect "jollylarder/internal/core/dialect/mysql"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// A session's settings are a part of the keys of its results. The server is asked for them at the end of a login, and
// again right before a read that could be answered from memory when something may have changed them: what the question
// itself leaves behind, as how many rows it has found, that read replaces. What a SET does to given settings is remembered,
// so that the next session which does the same is not asked.

// missed is what a read is that is fetched to be kept.
const missed = ledger.Miss

// knowing is what is known of a session's settings. It is used with the session's lock held.
type knowing struct {
	values     []string // in the order of the question's; nil while they are not known
	transition transition
	again      bool   // the question is to be asked again, without a part that the server does not know
	temporary  bool   // the session may have temporary tables
	once       bool   // the isolation of its next transaction has been set
	locked     bool   // it has locked tables
	unreviewed bool   // it has set something of which it is not known what that does
	mute       bool   // its server does not tell them
	interrupts []byte // what it said instead, when it was told to end what it does
}

// lock is what a statement does about tables that are locked.
type lock uint8

const (
	noLock lock = iota
	locks
	unlocks
)

// locking says what a statement does about locked tables.
func locking(f *analysis.Facts) lock {
	switch {
	case f.Kind == analysis.KindLock && f.Definition == "unlock tables":
		return unlocks
	case f.Kind == analysis.KindLock, f.Kind == analysis.KindVacuum && f.Definition == "flush":
		return locks
	}
	return noLock
}

// What the question asks for beside the variables, in this order.
const (
	asksCaching = iota
	asksSchema
	asksAccount
	asksRoles
	asksPatience
	asksServer
	asksIsolation
	asksVariables // from here on
)

// unknowns are the parts of the question that a server does not know.
type unknowns struct {
	sync.Mutex
	names map[string]bool
}

// question gives the question for a session's settings. Each part is a column. What the server does not know is empty.
func (s *Server) question(v syntax.Server) string {
	s.unknown.Lock()
	defer s.unknown.Unlock()
	variable := func(name string) string {
		if s.unknown.names[name] {
			return "''"
		}
		return "@@" + name
	}
	patience, id, isolation := named(v)
	parts := []string{"@" + facts.OptOut, "database()", "current_user()", "current_role()", variable(patience), "concat_ws(' ', " + variable(id) + ", @@global.server_id)", variable(isolation)}
	for _, name := range syntax.Variables {
		parts = append(parts, variable(name))
	}
	return "select " + strings.Join(parts, ", ")
}

// named gives what a server calls the variable that bounds how long a statement may take, the server's number, and the
// isolation.
func named(v syntax.Server) (patience, id, isolation string) {
	if v.MariaDB {
		return "max_statement_time", "server_uid", "tx_isolation"
	}
	return "max_execution_time", "server_uuid", "transaction_isolation"
}

// doesNotKnow notes that a server does not know a part of the question, by what it says of that. It is false for another
// error.
func (s *Server) doesNotKnow(failure []byte) bool {
	_, name, ok := strings.Cut(string(failure), "Unknown system variable '")
	name, _, ends := strings.Cut(name, "'")
	if !ok || !ends {
		return false
	}
	s.unknown.Lock()
	defer s.unknown.Unlock()
	if s.unknown.names == nil {
		s.unknown.names = map[string]bool{}
	}
	again := s.unknown.names[name]
	s.unknown.names[name] = true
	return !again
}

// isolations are the names that servers have for them.
var isolations = map[string]analysis.Isolation{
	"READ-UNCOMMITTED": analysis.ReadUncommitted, "READ-COMMITTED": analysis.ReadCommitted, "REPEATABLE-READ": analysis.RepeatableRead,
	"SERIALIZABLE": analysis.Serializable,
}

// settings gives what the engine is told of the session.
func (s *session) settings() engine.Settings {
	v := s.values
	set := engine.Settings{
		Roles:     v[asksAccount:asksPatience:asksPatience],
		Values:    append(slices.Clone(v[asksPatience:]), s.schema, s.form()),
		Isolation: isolations[v[asksIsolation]],
		BlockEach: s.variable("autocommit") != "1",
		Temporary: s.temporary,
		LeftOut:   strings.EqualFold(v[asksCaching], "off"),
		Patience:  s.patience(v[asksPatience]),
		Account:   v[asksAccount],
		Server:    s.server.starting.of(v[asksServer]),
	}
	if s.schema != "" {
		set.Path = []string{s.schema}
	}
	switch {
	case s.unreviewed:
		set.Strange = reason.UnreviewedSetting
	case s.variable("sql_auto_is_null") == "1": // then IS NULL asks for the number that was given last
		set.Strange = reason.AsksOfEarlier
	}
	return set
}

// form is what of the client's capabilities decides in which form it is answered.
func (s *session) form() string {
	i := s.login.intro
	return fmt.Sprintf("%x %x", i.caps&s.login.greeting.caps&^(capTLS|capAttributes|capPluginAuth|capLengthEncoded|capDatabase|capSecure), s.login.extensions())
}

// variable gives the value of one of the variables of the question.
func (s *session) variable(name string) string { return variable(s.values[asksVariables:], name) }

func variable(values []string, name string) string {
	return values[slices.Index(syntax.Variables, name)]
}

// complete says whether these values are an answer to the question.
func complete(values []string) bool { return len(values) == asksVariables+len(syntax.Variables) }

// patience reads how long a statement may take.
func (s *session) patience(value string) time.Duration {
	n, _ := strconv.ParseFloat(value, 64)
	if s.reader.MariaDB {
		return time.Duration(n * float64(time.Second))
	}
	return time.Duration(n * float64(time.Millisecond))
}

// questions asks the origin for the session's settings, and waits for the answer. It is false if the origin has gone.
func (s *session) questions(w *way) bool {
	for {
		if s.eng.Asking(engine.NeedSettings, s.now)&engine.NeedSettings == 0 {
			return true
		}
		x := command{kind: comQuery, own: ownQuestion}
		x.gathers = true
		s.again = false
		s.enqueue(x)
		w.upTo()
		w.passes(packet(0, append([]byte{comQuery}, s.server.question(s.reader)...)))
		s.waits(w, s.learnt, s.server.Settings().LostTimeout)
		if w.broken {
			return false
		}
		if len(s.queue) > 0 && s.lost == "" { // it takes too long: the client must not wait for that
			s.lose("the server did not answer what its session's settings are")
			s.tells()
			return true
		}
		if !s.again {
			return true
		}
	}
}

// answeredQuestion takes the answer to the question for the session's settings.
func (s *session) answeredQuestion(x *command) {
	if s.again = s.learnsValues(x.reply); s.values == nil {
		return
	}
	s.transition.ends(s.server, s.values)
	s.transition = transition{}
	s.inUse()
	s.learns()
}

// inUse takes from the settings which schema is in use, and the character set that the client writes in.
func (s *session) inUse() {
	s.encodes(s.variable("character_set_client"))
	if s.schema = s.values[asksSchema]; s.schema == null {
		s.schema = ""
	}
}

// null stands for a value that is NULL.
const null = "\x00"

// learnsValues reads the answer to the question. It says whether to ask again.
func (s *session) learnsValues(reply []byte) (again bool) {
	values, failure, err := readRow(bytes.NewReader(reply), s.withoutEOF)
	switch {
	case len(failure) > 2 && binary.LittleEndian.Uint16(failure[1:]) == codeInterrupted:
		s.interrupts = failure // which was meant for the client's statement
		return false
	case failure != nil:
		return s.server.doesNotKnow(failure)
	case err == nil && complete(values):
		s.values = values
	}
	return false
}

// codeInterrupted is the error of a statement that was ended by KILL QUERY. Source: the server's error numbers.
const codeInterrupted = 1317

// readRow reads a result of one row, or an error. A value that is NULL is not the empty text.
func readRow(r io.Reader, withoutEOF bool) (values []string, failure []byte, err error) {
	_, body, err := readPacket(r)
	if err != nil {
		return nil, nil, err
	}
	if len(body) > 0 && body[0] == markError {
		return nil, body, nil
	}
	columns, _, ok := dialect.Number(body)
	if !ok {
		return nil, nil, errProtocol
	}
	skip := int(columns)
	if !withoutEOF {
		skip++
	}
	for range skip {
		if _, _, err := readPacket(r); err != nil {
			return nil, nil, err
		}
	}
	_, row, err := readPacket(r)
	if err != nil {
		return nil, nil, err
	}
	for len(row) > 0 {
		if row[0] == markInfile { // which is NULL in a row
			values, row = append(values, null), row[1:]
			continue
		}
		value, rest, ok := dialect.Counted(row)
		if !ok {
			return nil, nil, errProtocol
		}
		values, row = append(values, string(value)), rest
	}
	_, _, err = readPacket(r)
	return values, nil, err
}

// transition is a SET of which it is not known yet what it does to settings.
type transition struct {
	before []string
	text   string
}

// foretold is what a statement does to settings, as far as it is known before.
type foretold struct {
	transition
	after []string
}

// transitions are what SETs have done to settings.
type transitions struct {
	sync.Mutex
	after map[string][]string
}

// Bounds of what is remembered of them.
const (
	mostTransitions   = 1 << 10
	longestTransition = 1 << 10
)

func (t *transition) key() string { return strings.Join(t.before, "\x00") + "\x00" + t.text }

// ends notes what came of it.
func (t *transition) ends(s *Server, after []string) {
	if t.text == "" {
		return
	}
	m := &s.transitions
	m.Lock()
	defer m.Unlock()
	if m.after == nil || len(m.after) >= mostTransitions {
		m.after = map[string][]string{}
	}
	m.after[t.key()] = after
}

// foretells says what a statement does to the session's settings, if that is known.
func (s *session) foretells(x *settling, sql []byte) (f foretold) {
	if len(s.values) == 0 || len(s.queue) > 0 || x.several {
		return f
	}
	if len(x.settings) == 1 && x.settings[0].Name == syntax.SchemaInUse { // which stands apart
		f.after = s.values
		return f
	}
	if !x.assigns.Literal || len(sql) > longestTransition {
		return f
	}
	f.transition = transition{before: s.values, text: string(sql)}
	m := &s.server.transitions
	m.Lock()
	defer m.Unlock()
	f.after = m.after[f.key()]
	return f
}

// changed follows a statement that may have changed settings.
func (s *session) changed(x *command) {
	s.values, s.transition = nil, transition{}
	switch {
	case x.resets && !x.failed:
		s.knowing = knowing{}
		s.owed = owed{}
	case x.failed:
	case x.foretold.after != nil:
		s.values = x.foretold.after
	default:
		s.transition = x.foretold.transition
	}
}
