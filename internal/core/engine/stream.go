package engine

import (
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/ledger"
)

// Event is one statement's end, or one drop. It holds no literal.
type Event struct {
	At      time.Time
	Pattern *Pattern // nil for a drop
	Outcome ledger.Outcome
	Reason  string

	Application, User, Database, Address string

	Took, Spared time.Duration
	// Age is how old the answer of a hit was.
	Age    time.Duration
	Rows   int
	Bytes  int
	Failed bool

	// Table and Dropped tell of a drop: how many results a change of the table dropped. Table is empty when the
	// change may have touched any.
	Table   string
	Dropped int
}

// stream hands events to whoever watches. A watcher that does not keep up loses events, and learns how many.
type stream struct {
	watchers atomic.Int32
	mu       sync.RWMutex
	list     map[*Watcher]struct{}
}

// Watcher receives events until it is closed.
type Watcher struct {
	C    chan Event
	lost atomic.Uint64
	s    *stream
}

// Watch begins to receive events, of which at most buffer wait to be read.
func (e *Engine) Watch(buffer int) *Watcher {
	w := &Watcher{C: make(chan Event, buffer), s: &e.stream}
	e.stream.mu.Lock()
	defer e.stream.mu.Unlock()
	if e.stream.list == nil {
		e.stream.list = map[*Watcher]struct{}{}
	}
	e.stream.list[w] = struct{}{}
	e.stream.watchers.Add(1)
	return w
}

// Close ends the watching. C is not closed: a sender may be at it.
func (w *Watcher) Close() {
	w.s.mu.Lock()
	defer w.s.mu.Unlock()
	if _, ok := w.s.list[w]; ok {
		delete(w.s.list, w)
		w.s.watchers.Add(-1)
	}
}

// Lost gives how many events were not taken since it was last asked.
func (w *Watcher) Lost() uint64 { return w.lost.Swap(0) }

func (s *stream) watched() bool { return s.watchers.Load() > 0 }

func (s *stream) send(ev Event) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for w := range s.list {
		select {
		case w.C <- ev:
		default:
			w.lost.Add(1)
		}
	}
}
