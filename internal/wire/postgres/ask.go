package postgres

import (
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
)

// decide asks the engine, and puts the engine's questions to the origin first where it has any. It is called with
// sending and mu held, and gives mu up while waiting for answers.
func (s *session) decide(r *engine.Request, now time.Time) engine.Decision {
	for tries := 0; ; tries++ {
		if rule := r.Pattern.Rule(); rule != nil && rule.Verdict == rules.Keep {
			s.awaitQuestions()
		}
		if s.queue.len() > 0 || s.mid {
			r.NoAsking = true
		}
		if tries > 0 {
			r.NoAsking = true
		}
		d := s.eng.Decide(r, now)
		if d.Need == 0 {
			return d
		}
		s.ask(d.Need)
	}
}

// awaitQuestions waits while nothing but questions of the larder's own is under way.
func (s *session) awaitQuestions() {
	for s.queue.len() > 0 && !s.originGone {
		for _, x := range s.queue.all() {
			if x.question == nil {
				return
			}
		}
		q := s.queue.last().question
		s.mu.Unlock()
		<-q.done
		s.mu.Lock()
	}
}

// ask puts questions to the origin. It is called with sending and mu held, and gives mu up while it writes.
func (s *session) ask(need engine.Need) {
	need = s.eng.Asking(need, s.server.now())
	var msg []byte
	for _, n := range []engine.Need{engine.NeedSettings, engine.NeedCatalog} {
		if need&n == 0 {
			continue
		}
		s.queue.push(&exchange{closed: true, synced: true, question: &question{need: n, done: make(chan struct{})}})
		msg = append(msg, questionMessages(questionSQL[n])...)
	}
	if msg == nil {
		return
	}
	s.mu.Unlock()
	s.write(msg)
	s.mu.Lock()
}

// askAhead asks what decisions to come will rest on. Right after the login the questions wait in the origin's socket
// until it is ready, so that the client's first statement waits for no round trip; later they are put only when the
// session is at rest, outside any transaction.
func (s *session) askAhead(login bool) {
	s.sending.Lock()
	defer s.sending.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.clientGone || s.raw || s.replication != notReplication || !login && (s.queue.len() > 0 || s.eng.State() != engine.Idle) {
		return
	}
	if n := s.eng.Wants(s.server.now()); n != 0 {
		s.ask(n)
	}
}

// question is something the larder itself asks the origin over a client's connection, in a quiet moment.
type question struct {
	need engine.Need
	rows [][]string
	bad  bool
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

// questionMessages asks one thing and leaves nothing behind.
func questionMessages(sql string) []byte {
	name := []byte(questionName + "\x00")
	out := frame(nil, 'P', name, []byte(sql+"\x00"), []byte{0, 0})
	out = frame(out, 'B', name, name, []byte{0, 0, 0, 0, 0, 0})
	out = frame(out, 'E', name, []byte{0, 0, 0, 0})
	out = frame(out, 'C', []byte{'P'}, name)
	out = frame(out, 'C', []byte{'S'}, name)
	return frame(out, 'S')
}

var questionSQL = map[engine.Need]string{engine.NeedSettings: settingsQuery, engine.NeedCatalog: catalogQuery}

// answered takes a part of the answer to a question of the larder's own.
func (s *session) answered(x *exchange, kind byte, body []byte, now time.Time) {
	q := x.question
	switch kind {
	case 'D':
		row, ok := textRow(body)
		if !ok {
			q.bad = true
		}
		q.rows = append(q.rows, row)
	case 'E':
		q.bad = true
	case 'Z':
		s.queue.pop()
		switch q.need {
		case engine.NeedSettings:
			if set, ok := settings(q.rows); ok && !q.bad {
				s.eng.Learned(set)
			}
		case engine.NeedCatalog:
			if c, ok := schema(q.rows); ok && !q.bad {
				s.eng.LearnedCatalog(c, now)
			} else {
				s.server.log().Warn("the catalog could not be read, so nothing is kept", "database", s.eng.Database)
				s.eng.LearnedCatalog(nil, now)
			}
		}
		q.end()
	}
}
