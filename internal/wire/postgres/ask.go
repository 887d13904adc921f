package postgres

import (
	"bytes"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/fault"
)

// await waits for what another session is fetching, so long at most. It is called with sending and mu held, and gives
// mu up while it waits.
func (s *session) await(done <-chan struct{}, most time.Duration) {
	select {
	case <-s.hurried: // it was meant for another statement, unless the session ends
	default:
	}
	if s.originGone || s.ending.Load() {
		return
	}
	s.awaits = true
	s.awaiting.Store(true) // until what waited has been sent
	defer func() { s.awaits = false }()
	s.outside(func() {
		timer := time.NewTimer(most)
		defer timer.Stop()
		fault.Point("await")
		select {
		case <-done:
		case <-s.hurried:
		case <-timer.C:
		}
	})
}

// hurry ends the waiting for another session's result.
func (s *session) hurry() {
	select {
	case s.hurried <- struct{}{}:
	default:
	}
}

// longestHurry bounds how long a request to cancel waits for the statement that it is for to be sent.
const longestHurry = time.Second

// hurryOn has the session send what waits for another session's result, and returns when that has been sent or a second
// has passed. No lock is taken: the session may hold any of its own while it writes to a client that does not read.
func (s *session) hurryOn() {
	for end := time.Now().Add(longestHurry); s.awaiting.Load() && time.Now().Before(end); {
		s.hurry()
		time.Sleep(time.Millisecond)
	}
}

// mayDependOn says whether the decision on a statement may rest on what is being asked.
func (s *session) mayDependOn(p *engine.Pattern) bool {
	return !s.eng.Knows() && (s.server.Engine.MayCache(p) || len(p.Facts.Writes) > 0 && s.server.Engine.Rules().Caches())
}

// awaitQuestions waits for the answers to the larder's own questions that stand before everything else.
func (s *session) awaitQuestions() {
	for s.queue.len() > 0 && s.queue.first().question != nil && !s.originGone {
		q := s.queue.first().question
		s.outside(func() { <-q.done })
	}
}

// ask puts questions to the origin. It is called with sending and mu held, and gives mu up while it writes.
func (s *session) ask(need engine.Need) {
	need = s.eng.Asking(need, s.server.Time())
	if need&engine.NeedCatalog != 0 && s.settings.Catalog != nil {
		need &^= engine.NeedCatalog
		s.aside(s.readCatalog)
	}
	var msg []byte
	var questions []*question
	for _, n := range []engine.Need{engine.NeedSettings, engine.NeedCatalog} {
		if need&n == 0 {
			continue
		}
		var list [][]string
		if n == engine.NeedCatalog {
			for _, q := range s.eng.CatalogQuestions() {
				list = append(list, aboutCatalog(q.(schema.Question), s.parameters["server_version"]))
			}
		} else {
			list = [][]string{{s.asksSettings()}}
		}
		for _, statements := range list {
			questions = append(questions, &question{need: n, done: make(chan struct{})})
			msg = append(msg, questionMessages(statements...)...)
		}
	}
	if msg != nil {
		s.put(questions, msg)
	}
}

// aboutCatalog gives the statements of a question about the catalog to a server of a version, which are to be one
// transaction.
func aboutCatalog(q schema.Question, version string) []string {
	sql := catalogQuestion(q, majorVersion(version))
	if q.Kind == schema.Plain { // of a server that may have no planner to speak of
		return []string{sql}
	}
	return []string{planningQuery, sql}
}

// put puts questions. It is called with sending and mu held, and gives mu up while it writes.
func (s *session) put(questions []*question, msg []byte) {
	for _, q := range questions {
		x := &exchange{closed: true, synced: true, question: q}
		if s.unsent && s.queue.len() > 0 && s.queue.last().question == nil {
			s.queue.pushBefore(x)
		} else {
			s.queue.push(x)
		}
	}
	written := false
	defer func() {
		if !written { // nobody would ever answer it
			s.cut(errAsking)
		}
	}()
	s.outside(func() { written = s.write(msg) })
}

// askBefore asks what is to be known of what comes behind a statement that is about to be sent.
func (s *session) askBefore(t engine.Ticket) {
	if t.Ahead != 0 {
		s.ask(t.Ahead)
	}
}

// askAhead asks what decisions to come will rest on, right after the login or later, when the session is at rest
// outside any transaction. A client that was faster has begun one, perhaps, in which a query would be one too many.
func (s *session) askAhead() {
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	fault.Point("ask ahead")
	if s.login || s.clientGone || s.raw || s.startup.replication || s.queue.len() > 0 || s.mid ||
		s.eng.State() != engine.Idle {
		return
	}
	if n := s.eng.Wants(s.server.Time()); n != 0 {
		s.ask(n)
	}
}

// question is something the larder itself asks the origin over a client's connection, in a quiet moment.
type question struct {
	need engine.Need
	sure func(rows [][]string) // takes the answer to another question
	rows [][]string
	bad  bool
	lack bool   // the server does not know what it was asked for
	why  string // in the server's words
	done chan struct{}
	over bool // done is closed
}

func (q *question) end() {
	if !q.over {
		q.over = true
		close(q.done)
	}
}

// questionName names the statement and the portal by which the larder asks, so that none of the client's is touched.
const questionName = "jolly larder asks"

// questionMessages asks one thing, in one statement or several that are one transaction, and leaves nothing behind, but
// where it is cut short: a server that has cancelled it skips its end. So it begins by clearing away what another may
// have left.
func questionMessages(statements ...string) []byte {
	const name = questionName
	messages := []pgproto3.Message{&pgproto3.Close{ObjectType: 'S', Name: name}}
	for _, sql := range statements {
		messages = append(
			messages,
			&pgproto3.Parse{Name: name, Query: sql},
			&pgproto3.Bind{DestinationPortal: name, PreparedStatement: name},
			&pgproto3.Execute{Portal: name},
			&pgproto3.Close{ObjectType: 'P', Name: name},
			&pgproto3.Close{ObjectType: 'S', Name: name},
		)
	}
	return encoded(nil, append(messages, &pgproto3.Sync{})...)
}

// answered takes a part of the answer to a question of the larder's own.
func (s *session) answered(x *exchange, kind byte, body []byte, now time.Time) {
	q := x.question
	fault.Point("answered")
	switch kind {
	case 'D':
		row, ok := textRow(body)
		if !ok {
			q.bad = true
		}
		q.rows = append(q.rows, row)
	case 'E':
		q.bad, q.lack, q.why = true, q.lack || lacks(body), messageOf(body)
	case 'Z':
		s.queue.pop()
		if q.sure != nil && !q.bad {
			q.sure(q.rows)
		}
		switch q.need {
		case engine.NeedSettings:
			if set, ok := settings(q.rows); ok && !q.bad {
				s.eng.Learned(set)
			} else if q.lack {
				s.plainSettings = true
			}
		case engine.NeedCatalog:
			s.answeredCatalog(q, now)
		}
		q.end()
	}
}

// answeredCatalog takes the answer to a question about the catalog.
func (s *session) answeredCatalog(q *question, now time.Time) {
	rows, strange := catalogRows(q.rows)
	log := s.server.Logger().With("database", s.eng.Database, "user", s.eng.User, "application", s.eng.Application)
	switch {
	case !s.eng.AsksCatalog(): // one before it in the same breath went wrong
	case !q.bad && !strange:
		if end := s.eng.LearnedPart(rows, now); end != nil {
			s.aside(func() { end(s.server.Time()) })
		}
	case !q.bad:
		log.Info(
			"this session is not asked about the catalog: its search path lets other schemas stand before the system's",
		)
		s.eng.Unfit(now)
	case q.lack && !s.eng.PlainCatalog():
		log.Warn(
			"this server does not describe its schema whole: views, partitions, functions and the like are not followed",
			"why",
			q.why,
		)
		s.eng.TakePlainCatalog(now)
	default:
		log.Warn(
			"the catalog could not be read over this session; nothing is cached until another session reads it",
			"why",
			q.why,
		)
		s.eng.LearnedCatalog(nil, now)
	}
	s.rest(now)
}

// messageOf gives the message of an error.
func messageOf(body []byte) string {
	for len(body) > 1 {
		value, rest, ok := bytes.Cut(body[1:], []byte{0})
		if body[0] == 'M' {
			return string(value)
		}
		if !ok {
			break
		}
		body = rest
	}
	return ""
}

// lacking says whether an error's code means that the server does not know what it was asked for, and not that it had
// no time for it or the like. Source: class 42 of the manual's "PostgreSQL Error Codes", and feature_not_supported.
func lacking(code string) bool {
	taken := code == "42P05" || code == "42P03" // names that are there already
	return strings.HasPrefix(code, "42") && !taken || code == "0A000"
}

// lacks is lacking for the body of an error message.
func lacks(body []byte) bool {
	for len(body) > 1 {
		value, rest, ok := bytes.Cut(body[1:], []byte{0})
		if body[0] == 'C' {
			return lacking(string(value))
		}
		if !ok {
			return false
		}
		body = rest
	}
	return false
}
