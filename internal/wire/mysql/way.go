package mysql

// way is how far the bytes have come that were read from the client at once.
type way struct {
	b      []byte
	at     int      // b[at:] was not looked at yet
	begin  int      // where in b the packet begins that is being looked at
	start  int      // b[start:at] goes on, or is withheld
	out    [][]byte // what goes on before that
	broken bool     // the origin has gone
	said   bool     // the client has been answered
}

func (w *way) passes(b []byte) {
	if len(b) > 0 {
		w.out = append(w.out, b)
	}
}

// upTo has everything go on that comes before the packet that is being looked at.
func (w *way) upTo() {
	if w.begin > w.start {
		w.passes(w.b[w.start:w.begin])
		w.start = w.begin
	}
}

// leaveOut has a packet not go on, which is all of what was withheld and has come by now.
func (s *session) leaveOut(w *way) {
	if len(s.held) == 0 {
		w.upTo()
	}
	s.held, w.start = s.held[:0], w.at
}

// withholds says whether a packet that has come in part does not go on before all of it is there: it may be answered from
// memory then, or something may have to come before it.
func (s *session) withholds(f *framer) bool {
	if s.eng == nil || s.blind || s.lost != "" || s.infile || s.conversation.changing() || f.between() {
		return false
	}
	switch {
	case s.part, f.goes:
		return false
	case len(f.start) == 0: // its header, or less
		return true
	}
	return (f.start[0] == comQuery || f.start[0] == comExecute) && (f.length <= bufferSize || s.kept > 0)
}

// withhold keeps what has come of a packet.
func (s *session) withhold(w *way) {
	if len(s.held) == 0 {
		w.upTo()
	}
	s.held = append(s.held, w.b[w.start:w.at]...)
	w.start = w.at
}

// withholdsNot has what was withheld go on.
func (s *session) withholdsNot(w *way) {
	if len(s.held) > 0 {
		w.passes(s.held)
		s.held = nil
	}
}

// flush sends on what is to go on, with the lock left meanwhile: the origin may not take it before its own answers are
// read. It is false if the origin has gone.
func (s *session) flush(w *way) (ok bool) {
	if len(w.out) == 0 {
		return true
	}
	s.mu.Unlock()
	defer s.mu.Lock()
	for _, b := range w.out {
		if _, err := s.origin.Write(b); err != nil {
			w.broken = true
			return false
		}
	}
	clear(w.out)
	w.out = w.out[:0]
	return true
}
