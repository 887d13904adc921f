package postgres

import (
	"context"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	schema "jollylarder/internal/core/catalog/postgres"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// faults is a log that remembers faults of the larder's own.
type faults struct {
	slog.Handler
	seen chan string
}

func (f faults) Handle(_ context.Context, r slog.Record) error {
	if strings.Contains(r.Message, "fault") {
		select {
		case f.seen <- r.Message:
		default:
		}
	}
	return nil
}

// FuzzSession has a client and an origin say anything, in pieces of any length: the session must end when they have,
// without a fault, and hold on to no more than a bounded number of bytes.
func FuzzSession(f *testing.F) {
	start := "\x00\x00\x00\x13\x00\x03\x00\x00user\x00ines\x00\x00"
	ready := "R\x00\x00\x00\x08\x00\x00\x00\x00Z\x00\x00\x00\x05I"
	read := "select n from berths where id = 1\x00"
	frame := func(kind byte, body string) string { return string(frame(nil, kind, []byte(body))) }
	unit := frame('P', "\x00"+read+"\x00\x00") + frame('B', "\x00\x00\x00\x00\x00\x00\x00\x00") + frame('D', "P\x00") + frame('E', "\x00\x00\x00\x00\x00") + frame('S', "")
	answer := frame('1', "") + frame('2', "") + frame('T', "\x00\x00") + frame('D', "\x00\x00") + frame('C', "SELECT 1\x00") + frame('Z', "I")
	f.Add(start+frame('Q', read)+unit, ready+frame('T', "\x00\x00")+frame('C', "SELECT 0\x00")+frame('Z', "I")+answer, uint8(7))
	f.Add(start+unit+unit+frame('X', ""), ready+answer+answer, uint8(200))
	f.Add(start+frame('P', "s\x00"+read+"\x00\x00")+frame('H', "")+frame('Q', "begin\x00")+frame('F', ""), ready+frame('E', "C42601\x00\x00")+frame('Z', "E"), uint8(1))
	f.Add(start+frame('Q', "copy t from stdin\x00")+frame('d', "1\n")+frame('c', "")+frame('S', ""), ready+frame('G', "\x00\x00\x00")+frame('C', "COPY 1\x00")+frame('Z', "I"), uint8(3))
	f.Add(start+frame('p', "SCRAM-SHA-256\x00\x00\x00\x00\x01y"), "R\x00\x00\x00\x17\x00\x00\x00\x0aSCRAM-SHA-256\x00\x00"+ready, uint8(0))
	f.Add("\x00\x00\x00\x08\x04\xd2\x16\x2f"+start+"Q\x00\x00\x00\x02", ready+"Z\x00\x00\x00\x01", uint8(9))
	f.Add("\x16\x03\x01\x00\x05hello", "", uint8(0))
	show := "show jollylarder.last\x00"
	f.Add(start+frame('Q', show)+frame('P', "s\x00"+show+"\x00\x00")+frame('D', "Ss\x00")+frame('S', "")+frame('B', "\x00s\x00\x00\x00\x00\x00\x00\x01\x00\x01")+frame('D', "P\x00")+
		frame('E', "\x00\x00\x00\x00\x00")+frame('E', "\x00\x00\x00\x00\x00")+frame('S', "")+frame('B', "\x00s\x00\x00\x01")+frame('E', "\x00\x00\x00\x00\x00"), ready, uint8(50))
	f.Fuzz(func(t *testing.T, client, origin string, piece uint8) {
		seen := make(chan string, 1)
		misused := func(what string) {
			select {
			case seen <- what:
			default:
			}
		}
		e, err := engine.New(engine.Options{Dialect: dialect.Dialect, Misuse: misused}, time.Now())
		require.NoError(t, err)
		e.SetRules(rules.NewSet([]rules.Rule{{Pattern: dialect.Dialect.Syntax.Of("select n from berths where id = 1"), Action: rules.Cache, TTL: time.Minute}}))
		theirs, mine := net.Pipe()
		server, far := net.Pipe()
		srv := New(link.Options{Engine: e, Origin: "origin:5432", Log: slog.New(faults{slog.DiscardHandler, seen}),
			Dial: func(context.Context, string) (net.Conn, error) { return server, nil }})
		srv.Configure(link.Settings{StartupTimeout: time.Second, LostTimeout: time.Second})
		say := func(c net.Conn, text string) {
			go func() { _, _ = io.Copy(io.Discard, c) }()
			go func() {
				for n := int(piece)*3 + 1; len(text) > 0; text = text[min(n, len(text)):] {
					if _, err := io.WriteString(c, text[:min(n, len(text))]); err != nil {
						break
					}
				}
				time.Sleep(time.Millisecond)
				c.Close()
			}()
		}
		say(theirs, client)
		say(far, origin)
		ended := make(chan struct{})
		srv.Go(mine, func(c net.Conn) {
			srv.handle(c, false)
			server.Close()
			close(ended)
		})
		select {
		case <-ended:
		case <-time.After(time.Minute):
			t.Fatal("the session does not end")
		}
		select {
		case fault := <-seen:
			t.Fatal(fault)
		default:
		}
	})
}

// FuzzStartup reads what a client begins with.
func FuzzLogin(f *testing.F) {
	f.Add([]byte("SCRAM-SHA-256-PLUS\x00SCRAM-SHA-256\x00\x00"), []byte("SCRAM-SHA-256\x00\x00\x00\x00\x03y,,"))
	f.Fuzz(func(t *testing.T, list, response []byte) {
		kept, dropped := withoutBinding(list)
		require.NotContains(t, strings.Split(string(kept), "\x00"), boundMechanism)
		if !dropped {
			again, _ := withoutBinding(kept)
			require.Equal(t, kept, again)
		}
		far, near := net.Pipe()
		defer far.Close()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		s := &session{server: New(link.Options{Log: slog.New(slog.DiscardHandler)}), client: socket.New(near), auth: auth{initial: true, bound: true}}
		s.password(response)
	})
}

// The larder's own questions go in front of all that a client says, or wait until it rests: in a transaction that has just begun,
// one query would be one too many for what must come before any.
func TestQuestionsAreNotPutIntoAClientsTransaction(t *testing.T) {
	e, err := engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	require.NoError(t, err)
	far, near := net.Pipe()
	defer far.Close()
	go func() { _, _ = io.Copy(io.Discard, far) }()
	s := newSession(New(link.Options{Engine: e, Log: slog.New(slog.DiscardHandler)}), &link.Settings{}, near, near, &startup{})
	s.askAhead()
	require.Equal(t, 1, s.queue.len(), "before the login has ended nothing is asked for a client")
	s.mu.Lock()
	s.endExchange(s.queue.first(), engine.Idle, time.Now())
	begin := s.queue.open(time.Now()) // sent as soon as the login's end was heard of
	s.mu.Unlock()
	s.askAhead()
	require.Equal(t, 1, s.queue.len())
	s.mu.Lock()
	s.queue.list = s.queue.list[:0]
	s.queue.recycle(begin)
	s.mu.Unlock()
	s.askAhead()
	s.mu.Lock()
	defer s.mu.Unlock()
	require.Equal(t, 3, s.queue.len(), "while the session is at rest, they are put: for its settings and the first two about the catalog")
	require.NotNil(t, s.queue.last().question)
}

// causes is a log that hands on why connections ended.
type causes struct {
	slog.Handler
	seen chan string
}

func (h causes) Enabled(context.Context, slog.Level) bool { return true }

func (h causes) Handle(_ context.Context, r slog.Record) error {
	r.Attrs(func(a slog.Attr) bool {
		if a.Key == "cause" {
			h.seen <- a.Value.String()
		}
		return true
	})
	return nil
}

// A session has one end, and is told to have ended by what came first.
func TestWhatEndsASession(t *testing.T) {
	start := "\x00\x00\x00\x13\x00\x03\x00\x00user\x00ines\x00\x00"
	ready := "R\x00\x00\x00\x08\x00\x00\x00\x00Z\x00\x00\x00\x05I"
	for name, c := range map[string]struct {
		ends  func(srv *Server, client, origin net.Conn)
		cause string
	}{
		"its client":         {func(_ *Server, client, _ net.Conn) { client.Close() }, "the client ended it"},
		"its database":       {func(_ *Server, _, origin net.Conn) { origin.Close() }, "the database ended it"},
		"the larder's end":   {func(srv *Server, _, _ net.Conn) { srv.Close() }, "the larder is being stopped"},
		"a drain":            {func(srv *Server, _, _ net.Conn) { srv.Drain(context.Background()) }, "jolly larder is being stopped"},
		"a message too long": {func(_ *Server, client, _ net.Conn) { _, _ = io.WriteString(client, "Q\x00\x00\x07\xd0") }, "jolly larder takes no message longer than 1000 bytes; this one has 2001"},
		"both, the client first": {func(_ *Server, client, origin net.Conn) {
			client.Close()
			time.Sleep(20 * time.Millisecond)
			origin.Close()
		}, "the client ended it"},
	} {
		t.Run(name, func(t *testing.T) {
			e, err := engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
			require.NoError(t, err)
			defer e.Close()
			reader := e.NewSession(engine.Identity{Database: "ines", User: "ines"}) // so that nothing is asked
			reader.Asking(engine.NeedCatalog, time.Now())
			described, err := schema.Describe([]schema.Row{{What: "relation", Schema: "public", Name: "berths", Flags: "r"}})
			require.NoError(t, err)
			reader.LearnedCatalog(described, time.Now())
			seen := make(chan string, 10)
			theirs, mine := net.Pipe()
			server, far := net.Pipe()
			defer theirs.Close()
			defer far.Close()
			srv := New(link.Options{Engine: e, Origin: "origin:5432", Log: slog.New(causes{slog.DiscardHandler, seen}), Dial: func(context.Context, string) (net.Conn, error) { return server, nil }})
			srv.Configure(link.Settings{StartupTimeout: 5 * time.Second, LostTimeout: 5 * time.Second, MaxMessageSize: 1000, Unchallenged: link.Anybody})
			ended := make(chan struct{})
			srv.Go(mine, func(c net.Conn) {
				srv.handle(c, false)
				server.Close()
				close(ended)
			})
			_, err = io.WriteString(theirs, start)
			require.NoError(t, err)
			greeting := make([]byte, len(start))
			_, err = io.ReadFull(far, greeting)
			require.NoError(t, err)
			go func() { _, _ = io.WriteString(far, ready) }()
			_, err = io.ReadFull(theirs, make([]byte, len(ready)))
			require.NoError(t, err)
			go func() { _, _ = io.Copy(io.Discard, theirs) }()
			go func() { _, _ = io.Copy(io.Discard, far) }()
			require.Eventually(t, func() bool { return srv.Clients() == 1 }, time.Minute, time.Millisecond)
			c.ends(srv, theirs, far)
			<-ended
			assert.Equal(t, c.cause, <-seen)
			assert.Empty(t, seen)
		})
	}
}
