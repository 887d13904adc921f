package mysql

import (
	"fmt"
	"sync"
	"time"
)

// starting is when the server began: between two moments, as far as it is known. A server says for how many seconds it has
// been running, by a clock of its own that may go faster or slower than that of the larder.
type starting struct {
	mu       sync.Mutex
	from, to time.Time
	since    time.Time // what that was taken for at first: the same as long as the server is
	identity string    // of the server that was met last
}

// Between two readings of the same server's start there may be this much, and a reading is sharp if it is no wider.
const (
	driftOfClocks = time.Second
	sharp         = 2 * time.Second
)

// reads takes how long a server has been running. It was asked at one moment, and had told it at another.
func (s *starting) reads(asked, told time.Time, uptime time.Duration) {
	from, to := asked.Add(-uptime-time.Second), told.Add(-uptime) // it tells whole seconds
	s.mu.Lock()
	defer s.mu.Unlock()
	same := !s.since.IsZero() && !from.After(s.to.Add(driftOfClocks)) && !to.Before(s.from.Add(-driftOfClocks))
	if !same {
		s.since = to
	}
	if !same || to.Sub(from) <= max(sharp, s.to.Sub(s.from)) {
		s.from, s.to = from, to // which follows clocks that drift
	}
}

// of gives a text that no other server has, nor the same one after a restart. It is empty while nothing is known.
func (s *starting) of(id string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.since.IsZero() {
		return ""
	}
	s.identity = fmt.Sprintf("%s since %s", id, s.since.UTC().Format(time.RFC3339))
	return s.identity
}

// last is the text of the server that was met last; empty if none was.
func (s *starting) last() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.identity
}
