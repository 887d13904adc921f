package engine

import (
	"hash/maphash"
	"slices"
	"sync"
	"sync/atomic"
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

// join has a ticket fetch a result for others too, or gives what is to be waited for if another session fetches it
// already.
func (s *Session) join(t *ticket) (done <-chan struct{}) {
	f, first := s.e.flights.join(t.key)
	if !first {
		return f.done
	}
	t.flight = f
	s.leading.Lock()
	defer s.leading.Unlock()
	s.leading.list = append(s.leading.list, f)
	s.leading.some.Store(true)
	return nil
}

// patience is how long the session may wait for what another fetches.
func (s *Session) patience() time.Duration {
	switch p := s.settings.Patience; {
	case s.hasty:
		return time.Millisecond
	case p > 0:
		return min(LongestWait, p/2) // the server would have ended the statement by then
	}
	return LongestWait
}

// landed lets those go on who wait for a result that this session fetched.
func (s *Session) landed(f *flight) {
	if f == nil {
		return
	}
	s.e.flights.ended(f)
	s.leading.Lock()
	defer s.leading.Unlock()
	s.leading.list = slices.DeleteFunc(s.leading.list, func(x *flight) bool { return x == f })
	s.leading.some.Store(len(s.leading.list) > 0)
}

// join gives the flight of a key, which is a new one for who comes first.
func (fs *flights) join(key []byte) (f *flight, first bool) {
	part := fs.part(key)
	part.Lock()
	defer part.Unlock()
	if f := part.by[string(key)]; f != nil {
		return f, false
	}
	if part.by == nil {
		part.by = map[string]*flight{}
	}
	f = &flight{string(key), make(chan struct{})}
	part.by[f.key] = f
	return f, true
}

// ended lets those go on who wait for a flight.
func (fs *flights) ended(f *flight) {
	part := fs.part([]byte(f.key))
	part.Lock()
	defer part.Unlock()
	if part.by[f.key] == f {
		delete(part.by, f.key)
		close(f.done)
	}
}

// leading is what a session fetches that others may wait for. It has a lock of its own, so that they can be let go at
// any time.
type leading struct {
	sync.Mutex // taken before a part's
	list       []*flight
	some       atomic.Bool // there are any
}

// Leads says whether others may be waiting for what the session fetches.
func (s *Session) Leads() bool { return s.leading.some.Load() }

// LetGo lets everybody go on who waits for this session, at any time and from any goroutine: they fetch for themselves.
func (s *Session) LetGo() {
	if !s.leading.some.Load() {
		return
	}
	s.leading.Lock()
	defer s.leading.Unlock()
	for _, f := range s.leading.list {
		s.e.flights.ended(f)
	}
	clear(s.leading.list)
	s.leading.list = s.leading.list[:0]
	s.leading.some.Store(false)
}
