package postgres

import (
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
)

// decide asks the engine, and puts the engine's questions to the origin first where it has any. It is called with
// sending and mu held, and gives mu up while waiting for answers.
func (s *session) decide(r engine.Request, now time.Time) engine.Decision {
	for tries := 0; ; tries++ {
		if rule := r.Pattern.Rule(); rule != nil && rule.Verdict == rules.Keep {
			s.awaitQuestions()
		}
		if len(s.queue) > 0 || s.mid {
			if r.Busy == "" {
				r.Busy = whyEarlier
			}
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
	for len(s.queue) > 0 && !s.originGone {
		for _, x := range s.queue {
			if x.question == nil {
				return
			}
		}
		q := s.queue[len(s.queue)-1].question
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
		s.queue = append(s.queue, &exchange{closed: true, question: &question{need: n, done: make(chan struct{})}})
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
	if s.clientGone || !login && (len(s.queue) > 0 || s.eng.State() != engine.Idle) {
		return
	}
	if n := s.eng.Wants(s.server.now()); n != 0 {
		s.ask(n)
	}
}
