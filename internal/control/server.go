package control

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"syscall"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Larder is what the API controls.
type Larder interface {
	Engine() *engine.Engine
	// Describe fills in what the engine does not know: addresses, version, files.
	Describe(*Status)
	// PutRule and RemoveRule change the rules in force and the rules file together, or neither.
	PutRule(rules.Rule) error
	RemoveRule(statement.ID) error
}

// Listen opens the API's socket, for its owner alone. A socket left over by a larder that is gone is replaced; one that
// answers is not.
func Listen(path string) (net.Listener, error) {
	if c, err := net.DialTimeout("unix", path, time.Second); err == nil {
		c.Close()
		return nil, fmt.Errorf("the control socket %s belongs to a larder that is running: stop it, or choose another with --control", path)
	}
	if info, err := os.Lstat(path); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("the control socket %s cannot be made: a file of that name is there", path)
		}
		if err := os.Remove(path); err != nil {
			return nil, fmt.Errorf("removing the control socket left over at %s: %w", path, err)
		}
	}
	before := syscall.Umask(0o177) // the socket must never be open to others, not even for a moment
	l, err := net.Listen("unix", path)
	syscall.Umask(before)
	if err != nil {
		return nil, fmt.Errorf("making the control socket: %w", err)
	}
	return l, nil
}

// Handler serves the API.
func Handler(l Larder) http.Handler {
	s := &server{l}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/status", s.status)
	mux.HandleFunc("GET /v1/patterns", s.patterns)
	mux.HandleFunc("GET /v1/patterns/{id}", s.pattern)
	mux.HandleFunc("GET /v1/rules", s.rules)
	mux.HandleFunc("PUT /v1/rules/{id}", s.putRule)
	mux.HandleFunc("DELETE /v1/rules/{id}", s.removeRule)
	mux.HandleFunc("POST /v1/drop", s.drop)
	mux.HandleFunc("PUT /v1/hold", s.hold)
	mux.HandleFunc("GET /v1/stream", s.stream)
	return mux
}

type server struct{ l Larder }

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, code int, format string, args ...any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(Problem{fmt.Sprintf(format, args...)})
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

func sums(s ledger.Sums) Sums {
	return Sums{
		Hits: s.Count[ledger.Hit], Misses: s.Count[ledger.Miss], Passes: s.Count[ledger.Pass], Writes: s.Count[ledger.Write],
		Waited: ms(s.AllWaited()), Hit: ms(s.Waited[ledger.Hit]), Spared: ms(s.Spared), Keeping: ms(s.Keepable),
	}
}

func allSums(list []ledger.Sums) []Sums {
	out := make([]Sums, len(list))
	for i, s := range list {
		out[i] = sums(s)
	}
	return out
}

func (s *server) status(w http.ResponseWriter, _ *http.Request) {
	e := s.l.Engine()
	now := time.Now()
	st := Status{Now: now, Began: e.Ledger.Began, Clients: e.Sessions(), Rules: len(e.Rules().List()), Drops: e.Ledger.Drops.Load(),
		Minute: sums(e.Ledger.Total.Minute()), Total: sums(e.Ledger.Total.Total())}
	st.Kept, st.KeptBytes, st.KeptLimit = e.Kept()
	switch {
	case e.Held():
		st.State = "held"
	case e.Rules().Keeps():
		st.State = "keeping"
	default:
		st.State = "watching"
	}
	e.Ledger.Applications(func(name string, t *ledger.Tally) {
		st.Applications = append(st.Applications, Application{Name: name, Minute: sums(t.Minute()), Total: sums(t.Total()), Seconds: allSums(t.Slots())})
	})
	for _, r := range e.Running() {
		st.Running = append(st.Running, Running{r.Application, string(r.Pattern.ID), r.Pattern.Text, r.Outcome.String(), r.Reason, ms(now.Sub(r.Since))})
	}
	slices.SortFunc(st.Running, func(a, b Running) int { return int(b.For - a.For) })
	e.Databases(func(name string, known bool, tables []string) {
		st.Databases = append(st.Databases, Database{name, known, tables})
	})
	for _, t := range e.Tables() {
		row := Table{Name: t.Table, Writes: t.Writes, Drops: t.Drops}
		if !t.LastDrop.IsZero() {
			row.LastDrop = &t.LastDrop
		}
		st.Tables = append(st.Tables, row)
	}
	s.l.Describe(&st)
	reply(w, st)
}

// describe makes the API's view of a pattern; whole adds what only the selected one is asked for.
func (s *server) describe(p *engine.Pattern, held map[statement.ID]engine.Holding, whole bool) Pattern {
	n := p.Numbers
	does := p.Does()
	out := Pattern{
		ID: string(p.ID), Text: p.Text, Verb: p.Facts.Verb, Reads: does.Reads, Writes: does.Writes, Keepable: len(does.Reasons) == 0,
		Reasons: does.Reasons, Minute: sums(n.Minute()), Total: sums(n.Total()), Rows: n.Rows.Load(), Bytes: n.Bytes.Load(),
		Failed: n.Failed.Load(), Drops: n.Drops.Load(), Kept: held[p.ID].Results, KeptBytes: held[p.ID].Bytes, Slots: allSums(n.Slots()),
		Origin: distribution(&n.Origin, whole), Memory: distribution(&n.Memory, whole),
	}
	if does.Everything {
		out.Writes = []string{"any table"}
	}
	if r := p.Rule(); r != nil {
		out.Rule = rule(*r)
	}
	if whole {
		for _, r := range n.Reasons() {
			out.Passed = append(out.Passed, Reason{r.Reason, r.Count})
		}
	}
	return out
}

func rule(r rules.Rule) *Rule {
	out := &Rule{Pattern: string(r.Pattern), Verdict: string(r.Verdict), Note: r.Note}
	if r.Verdict == rules.Keep {
		out.TTL = rules.FormatTTL(r.TTL)
	}
	return out
}

func distribution(d *ledger.Distribution, whole bool) *Distribution {
	b := d.Buckets()
	if len(b) == 0 {
		return nil
	}
	out := &Distribution{P50: ms(d.Percentile(0.5)), P90: ms(d.Percentile(0.9)), P99: ms(d.Percentile(0.99))}
	if whole {
		for _, x := range b {
			out.Buckets = append(out.Buckets, Bucket{ms(x.From), ms(x.To), x.Count})
		}
	}
	return out
}

func (s *server) patterns(w http.ResponseWriter, _ *http.Request) {
	e := s.l.Engine()
	held := e.KeptOf()
	out := []Pattern{}
	e.Patterns(func(p *engine.Pattern) { out = append(out, s.describe(p, held, false)) })
	slices.SortFunc(out, func(a, b Pattern) int {
		if d := b.Spareable() - a.Spareable(); d != 0 {
			return sign(d)
		}
		if d := b.Minute.Waited - a.Minute.Waited; d != 0 {
			return sign(d)
		}
		return sign(b.Total.Waited - a.Total.Waited)
	})
	reply(w, out)
}

func sign(d float64) int {
	switch {
	case d > 0:
		return 1
	case d < 0:
		return -1
	}
	return 0
}

// find gives the pattern that the request's path names, or answers that there is none.
func (s *server) find(w http.ResponseWriter, r *http.Request) *engine.Pattern {
	id := r.PathValue("id")
	if !statement.ValidID(id) {
		problem(w, http.StatusBadRequest, "%q is not written like a pattern's id: expected something like bado-kife-ruma", id)
		return nil
	}
	p := s.l.Engine().Pattern(statement.ID(id))
	if p == nil {
		problem(w, http.StatusNotFound, "no pattern %s has been seen: GET /v1/patterns lists those that have", id)
	}
	return p
}

func (s *server) pattern(w http.ResponseWriter, r *http.Request) {
	if p := s.find(w, r); p != nil {
		reply(w, s.describe(p, s.l.Engine().KeptOf(), true))
	}
}

func (s *server) rules(w http.ResponseWriter, _ *http.Request) {
	out := []Rule{}
	for _, r := range s.l.Engine().Rules().List() {
		out = append(out, *rule(r))
	}
	reply(w, out)
}

func (s *server) putRule(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	if !statement.ValidID(id) {
		problem(w, http.StatusBadRequest, "%q is not written like a pattern's id: expected something like bado-kife-ruma", id)
		return
	}
	var in Rule
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&in); err != nil {
		problem(w, http.StatusBadRequest, "the rule is not understood: %v", err)
		return
	}
	out := rules.Rule{Pattern: statement.ID(id), Verdict: rules.Verdict(in.Verdict), Note: in.Note}
	switch out.Verdict {
	case rules.Never:
	case rules.Keep:
		ttl, err := rules.ParseTTL(in.TTL)
		if err != nil {
			problem(w, http.StatusBadRequest, "%v", err)
			return
		}
		out.TTL = ttl
	default:
		problem(w, http.StatusBadRequest, `verdict %q: expected "keep" or "never"`, in.Verdict)
		return
	}
	if p := s.l.Engine().Pattern(out.Pattern); p != nil {
		out.Statement = p.Text
		if why := p.Does().Reasons; out.Verdict == rules.Keep && len(why) > 0 && !p.Unsure() {
			problem(w, http.StatusConflict, "the pattern %s cannot be kept: %s", id, why[0])
			return
		}
	}
	if err := s.l.PutRule(out); err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	reply(w, rule(out))
}

func (s *server) removeRule(w http.ResponseWriter, r *http.Request) {
	id := statement.ID(r.PathValue("id"))
	if s.l.Engine().Rules().For(id) == nil {
		problem(w, http.StatusNotFound, "there is no rule for %s", id)
		return
	}
	if err := s.l.RemoveRule(id); err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	reply(w, struct{}{})
}

func (s *server) drop(w http.ResponseWriter, r *http.Request) {
	var in Drop
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16)).Decode(&in); err != nil {
		problem(w, http.StatusBadRequest, "what to drop is not understood: %v", err)
		return
	}
	e := s.l.Engine()
	switch {
	case in.All:
		reply(w, Dropped{e.DropAll()})
	case in.Pattern != "":
		reply(w, Dropped{e.DropPattern(statement.ID(in.Pattern))})
	case in.Table != "":
		reply(w, Dropped{e.DropTable(in.Table)})
	default:
		problem(w, http.StatusBadRequest, `say what to drop: {"all": true}, {"pattern": "…"} or {"table": "schema.name"}`)
	}
}

func (s *server) hold(w http.ResponseWriter, r *http.Request) {
	var in struct {
		On bool `json:"on"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16)).Decode(&in); err != nil {
		problem(w, http.StatusBadRequest, `expected {"on": true} or {"on": false}: %v`, err)
		return
	}
	s.l.Engine().Hold(in.On)
	reply(w, in)
}

// mostWaiting is how many events wait for a watcher before it loses some.
const mostWaiting = 4096

// stream sends events as lines of JSON until the watcher goes. It gathers them for a moment: nobody reads faster.
func (s *server) stream(w http.ResponseWriter, r *http.Request) {
	flusher, ok := w.(http.Flusher)
	if !ok {
		problem(w, http.StatusInternalServerError, "this connection cannot stream")
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.WriteHeader(http.StatusOK)
	flusher.Flush()
	watch := s.l.Engine().Watch(mostWaiting)
	defer watch.Close()
	enc := json.NewEncoder(w)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-tick.C:
		}
		for range len(watch.C) {
			if err := enc.Encode(event(<-watch.C)); err != nil {
				return
			}
		}
		if n := watch.Lost(); n > 0 {
			if err := enc.Encode(Event{At: time.Now(), Kind: "lost", Count: n}); err != nil {
				return
			}
		}
		flusher.Flush()
	}
}

func event(ev engine.Event) Event {
	if ev.Pattern == nil {
		return Event{At: ev.At, Kind: "drop", Table: ev.Table, Database: ev.Database, Count: uint64(ev.Dropped)}
	}
	return Event{
		At: ev.At, Kind: "statement", Pattern: string(ev.Pattern.ID), Text: ev.Pattern.Text, Outcome: ev.Outcome.String(), Reason: ev.Reason,
		Application: ev.Application, User: ev.User, Database: ev.Database, Client: ev.Address,
		Took: ms(ev.Took), Spared: ms(ev.Spared), Age: ms(ev.Age), Rows: ev.Rows, Bytes: ev.Bytes, Failed: ev.Failed,
	}
}

// Serve serves the API until the listener is closed.
func Serve(ln net.Listener, l Larder) error {
	err := (&http.Server{Handler: Handler(l), ReadHeaderTimeout: 10 * time.Second}).Serve(ln)
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
