package engine

import (
	"hash/maphash"
	"slices"
	"sync"
	"time"
)

// flights are the results that are being fetched, so that others who ask for the same at that moment can wait for them.
type flights struct{ parts [16]flightPart }

// flightPart is some of them, so that sessions do not wait for each other.
type flightPart struct {
	sync.Mutex
	by map[string]*flight
}

func (f *flights) part(key []byte) *flightPart {
	return &f.parts[maphash.Bytes(seed, key)%uint64(len(f.parts))]
}

// flight is one result that is being fetched by a session.
type flight struct {
	key  string
	done chan struct{} // closed when it has been kept, or will not be
}

// LongestWait is how long a session waits at most for what another is fetching.
const LongestWait = time.Minute

// Join is to be called for a miss before it is sent. If the same is being fetched for another session, it gives what is to be
// waited for, and for how long at most; the decision is then to be asked for again, which looks whether what was fetched is
// still true. Else it gives nil: this session fetches it, and others may wait until Finish, Landed or Close.
func (s *Session) Join(d *Decision) (done <-chan struct{}, most time.Duration) {
	most = LongestWait
	if p := s.settings.Patience; p > 0 {
		most = min(most, p/2) // the server would have ended the statement by then
	}
	part := s.e.flights.part(d.key)
	part.Lock()
	defer part.Unlock()
	if f := part.by[string(d.key)]; f != nil {
		return f.done, most
	}
	if part.by == nil {
		part.by = map[string]*flight{}
	}
	f := &flight{string(d.key), make(chan struct{})}
	part.by[f.key] = f
	d.flight = f
	s.leading = append(s.leading, f)
	return nil, 0
}

// landed lets those go on who wait for a result that this session fetched.
func (s *Session) landed(f *flight) {
	if f == nil {
		return
	}
	part := s.e.flights.part([]byte(f.key))
	part.Lock()
	defer part.Unlock()
	if part.by[f.key] == f {
		delete(part.by, f.key)
		close(f.done)
	}
	s.leading = slices.DeleteFunc(s.leading, func(x *flight) bool { return x == f })
}

// Landed lets everybody go on who waits for this session. It is to be called when nothing of it is under way, after what
// ended was handed to Finish: some of it may have been skipped after an error.
func (s *Session) Landed() {
	for len(s.leading) > 0 {
		s.landed(s.leading[0])
	}
}
