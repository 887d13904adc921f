package postgres

import (
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
)

// The names of prepared statements are the session's, whether the protocol or SQL prepared them: code that runs on the
// server can take one away, and make another of the same name. After a statement that may do so, the server is asked which
// of those that the protocol prepared are still there: it never prepares one by itself.

// forgets follows a statement that is sent, which may say that it takes names away.
func (s *session) forgets(t engine.Ticket) {
	f := t.Pattern.Facts
	switch {
	case !f.Forgets:
	case f.Forgotten != "" && f.Kind == analysis.KindDeallocate:
		delete(s.statements, f.Forgotten)
		delete(s.doubtful, f.Forgotten)
	default:
		clear(s.statements)
		clear(s.doubtful)
	}
}

// doubt puts all names in doubt, if something was sent that may have changed what they stand for.
func (s *session) doubt() {
	n := s.eng.Renamings()
	if n == s.renamings {
		return
	}
	s.renamings = n
	if s.doubtful == nil {
		s.doubtful = make(map[string]*prepared, len(s.statements))
	}
	for name, stmt := range s.statements {
		if len(s.doubtful) < mostNames {
			s.doubtful[name] = stmt
		}
	}
	clear(s.statements)
}

// namesQuery asks which statements there are that the protocol prepared.
const namesQuery = "/* jolly larder looks which statements are prepared */ select name from pg_catalog.pg_prepared_statements where not from_sql"

// makeSure asks the server about a name that is in doubt, if the session is at rest. It is called with sending and mu held,
// and gives mu up while it waits.
func (s *session) makeSure(name []byte) {
	s.doubt()
	if len(s.doubtful) == 0 || s.doubtful[string(name)] == nil || s.startup.replication || s.eng.State() != engine.Idle {
		return
	}
	s.awaitQuestions()
	if !s.mayAsk() || s.originGone || s.clientGone {
		return
	}
	at := s.renamings
	q := &question{done: make(chan struct{}), sure: func(rows [][]string) {
		if at != s.eng.Renamings() {
			return
		}
		for _, row := range rows {
			if stmt := s.doubtful[row[0]]; stmt != nil && s.statements[row[0]] == nil {
				s.statements[row[0]] = stmt
			}
		}
	}}
	s.put([]*question{q}, questionMessages(namesQuery))
	s.awaitQuestions()
	if at == s.eng.Renamings() {
		clear(s.doubtful) // of those that are not there any more the server will say so itself
	}
}
