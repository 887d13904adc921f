package server

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/netutil"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/findings"
	"jollylarder/internal/lock"
	"jollylarder/internal/peer"
	"jollylarder/internal/state"
)

// Larder is what the API controls.
type Larder interface {
	Engine() *larder.Larder
	// Describe fills in what the engine does not know: addresses, version, files.
	Describe(*control.Status)
	Book() Book
	// ShowsValues says whether literals and parameters may be shown.
	ShowsValues() bool
	// ConfiguredMemory is the limit of memory as the configuration has it, in bytes, and Process the process that it is
	// in.
	ConfiguredMemory() int64
	Process() control.Process
	// Plan asks a database how it runs the statements of a pattern, by an account of the larder's own, and gives that
	// account's name.
	Plan(ctx context.Context, database string, schemas []string, text string) (lines []string, user string, err error)
	// Succeed starts the program anew, as it is installed now, to take over from the larder, and gives its process. An
	// error says what of it or its configuration is wrong; then nothing has changed.
	Succeed() (process int, err error)
	// Render fills in an event's protocol, and its parameters, if there are any, from what that protocol sends.
	Render(origin string, types, bound []byte, event *control.Event)
}

// Listen opens the API's socket, for its owner alone. A socket left over by a larder that is gone is replaced; one that
// answers is not.
//
// It is held by a lock beside it, so that of two larders that start at the same moment only one replaces what is left
// over.
func Listen(path string) (net.Listener, error) {
	if len(path) > peer.LongestPath {
		return nil, fmt.Errorf(
			"the control socket's path %s has %d bytes: a Unix socket's may have at most %d, so choose a shorter one with --control",
			path,
			len(path),
			peer.LongestPath,
		)
	}
	release, err := lock.File(path + ".lock")
	var held *lock.HeldError
	switch {
	case errors.As(err, &held):
		return nil, fmt.Errorf(
			"the control socket %s belongs to a larder that is running, process %d: stop it, or choose another with --control",
			path,
			held.Process,
		)
	case err != nil:
		return nil, fmt.Errorf("making the control socket: %w", err)
	}
	l, err := listenOwn(path)
	if err != nil {
		release()
		return nil, err
	}
	return lock.Until(l, release), nil
}

func listenOwn(path string) (net.Listener, error) {
	if c, err := net.DialTimeout("unix", path, time.Second); err == nil {
		c.Close()
		return nil, fmt.Errorf(
			"the control socket %s belongs to a larder that is running: stop it, or choose another with --control",
			path,
		)
	}
	if info, err := os.Lstat(path); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("the control socket %s cannot be made: a file of that name is there; choose another with --control", path)
		}
		if err := os.Remove(path); err != nil {
			return nil, fmt.Errorf("removing the control socket left over at %s: %w", path, err)
		}
	}
	l, err := peer.Listen(path)
	if err != nil {
		return nil, fmt.Errorf("making the control socket: %w", err)
	}
	return l, nil
}

// Server serves the API of one larder, on as many listeners as there are. Make it with New.
type Server struct {
	handler http.Handler
	inner   *server

	mu     sync.Mutex
	open   []*http.Server
	closed bool
}

// New makes a server.
func New(l Larder) *Server {
	ctx, stop := context.WithCancel(context.Background())
	s := &server{l: l, ctx: ctx, stop: stop}
	return &Server{handler: s.handler(), inner: s}
}

// Close ends all that is being answered, and returns when it has ended. Listeners are to be closed before.
func (s *Server) Close() {
	s.inner.stop()
	s.mu.Lock()
	s.closed = true
	list := s.open
	s.mu.Unlock()
	for _, x := range list {
		x.Close()
	}
	s.inner.answering.Wait()
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !s.inner.begins() {
		problem(w, http.StatusServiceUnavailable, "this larder is being stopped: ask again when it has started")
		return
	}
	defer s.inner.answering.Done()
	s.handler.ServeHTTP(w, r)
}

// begins notes that something has begun that Close is to wait for; it is false when that has been called.
func (s *server) begins() bool {
	s.beginning.Lock()
	defer s.beginning.Unlock()
	if s.ctx.Err() != nil {
		return false
	}
	s.answering.Add(1)
	return true
}

// handler tells requests apart.
func (s *server) handler() http.Handler {
	mux := http.NewServeMux()
	for pattern, f := range map[string]http.HandlerFunc{
		"GET /v1/status":              s.status,
		"GET /v1/patterns":            s.remembered.within(s.patterns),
		"GET /v1/patterns/{id}":       s.remembered.within(s.pattern),
		"GET /v1/patterns/{id}/plan":  s.plan,
		"GET /v1/rules":               s.rules,
		"PUT /v1/rules/{name}":        s.putRule,
		"DELETE /v1/rules/{name}":     s.removeRule,
		"PUT /v1/rules/{name}/pause":  s.pauseRule,
		"GET /v1/choices":             s.choices,
		"PUT /v1/rules/{name}/refuse": s.refuse,
		"POST /v1/rules/{name}/adopt": s.adopt,
		"POST /v1/check":              s.check,
		"GET /v1/draft":               s.draft,
		"PUT /v1/draft":               s.putDraft,
		"DELETE /v1/draft":            s.removeDraft,
		"POST /v1/draft/edit":         s.editDraft,
		"POST /v1/draft/renew":        s.renewDraft,
		"POST /v1/forecast":           s.predict,
		"POST /v1/apply":              s.applyText,
		"POST /v1/undo":               s.undo,
		"POST /v1/redo":               s.redo,
		"GET /v1/history":             s.history,
		"GET /v1/history/{id}":        s.historyEntry,
		"POST /v1/drop":               s.drop,
		"GET /v1/guard":               s.remembered.within(s.guard),
		"GET /v1/stock":               s.remembered.within(s.stock),
		"POST /v1/stock/curve":        s.memoryCurve,
		"PUT /v1/stock/limit":         s.limit,
		"GET /v1/prove":               s.remembered.within(s.prove),
		"POST /v1/trial":              s.trial,
		"DELETE /v1/trial":            s.stopTrial,
		"PUT /v1/caching":             s.caching,
		"POST /v1/successor":          s.succeed,
		"GET /v1/stream":              s.stream,
	} {
		if !strings.HasPrefix(pattern, "GET") {
			f = s.changing(f)
		}
		mux.HandleFunc(pattern, f)
	}
	return known(mux)
}

// known answers requests that the API does not have as it answers all that it refuses.
func known(mux *http.ServeMux) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h, pattern := mux.Handler(r)
		if pattern != "" {
			mux.ServeHTTP(w, r)
			return
		}
		x := refusal{http.Header{}, http.StatusNotFound}
		h.ServeHTTP(&x, r)
		if methods := x.header.Get("Allow"); methods != "" {
			w.Header().Set("Allow", methods)
			problem(w, x.code, "%s does not take %s: expected %s", r.URL.Path, r.Method, methods)
			return
		}
		problem(w, x.code, "the control API has no %s: docs/api.md lists its paths", r.URL.Path)
	})
}

// refusal takes the header and status of a response, and nothing of its body.
type refusal struct {
	header http.Header
	code   int
}

func (x *refusal) Header() http.Header         { return x.header }
func (x *refusal) WriteHeader(code int)        { x.code = code }
func (x *refusal) Write(b []byte) (int, error) { return len(b), nil }

// changing forgets what is remembered of answers behind what changes something.
func (s *server) changing(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		next(w, r)
		s.remembered.forget()
		s.common.forget()
	}
}

type server struct {
	l          Larder
	ctx        context.Context // ends with Close
	stop       func()
	beginning  sync.Mutex
	answering  sync.WaitGroup
	remembered remembered
	common     common
	forecasts  forecasts
	reaches    reaches
	streams    streams
	trials     trials
	prover     findings.Prover
}

// longestBody is the longest request in bytes: a rules file is part of some.
const longestBody = 16 << 20

// read reads a request's body, or answers what is wrong with it.
func read(w http.ResponseWriter, r *http.Request, into any) bool {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, longestBody))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		problem(w, http.StatusBadRequest, "the request is not understood: %v", err)
		return false
	}
	return true
}

func reply(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func problem(w http.ResponseWriter, code int, format string, args ...any) {
	w.Header().Set("Content-Type", control.ProblemType)
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(control.Problem{Title: http.StatusText(code), Status: code, Detail: fmt.Sprintf(format, args...)})
}

// status answers with what is the same for everybody and, beside that, who asks and what he drafts.
func (s *server) status(w http.ResponseWriter, r *http.Request) {
	st := s.common.get(s.everybodys)
	st.You = who(r)
	if d, ok := s.l.Book().State().Draft(st.You); ok {
		st.Drafted = s.drafted(&d, st.Revision)
	}
	reply(w, st)
}

// common is a status that was made a moment ago.
type common struct {
	mu sync.Mutex
	at time.Time
	st control.Status
}

func (c *common) get(fresh func() control.Status) control.Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.at) > moment {
		c.at, c.st = time.Now(), fresh()
	}
	return c.st
}

func (c *common) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = time.Time{}
}

// everybodys makes what is the same for everybody of a status.
func (s *server) everybodys() control.Status {
	e := s.l.Engine()
	now := time.Now()
	st := control.Status{
		Now:     now,
		Began:   e.Ledger.Began,
		Clients: e.Sessions(),
		Rules:   len(e.Rules().List()),
		Drops:   e.Ledger.Drops.Load(),
		Minute:  findings.Sums(e.Ledger.Total.Minute()),
		Total:   findings.Sums(e.Ledger.Total.Total()),
	}
	st.Cached, st.CachedBytes, st.CachedLimit = e.Cached()
	switch {
	case e.CachingOff():
		st.State = "off"
	case e.Rules().Caches():
		st.State = "caching"
	default:
		st.State = "watching"
	}
	e.Ledger.Applications(func(name string, t *ledger.Tally) {
		st.Applications = append(
			st.Applications,
			control.Application{
				Name:    name,
				Minute:  findings.Sums(t.Minute()),
				Total:   findings.Sums(t.Total()),
				Seconds: findings.AllSums(t.Slots()),
			},
		)
	})
	for _, r := range e.Running() {
		st.Running = append(
			st.Running,
			control.Running{
				Application: r.Application,
				User:        r.User,
				Database:    r.Database,
				Client:      r.Address,
				Pattern:     string(r.Pattern.ID),
				Text:        r.Pattern.Text,
				Outcome:     r.Outcome.String(),
				Reason:      r.Reason.String(),
				For:         findings.Milliseconds(now.Sub(r.Since)),
			},
		)
	}
	slices.SortFunc(st.Running, func(a, b control.Running) int { return int(b.For - a.For) })
	e.Databases(func(name string, known, whole bool, tables []string) {
		st.Databases = append(st.Databases, control.Database{Name: name, Catalog: known, Whole: whole, Tables: tables})
	})
	for _, t := range e.Tables() {
		row := control.Table{Name: t.Table, Writes: t.Writes, Minute: t.Minute, Drops: t.Drops}
		if !t.LastDrop.IsZero() {
			row.LastDrop = &t.LastDrop
		}
		st.Tables = append(st.Tables, row)
	}
	for i := range e.Rules().List() {
		if e.Rules().List()[i].Paused {
			st.Paused++
		}
	}
	st.Stale = e.Samples.Counts().Stale
	_, st.Revision = s.l.Book().Current()
	st.Outside = s.outside(e.Rules())
	for _, p := range []string{s.l.Book().State().Problem(), s.l.Book().State().Notice()} {
		if p != "" {
			st.Problems = append(st.Problems, p)
		}
	}
	s.l.Describe(&st)
	return st
}

// drafted counts the changes that a draft makes; one that cannot be read is one.
func (s *server) drafted(d *state.Draft, revision string) int {
	from := s.l.Engine().Rules()
	if d.Base != revision {
		if base, ok := s.l.Book().TextOf(d.Base); ok {
			if set, err := rules.Parse(base); err == nil {
				from = set
			}
		}
	}
	set, err := rules.Parse(d.Text)
	if err != nil {
		return 1
	}
	return len(rules.Difference(from, set))
}

// find gives the pattern that the request's path names, or answers that there is none.
func (s *server) find(w http.ResponseWriter, r *http.Request) *engine.Pattern {
	id := r.PathValue("id")
	if !statement.ValidID(id) {
		problem(
			w,
			http.StatusBadRequest,
			"%q is not a pattern's id: expected three words such as bado-kife-ruma",
			id,
		)
		return nil
	}
	p := s.l.Engine().Pattern(statement.ID(id))
	if p == nil {
		problem(w, http.StatusNotFound, "no pattern %s was seen: GET /v1/patterns lists all", id)
	}
	return p
}

func (s *server) pattern(w http.ResponseWriter, r *http.Request) {
	if p := s.find(w, r); p != nil {
		out := findings.Describe(s.l.Engine(), p, true)
		out.Hour = s.calls(state.Pattern, string(p.ID))
		if out.Rule != nil && out.Rule.Action == string(rules.Advised) {
			out.NotChosen = s.l.Book().Against(p)
		}
		reply(w, out)
	}
}

func (s *server) drop(w http.ResponseWriter, r *http.Request) {
	var in control.Drop
	if !read(w, r, &in) {
		return
	}
	e := s.l.Engine()
	switch {
	case in.All:
		reply(w, control.Dropped{Results: e.DropAll()})
	case in.Pattern != "":
		reply(w, control.Dropped{Results: e.DropPattern(statement.ID(in.Pattern))})
	case in.Table != "":
		reply(w, control.Dropped{Results: e.DropTable(in.Table)})
	case in.Rule != "" && e.Rules().Named(in.Rule) == nil:
		problem(w, http.StatusNotFound, "there is no rule %s", in.Rule)
	case in.Rule != "":
		reply(w, control.Dropped{Results: e.DropRule(in.Rule)})
	default:
		problem(
			w,
			http.StatusBadRequest,
			`the request names nothing to drop: expected {"all": true}, {"pattern": "…"}, {"rule": "…"} or {"table": "schema.name"}`,
		)
	}
}

func (s *server) caching(w http.ResponseWriter, r *http.Request) {
	var in struct {
		On *bool `json:"on"`
	}
	if !read(w, r, &in) {
		return
	}
	if in.On == nil { // what is left out switches nothing off
		problem(w, http.StatusBadRequest, `"on" is missing: expected {"on": true} or {"on": false}`)
		return
	}
	s.l.Engine().SetCaching(*in.On)
	reply(w, in)
}

// Serve serves the API on a Unix socket until the listener is closed.
func (s *Server) Serve(ln net.Listener) error { return s.serve(ln, s) }

// ServeTCP serves it over TLS to those who know a token.
func (s *Server) ServeTCP(ln net.Listener, settings *tls.Config, token string) error {
	return s.serve(tls.NewListener(netutil.LimitListener(ln, MostConnections), settings), withToken(token, s))
}

// MostConnections is how many connections each of the larder's HTTP servers on TCP takes at once, and idleTime for how
// long one may ask for nothing: they share the process's file descriptors with clients.
const (
	MostConnections = 128
	idleTime        = 2 * time.Minute
)

func (s *Server) serve(ln net.Listener, h http.Handler) error {
	x := &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       time.Minute,
		IdleTimeout:       idleTime,
		MaxHeaderBytes:    64 << 10,
		ConnContext:       withPeer,
		BaseContext:       func(net.Listener) context.Context { return s.inner.ctx },
		ErrorLog:          slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
	}
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.open = append(s.open, x)
	s.mu.Unlock()
	err := x.Serve(ln)
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
