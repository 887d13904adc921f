package mysql

import (
	"encoding/binary"
	"slices"
	"strconv"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
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
	x.gathers = (x.ticket.Outcome == missed || x.ticket.Compare) && !x.odd
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
		r.Busy = reason.TooLongToAnalyse
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

// says sends the client a reply, behind what is on its way there. The lock is left meanwhile.
func (s *session) says(w *way, reply []byte) {
	ok := s.flush(w)
	w.said = true
	s.mu.Unlock()
	defer s.mu.Lock()
	s.writes.Lock()
	defer s.writes.Unlock()
	if s.client.Answer(reply) != nil || !ok {
		w.broken = true
	}
}

// owed is what was answered from memory last, which the server does not know of: what it says of the statement before, such
// as how many rows that found, would be of another.
type owed struct {
	some     bool
	rows     int  // that it found
	count    bool // nothing has gone to the server since that changes the number of changed rows
	warnings bool // nor anything that takes warnings away, or has some
}

// owes notes that so many rows were answered from memory.
func (s *session) owes(rows int) { s.owed = owed{some: true, rows: rows, count: true, warnings: true} }

// repays has the server find as many rows as were answered from memory last, before a statement that asks of that. It is
// not asked the same again: that could begin a transaction, or settle what one sees.
func (s *session) repays(w *way, t *told) {
	o := &s.owed
	if !o.some || freshness.Off(freshness.RepaysLast) {
		return
	}
	asks := t.ticket.AsksOfLast()
	rows, changed := asks && t.ticket.Calls("found_rows"), asks && t.ticket.Calls("row_count")
	asks = rows || changed && o.count || asks && !rows && !changed && (o.count || o.warnings)
	switch {
	case asks && !s.part && !slices.ContainsFunc(s.queue, func(x command) bool { return x.repays }): // which most probably do not fail
		w.upTo()
		w.passes(packet(0, append([]byte{comQuery}, finding(o.rows)...)))
		s.enqueue(command{kind: comQuery, own: ownRepayment})
		*o = owed{}
	default:
		o.count, o.warnings = false, o.warnings && !t.ticket.UsesTables()
		t.repays = t.ticket.FindsRows() // if it does not fail
	}
}

// finding gives a statement that finds so many rows, has no warnings, and reads no table.
func finding(rows int) string {
	const ten = "(select 1 union all select 1 union all select 1 union all select 1 union all select 1 union all " +
		"select 1 union all select 1 union all select 1 union all select 1 union all select 1)"
	text := "/* jolly larder */ select 1 from " + ten + " a"
	if rows == 0 {
		return text + " where 0"
	}
	for n, name := 10, 'b'; n < rows; n, name = 10*n, name+1 {
		text += ", " + ten + " " + string(name)
	}
	return text + " limit " + strconv.Itoa(rows)
}

// sendsTypes has a prepared statement be run with the types of its parameters where the origin does not know them, as an
// answer from memory was given in the place of the run that told them.
func (s *session) sendsTypes(w *way, f *frame, x *command) {
	p := x.runs
	if p == nil || p.odd {
		return
	}
	if x.typed {
		if id, _ := s.id(f); id != lastPrepared {
			p.unsaid = false
		}
		return
	}
	if with := p.withTypes(f); with != nil {
		s.leaveOut(w)
		w.passes(with)
		p.unsaid = false
	}
}

// withTypes gives the packet by which a prepared statement is run, with the types of its parameters; nil if it has them,
// or the origin knows them.
func (p *prepared) withTypes(f *frame) []byte {
	nulls := (p.parameters + 7) / 8
	if !p.unsaid || len(p.types) == 0 || len(f.start) <= executeFixed+nulls || f.start[executeFixed+nulls] != 0 {
		return nil
	}
	at := executeFixed + nulls
	out := make([]byte, headerSize, headerSize+f.length+len(p.types))
	out = append(out, f.start[:at]...)
	out = append(append(out, 1), p.types...)
	out = append(out, f.start[at+1:]...)
	n := len(out) - headerSize
	out[0], out[1], out[2] = byte(n), byte(n>>8), byte(n>>16)
	return out
}

// executeFixed is how many bytes stand before the parameters of a prepared statement that is run: the command, its number,
// flags, and how often.
const executeFixed = 1 + 4 + 1 + 4

// report is the answer to who asks what became of the last statement.
func (s *session) report() []byte {
	columns, values := reportOf(s.eng.Last())
	number := byte(1)
	put := func(out, body []byte) []byte {
		out = append(out, packet(number, body)...)
		number++
		return out
	}
	out := put(nil, []byte{byte(len(columns))})
	for _, c := range columns {
		body := append([]byte("\x03def\x00\x00\x00"), byte(len(c)))
		body = append(append(body, c...), 0)
		if s.login.extensions()&extTypes != 0 {
			body = append(body, 0)
		}
		body = append(body, 0x0c, 45, 0) // utf8mb4
		body = binary.LittleEndian.AppendUint32(body, 1<<10)
		out = put(out, append(body, 0xfd, 0, 0, 0, 0, 0))
	}
	state := binary.LittleEndian.AppendUint16(nil, s.status&^(statusStateChanged|statusMoreResults|statusCursor))
	if !s.withoutEOF {
		out = put(out, append([]byte{markEOF, 0, 0}, state...))
	}
	var row []byte
	for _, v := range values {
		row = append(append(row, lengthOf(len(v))...), v...)
	}
	out = put(out, row)
	if s.withoutEOF {
		return put(out, append(append([]byte{markEOF, 0, 0}, state...), 0, 0))
	}
	return put(out, append([]byte{markEOF, 0, 0}, state...))
}

// lengthOf gives the length of a text of less than 64 KiB, as the protocol writes it.
func lengthOf(n int) []byte {
	if n < 0xfb {
		return []byte{byte(n)}
	}
	return []byte{0xfc, byte(n), byte(n >> 8)}
}
