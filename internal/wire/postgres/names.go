package postgres

import (
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
)

// The names of prepared statements are the session's, whether the protocol or SQL prepared them: code that runs on the
// server can take one away, and make another of the same name. After a statement that may do so, the server is asked
// which of those that the protocol prepared are still there: it never prepares one by itself.

// forgets follows a statement that is sent, which may say that it takes names away.
func (c *conversation) forgets(t engine.Ticket) {
	f := t.Pattern.Facts
	switch {
	case !f.Forgets:
	case f.Forgotten != "" && f.Kind == analysis.KindDeallocate:
		delete(c.statements, f.Forgotten)
		delete(c.doubtful, f.Forgotten)
	default:
		clear(c.statements)
		clear(c.doubtful)
	}
}

// doubt puts all names in doubt, if something was sent that may have changed what they stand for.
func (c *conversation) doubt() {
	n := c.eng.Renamings()
	if n == c.renamings {
		return
	}
	c.renamings = n
	if c.doubtful == nil {
		c.doubtful = make(map[string]*prepared, len(c.statements))
	}
	for name, stmt := range c.statements {
		if len(c.doubtful) < mostNames {
			c.doubtful[name] = stmt
		}
	}
	clear(c.statements)
}

// namesQuery asks which statements there are that the protocol prepared.
const namesQuery = "/* jolly larder looks which statements are prepared */ select name from pg_catalog.pg_prepared_statements where not from_sql"

// makeSure asks the server about a name that is in doubt, if the session is at rest. It is called with sending and mu
// held, and gives mu up while it waits.
func (s *session) makeSure(name []byte) {
	s.doubt()
	if len(s.doubtful) == 0 || s.doubtful[string(name)] == nil || s.startup.replication ||
		s.eng.State() != engine.Idle {
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

// prepare notes that a Parse message for a name is being sent. Until the origin has said that it worked, a name that
// stood for something else may stand for either. It is called with mu held.
func (c *conversation) prepare(name string, stmt *prepared) *parsing {
	p := &parsing{name: name, stmt: stmt, old: c.statements[name], meanwhile: stmt}
	if p.old != nil && p.old != stmt {
		p.meanwhile = c.unknown(reason.BeingPrepared)
	}
	c.doubt()
	delete(c.doubtful, name)
	if c.statements == nil || len(c.statements) > mostNames {
		c.statements = map[string]*prepared{} // those forgotten may do anything when run again
	}
	c.statements[name] = p.meanwhile
	return p
}

// parsed follows the origin's word that a named statement is prepared.
func (c *conversation) parsed(p *parsing) {
	if p == nil {
		return
	}
	if c.statements[p.name] == p.meanwhile {
		c.statements[p.name] = p.stmt // now it is certain
	}
	p.old, p.meanwhile = p.stmt, p.stmt
}

// unprepare puts back what names stand for whose Parse failed or was skipped, and works out anew what will become of
// the unnamed statement when what is still under way has come true.
func (c *conversation) unprepare(x *exchange) {
	for i := len(x.expect) - 1; i >= 0; i-- { // the last first: each puts back what was there before it
		p := x.expect[i].parse
		if p == nil || p.old == p.stmt {
			continue
		}
		c.neverPrepared(p)
		if c.statements[p.name] != p.meanwhile {
			continue
		}
		delete(c.statements, p.name)
		if p.old != nil {
			c.statements[p.name] = p.old
		}
	}
	c.here, c.there = c.hereNow, c.thereNow
	for _, y := range c.queue.all() {
		for _, e := range y.expect[y.at:] {
			e.unnamed.on(&c.here, &c.there)
		}
	}
}

// bindTo notes what a portal runs.
func (c *conversation) bindTo(portal []byte, stmt *prepared) {
	if len(portal) == 0 {
		c.bound = stmt
		return
	}
	if c.portals == nil || len(c.portals) > mostNames {
		c.portals = map[string]*prepared{}
	}
	if old := c.portals[string(portal)]; old != nil && old != stmt {
		stmt = c.unknown(reason.BoundTwice) // whether the second worked is not certain
	}
	c.portals[string(portal)] = stmt
}

// boundTo gives what a portal runs.
func (c *conversation) boundTo(portal []byte) *prepared {
	stmt := c.bound
	if len(portal) > 0 {
		stmt = c.portals[string(portal)]
	}
	if stmt == nil {
		stmt = c.unknown(reason.UnknownPortal)
	}
	return stmt
}

// meant gives the statement that a name stands for. It is called with mu held.
func (s *session) meant(name []byte) *prepared {
	stmt := s.here
	if len(name) > 0 {
		s.makeSure(name)
		stmt = s.statements[string(name)]
	}
	if stmt == nil {
		stmt = s.unknown(reason.NotPreparedHere)
	}
	return stmt
}

func (c *conversation) unknown(why reason.Code) *prepared {
	return &prepared{st: engine.Statement{Pattern: c.eng.Unreadable(reason.Of(why))}}
}

// neverPrepared has those Parse messages that are under way for a name put back, should they fail, what was there
// before another one that has failed.
func (c *conversation) neverPrepared(p *parsing) {
	for _, y := range c.queue.all() {
		for _, e := range y.expect[y.at:] {
			if q := e.parse; q != nil && q.name == p.name && q.old == p.meanwhile {
				q.old = p.old
			}
		}
	}
}
