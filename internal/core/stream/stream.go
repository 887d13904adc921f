// Package stream keeps the latest events for whoever watches: the ends of statements, and drops.
package stream

import (
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// Event is one statement's end, or one drop. It holds no literal but for watchers that asked for them.
type Event struct {
	At      time.Time
	Pattern *engine.Pattern // nil for a drop
	Outcome ledger.Outcome
	Reason  reason.Reason

	// Origin is the name of the one that it was for.
	Origin                               string
	Application, User, Database, Address string

	Took, Saved time.Duration
	// Age is how old the answer of a hit was.
	Age    time.Duration
	Rows   int
	Bytes  int
	Failed bool

	// Labels are those in the statement's comment.
	Labels []statement.Label
	// Exact is the statement with its literals and Bound its parameters, as its protocol sends them, while somebody
	// watches who asked for values; else both are empty.
	Exact, Bound []byte
	// Types are the parameters' types as they were declared, as the protocol sends them.
	Types []byte

	// Table and Dropped tell of a drop: how many results a change of the table dropped. Table is empty when the
	// change may have touched any.
	Table   string
	Dropped int
}

// Stream keeps the latest events for whoever watches. There is room for so many between two readings: what comes beyond
// it is left out, and costs nothing. Nobody who sends waits for a watcher. Make it with New.
type Stream struct {
	engine.Unmoved
	calls func() uint64

	watchers, curious atomic.Int32
	whole             atomic.Int32 // watchers who want all statements
	room              atomic.Int64 // for statements, until somebody reads
	_                 [64]byte     // what is written at every event is on other lines than what is looked at at every statement

	mu     sync.Mutex
	latest []Event // the last streamLength, in a ring; empty while nobody watches
	sent   uint64  // so many were put into it
	filled uint64  // so often there was no more room
}

// New makes a stream.
func New() *Stream { return &Stream{calls: func() uint64 { return 0 }} }

// Attach says how many statements have ended in all, before any has.
func (s *Stream) Attach(calls func() uint64) { s.calls = calls }

// streamLength is how many events are kept for watchers, and streamRoom for how many statements there is room between
// two readings.
const (
	streamLength = 1 << 12
	streamRoom   = 500
	// wholeLength and wholeRoom are the same while somebody wants all statements, which costs them more.
	wholeLength = 1 << 15
	wholeRoom   = 20_000
)

// Watcher reads events until it is closed. It is to be used by one at a time.
type Watcher struct {
	// values is set for a watcher who sees literals.
	values bool
	whole  bool
	at     uint64 // the first that it has not read
	calls  uint64 // statements that had been counted when it last read
	filled uint64 // how often there had been no more room
	s      *Stream
	closed bool
}

// Watch begins to receive events; with literals if values is set, and as good as all of them if whole is.
func (s *Stream) Watch(values, whole bool) *Watcher {
	s.mu.Lock()
	defer s.mu.Unlock()
	length := streamLength
	if whole {
		length = wholeLength
		s.whole.Add(1)
	}
	if len(s.latest) < length {
		longer := make([]Event, length)
		for i := s.sent - min(s.sent, uint64(len(s.latest))); i < s.sent; i++ {
			longer[i%uint64(length)] = s.latest[i%uint64(len(s.latest))]
		}
		s.latest = longer
	}
	if values {
		s.curious.Add(1)
	}
	s.makeRoom()
	s.watchers.Add(1)
	return &Watcher{values: values, whole: whole, at: s.sent, filled: s.filled, calls: s.calls(), s: s}
}

// makeRoom makes room for statements until the next reading. It is called with mu held.
func (s *Stream) makeRoom() {
	if s.whole.Load() > 0 {
		s.room.Store(wholeRoom)
	} else {
		s.room.Store(streamRoom)
	}
}

// Read gives the events since it was last called, the oldest first, and about how many statements more there were. It
// is to be called some ten times a second.
func (w *Watcher) Read() (events []Event, lost uint64) {
	s := w.s
	s.mu.Lock()
	defer s.mu.Unlock()
	var statements uint64
	length := uint64(len(s.latest))
	n := min(s.sent-w.at, length)
	events = make([]Event, 0, n)
	for i := s.sent - n; i < s.sent; i++ {
		events = append(events, s.latest[i%length])
		ev := &events[len(events)-1]
		if ev.Pattern != nil {
			statements++
		}
		if !w.values {
			ev.Exact, ev.Bound, ev.Types = nil, nil, nil
		}
	}
	s.makeRoom()
	full := s.filled != w.filled || s.sent-w.at > length
	w.at, w.filled = s.sent, s.filled
	calls := s.calls()
	if since := calls - w.calls; full && since > statements {
		lost = since - statements
	}
	w.calls = calls
	return events, lost
}

// Close ends the watching.
func (w *Watcher) Close() {
	s := w.s
	s.mu.Lock()
	defer s.mu.Unlock()
	if w.closed {
		return
	}
	w.closed = true
	if w.values {
		s.curious.Add(-1)
	}
	if w.whole {
		s.whole.Add(-1)
	}
	if s.watchers.Add(-1) == 0 {
		s.latest = nil
	}
}

// Wants wants what watchers are to see of a statement.
func (s *Stream) Wants() engine.Bytes {
	switch {
	case !s.watched():
		return 0
	case s.curious.Load() > 0:
		return engine.Comments | engine.Values
	}
	return engine.Comments
}

// Ended sends a statement's end.
func (s *Stream) Ended(x *engine.Ended) {
	if !s.watched() {
		return
	}
	of, r := x.Session, &x.Record
	s.send(Event{
		At: x.At, Pattern: x.Pattern, Outcome: r.Outcome, Reason: r.Reason,
		Origin: of.Origin, Application: of.Application, User: of.User, Database: of.Database, Address: of.Address,
		Took: r.Took, Saved: r.Saved, Age: x.Age, Rows: r.Rows, Bytes: r.Bytes, Failed: r.Failed,
		Exact: x.Exact, Bound: x.Bound, Types: x.Types, Labels: statement.Labels(x.Comment),
	})
}

// Reclaimed sends a drop.
func (s *Stream) Reclaimed(now time.Time, database, table string, dropped int) {
	if s.watchers.Load() > 0 {
		s.send(Event{At: now, Database: database, Table: table, Dropped: dropped})
	}
}

// watched says whether somebody is to learn of a statement.
func (s *Stream) watched() bool { return s.watchers.Load() > 0 && s.room.Load() > 0 }

func (s *Stream) send(ev Event) {
	left := int64(1)
	if ev.Pattern != nil {
		if left = s.room.Add(-1); left < 0 {
			return
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if left == 0 {
		s.filled++
	}
	if s.latest != nil {
		s.latest[s.sent%uint64(len(s.latest))] = ev
		s.sent++
	}
}
