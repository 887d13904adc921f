package server

import (
	"encoding/json"
	"net/http"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/core/stream"
	"jollylarder/internal/findings"
)

// The stream of events. What happened in a moment is read once for all watchers, and turned into a line once; each gets
// of it what his filter picks, and no more than anybody can look at. So many watchers cost little more than one.

const (
	// streamPause is how long events are gathered: nobody reads faster.
	streamPause = 100 * time.Millisecond
	// mostEach is how many lines a watcher gets of one gathering, and mostSaved how many if he got fewer before;
	// mostLooked is how many are held against his filter.
	mostEach, mostSaved, mostLooked = 40, 600, 1000
	// mostWhole is how many lines are gathered for who wants all of them.
	mostWhole = 40_000
)

// streams gathers events while somebody watches.
type streams struct {
	mu       sync.Mutex
	watchers map[*gathering]bool // by what is handed to them
	readers  [4]*stream.Watcher  // by kind
	running  bool                // gather is
}

// gathering is what one watcher has not read yet.
type gathering struct {
	values bool
	whole  bool // he wants all lines
	ready  chan struct{}
	lines  []*line // of the last gathering
	lost   uint64
	saved  int // so many lines he may get now
}

// line is one event, which is turned into JSON when the first watcher wants it.
type line struct {
	ev     stream.Event
	once   sync.Once
	seen   *control.Event
	encode sync.Once
	json   []byte
}

func (x *line) event(l Larder) *control.Event {
	x.once.Do(func() { x.seen = event(x.ev, l) })
	return x.seen
}

func (x *line) bytes(l Larder) []byte {
	x.encode.Do(func() {
		b, _ := json.Marshal(x.event(l))
		x.json = append(b, '\n')
	})
	return x.json
}

// watch begins to gather for one more watcher.
func (s *server) watch(values, whole bool) *gathering {
	g := &gathering{values: values, whole: whole, ready: make(chan struct{}, 1)}
	x := &s.streams
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.watchers == nil {
		x.watchers = map[*gathering]bool{}
	}
	if !x.running {
		x.running = true
		if s.begins() {
			go func() {
				defer s.answering.Done()
				s.gather()
			}()
		}
	}
	x.watchers[g] = true
	if i := g.kind(); x.readers[i] == nil {
		x.readers[i] = s.l.Engine().Stream.Watch(values, whole)
	}
	return g
}

// kind tells apart who is read for together.
func (g *gathering) kind() (kind int) {
	if g.values {
		kind++
	}
	if g.whole {
		kind += 2
	}
	return kind
}

// most is how many lines are gathered for him at most.
func (g *gathering) most() int {
	if g.whole {
		return mostWhole
	}
	return 2 * mostLooked
}

// leave ends the gathering for a watcher.
func (s *server) leave(g *gathering) {
	s.streams.mu.Lock()
	defer s.streams.mu.Unlock()
	delete(s.streams.watchers, g)
}

// gather reads what happened, until nobody watches any more.
func (s *server) gather() {
	pause := time.NewTicker(streamPause)
	defer pause.Stop()
	for {
		select {
		case <-pause.C:
		case <-s.ctx.Done():
			return
		}
		if !s.gatherOnce() {
			return
		}
	}
}

func (s *server) gatherOnce() (more bool) {
	x := &s.streams
	x.mu.Lock()
	defer x.mu.Unlock()
	for i, w := range x.readers {
		if w == nil {
			continue
		}
		events, lost := w.Read()
		lines, all := make([]*line, len(events)), make([]line, len(events))
		for j := range events {
			all[j].ev = events[j]
			lines[j] = &all[j]
		}
		wanted := false
		for g := range x.watchers {
			if g.kind() != i {
				continue
			}
			wanted = true
			g.lost += lost
			g.lines = append(g.lines, lines...)
			if n := len(g.lines) - g.most(); n > 0 { // he does not keep up
				g.lines, g.lost = slices.Delete(g.lines, 0, n), g.lost+uint64(n)
			}
			select {
			case g.ready <- struct{}{}:
			default:
			}
		}
		if !wanted {
			w.Close()
			x.readers[i] = nil
		}
	}
	x.running = len(x.watchers) > 0
	return x.running
}

// take gives what has been gathered for a watcher: the latest lines that his filter picks, and how many are left out.
func (s *server) take(g *gathering, f *filter.Filter) (picked []*line, lost uint64) {
	s.streams.mu.Lock()
	lines := g.lines
	lost = g.lost
	g.lines, g.lost = nil, 0
	s.streams.mu.Unlock()
	g.saved = min(g.saved+mostEach, mostSaved)
	if g.whole {
		g.saved = len(lines)
	}
	if n := len(lines) - mostLooked; n > 0 && !g.whole {
		lines, lost = lines[n:], lost+uint64(n)
	}
	for i := len(lines) - 1; i >= 0; i-- {
		x := lines[i]
		if x.ev.Pattern != nil && !f.Empty() && !f.Match(x.event(s.l)) {
			continue
		}
		if g.saved == 0 && x.ev.Pattern != nil { // a drop is never left out
			lost++
			continue
		}
		picked = append(picked, x)
		g.saved = max(g.saved-1, 0)
	}
	slices.Reverse(picked)
	return picked, lost
}

// stream sends events as lines of JSON until the watcher goes.
func (s *server) stream(w http.ResponseWriter, r *http.Request) {
	flusher, ok := w.(http.Flusher)
	if !ok {
		problem(w, http.StatusInternalServerError, "this connection cannot stream")
		return
	}
	f, err := filter.Parse(r.URL.Query().Get("filter"), filter.OfStatements)
	if err != nil {
		problem(w, http.StatusBadRequest, "the filter is not understood: %v", err)
		return
	}
	values := r.URL.Query().Get("values") == "true"
	if values && !s.l.ShowsValues() {
		problem(w, http.StatusForbidden, "values are not shown: set show_values = true in the configuration to allow it")
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.WriteHeader(http.StatusOK)
	flusher.Flush()
	g := s.watch(values, r.URL.Query().Get("all") == "true")
	defer s.leave(g)
	var out []byte
	for {
		select {
		case <-r.Context().Done():
			return
		case <-g.ready:
		}
		if values && !s.l.ShowsValues() {
			return // the configuration has been changed
		}
		picked, lost := s.take(g, f)
		out = out[:0]
		for _, x := range picked {
			out = append(out, x.bytes(s.l)...)
		}
		if lost > 0 {
			said, _ := json.Marshal(control.Event{At: time.Now(), Kind: "lost", Count: lost})
			out = append(append(out, said...), '\n')
		}
		if len(out) == 0 {
			continue
		}
		if _, err := w.Write(out); err != nil {
			return
		}
		flusher.Flush()
	}
}

func event(ev stream.Event, l Larder) *control.Event {
	if ev.Pattern == nil {
		return &control.Event{
			At:       ev.At,
			Kind:     "drop",
			Table:    ev.Table,
			Database: ev.Database,
			Count:    uint64(ev.Dropped),
		}
	}
	out := &control.Event{
		At: ev.At, Kind: "statement", Pattern: string(ev.Pattern.ID), Text: ev.Pattern.Text, Outcome: ev.Outcome.String(), Reason: ev.Reason.String(),
		Application: ev.Application, User: ev.User, Database: ev.Database, Client: ev.Address,
		Took: findings.Milliseconds(
			ev.Took,
		), Saved: findings.Milliseconds(ev.Saved), Age: findings.Milliseconds(ev.Age), Rows: ev.Rows, Bytes: ev.Bytes, Failed: ev.Failed,
		Statement: string(ev.Exact),
	}
	if len(ev.Labels) > 0 {
		out.Labels = map[string]string{}
		for _, l := range ev.Labels {
			out.Labels[l.Key] = l.Value
		}
	}
	l.Render(ev.Origin, ev.Types, ev.Bound, out)
	return out
}
