package mysql

import (
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/fault"
)

// A statement is answered from memory when nothing is under way. Before that the origin may be asked for the session's
// settings, or another session may be waited for that fetches the same.

// answering is what a session needs to answer from memory. It is used with the session's lock held, but for learnt.
type answering struct {
	inbound framer
	way     way
	held    []byte        // what has come of a packet that does not go on before all of it is there
	part    bool          // a packet has gone on in part
	learnt  chan struct{} // told that the reply to a question of the larder's own has come
	scratch []byte        // for replies that are put right
	owed    owed
}

// commands takes a command of the client's: it is answered from memory, or goes on.
func (s *session) commands(w *way, f *frame) {
	kind, some := f.first()
	if !some || f.number != 0 || s.eng == nil || s.blind {
		s.goesOn(w, f, told{})
		return
	}
	var t told
	answered := false
	s.telling(func() { t, answered = s.decides(w, f, kind) })
	switch {
	case answered:
		return
	case w.broken:
		if t.some {
			t.ticket.Drop()
		}
		return
	}
	s.goesOn(w, f, t)
}

// goesOn has a command go on to the origin, with what is owed to that before.
func (s *session) goesOn(w *way, f *frame, t told) {
	if t.some && !s.blind && s.lost == "" {
		s.telling(func() { s.repays(w, &t) })
	}
	before := len(s.queue)
	s.conversation.fromClient(f)
	switch {
	case s.lost != "":
		if t.some {
			s.telling(t.ticket.Drop)
		}
		return
	case s.conversation.changing():
		s.changes(f)
	}
	if len(s.queue) == before { // it is not answered
		return
	}
	x := &s.queue[len(s.queue)-1]
	x.told = t
	if t.some {
		s.telling(func() { s.sends(w, f, x) })
	}
}

// sends tells the engine that a statement goes to the origin.
func (s *session) sends(w *way, f *frame, x *command) {
	fault.Point("sends")
	x.ticket.Sent(s.now)
	x.sent = s.now
	x.gathers = (x.ticket.Outcome == missed || x.ticket.Compare) && !x.odd
	x.enters = x.ticket.Enters()
	if x.sets {
		s.setting++
	}
	if x.locks == locks {
		s.locked = true
	}
	s.once = s.once || x.assigns.Once
	if x.assigns.Unreviewed && !s.unreviewed {
		s.unreviewed = true
		s.eng.ForgetSettings()
	}
	if x.runs != nil {
		s.eng.Used(&x.runs.parsed)
	}
	s.sendsTypes(w, f, x)
}

// free says whether nothing is under way, so that a statement can be answered before it goes on.
func (s *session) free() bool {
	return len(s.queue) == 0 && !s.part && !s.gone && !s.ending.Load()
}

// decides has the engine decide on a command, and answers it if it can be. What is told of it is for when it goes on.
func (s *session) decides(w *way, f *frame, kind byte) (t told, answered bool) {
	r := engine.Request{Shape: 'q'}
	t = s.reads(&r, f, kind)
	if !t.some {
		return t, false
	}
	free := s.free()
	if !free && r.Busy == reason.None {
		r.Busy = reason.EarlierReply
	}
	if r.Busy == reason.None && !r.Pattern.AsksForLast() {
		r.Busy = s.busy()
	}
	asks := free && !s.mute && r.Pattern.Facts.Kind == analysis.KindSelect && f.length <= bufferSize
	r.NoAsking, r.NoWaiting = !asks, !asks
	if f.length > bufferSize && r.Busy == reason.None {
		r.Busy = reason.TooLong
	}
	t.began = s.now
	t.ticket = s.eng.Begin(&r, s.now)
	for {
		switch t.ticket.Step() {
		case engine.StepAnswer:
			if s.answers(w, f, &t) {
				return t, true
			}
			t.ticket.Drop()
			r.Busy = reason.LarderFault
			t.ticket = s.eng.Begin(&r, s.now)
			continue
		case engine.StepAsk:
			if !s.questions(w) || s.lost != "" || s.blind {
				t.ticket.Drop()
				t.some = false
				return t, false
			}
			if failure := s.interrupts; failure != nil {
				s.interrupts = nil
				t.ticket.Drop()
				s.leaveOut(w)
				s.says(w, packet(1, failure))
				return t, true
			}
			s.mute = !s.eng.Knows() // it could not tell
			r.NoAsking = s.mute
		case engine.StepWait:
			done, most := t.ticket.Done()
			s.waits(w, done, most)
			if w.broken {
				return t, false
			}
		case engine.StepForward:
			return t, false
		}
		t.ticket.Again(&r, s.now)
	}
}

// busy gives why nothing can be answered at this moment, for what the session has done; None if it can.
func (s *session) busy() reason.Code {
	switch {
	case s.once:
		return reason.OneTransaction
	case s.locked:
		return reason.TablesLocked
	}
	return reason.None
}

// waits has the session wait for another, or some time. What it has been sent before goes on.
func (s *session) waits(w *way, done <-chan struct{}, most time.Duration) {
	w.upTo()
	if !s.flush(w) {
		return
	}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.now = s.server.Time()
	}()
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case <-done:
	case <-timer.C:
	case <-s.ended:
		w.broken = true
	}
}

// answers answers a statement from memory. It is false if that turns out to be impossible.
func (s *session) answers(w *way, f *frame, t *told) bool {
	fault.Point("answers")
	reply, rows := []byte(nil), 1
	if t.ticket.Own {
		reply = s.report()
	} else {
		if reply, rows = s.inState(t.ticket.Entry.Reply), t.ticket.Entry.Rows; reply == nil {
			return false
		}
		s.owes(rows)
	}
	now := s.server.Time()
	t.ticket.End(engine.Result{Took: now.Sub(t.began), Rows: rows, Bytes: len(reply)}, now)
	s.active = now
	s.leaveOut(w)
	s.says(w, reply)
	return true
}

// largeScratch is how many bytes of scratch are held on to.
const largeScratch = 16 << 10

// says sends the client a reply, behind what is on its way there. The lock is left meanwhile.
func (s *session) says(w *way, reply []byte) {
	ok := s.flush(w)
	w.said = true
	defer func() {
		if cap(s.scratch) > largeScratch {
			s.scratch = nil
		}
	}()
	s.mu.Unlock()
	defer s.mu.Lock()
	s.writes.Lock()
	defer s.writes.Unlock()
	if s.client.Answer(reply) != nil || !ok {
		w.broken = true
	}
}
