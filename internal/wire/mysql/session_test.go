package mysql

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	catalog "jollylarder/internal/core/catalog/mysql"
	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// faults gathers what a server logs of faults of its own.
type faults struct {
	slog.Handler
	list []string
}

func (f *faults) Enabled(context.Context, slog.Level) bool { return true }

func (f *faults) Handle(_ context.Context, r slog.Record) error {
	if strings.Contains(r.Message, "fault") {
		text := r.Message
		r.Attrs(func(a slog.Attr) bool { text += fmt.Sprintf(" %s", a.Value); return true })
		f.list = append(f.list, text)
	}
	return nil
}

// quiet gives a session behind its login, without a network: bytes are handed to it as if they had come.
func quiet(t require.TestingT, e *engine.Engine, log slog.Handler, withoutEOF bool) *session {
	client, program := net.Pipe()
	origin, database := net.Pipe()
	for _, c := range []net.Conn{program, database} { // which take what they are sent
		go func() { _, _ = io.Copy(io.Discard, c) }()
	}
	s := newSession(New(link.Options{Engine: e, Log: slog.New(log)}), client, origin)
	l := &login{server: s.server, set: s.server.Settings(), client: client, origin: origin, greeting: &greeting{version: "5.5.5-10.11.19-MariaDB", caps: capDeprecateEOF},
		intro: &introduction{caps: capSecure, database: "skerrow", user: "ines"}}
	l.set.Unchallenged = "anybody"
	s.login, s.client, s.origin, s.withoutEOF, s.now = l, socket.New(client), socket.New(origin), withoutEOF, s.server.Time()
	s.conversation.ends = func(x *command) { s.telling(func() { s.answered(x) }) }
	s.inbound.keep = s.keeps
	s.begins()
	return s
}

// Whatever the two sides send, in whatever pieces, watching it has no fault of its own, and what the engine was told is
// at its end when the client has gone.
func TestWatchingHasNoFaults(t *testing.T) {
	texts := []string{"select ship from berths where id = 1", "use harbour", "set names gbk", "set sql_mode = 'ANSI'", "begin", "commit", "\x00", "/*!50001", "select '", "update berths set ship = ?", "prepare s from 'select 1'", "execute s", ""}
	replies := [][]byte{
		{0, 0, 0, 2, 0, 0, 0}, {0, 0, 0, 3, 0, 0, 0}, {0, 0, 0, 10, 0, 0, 0}, {0xff, 1, 4, '#'}, {1}, {0xfe, 0, 0, 2, 0}, {0xfe, 0, 0, 10, 0}, {3, 'd', 'e', 'f'}, {0xfb, 'x'}, {1, 'a'},
		{0, 7, 0, 0, 0, 1, 0, 1, 0, 0, 0, 0}, {0, 9, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, {0xff, 0xff, 0xff, 1, 1}, {}, {0, 0, 0, 2, 0x40, 0, 0, 0, 5, 1, 3, 2, 'd', 'b'}, {0, 0, 0, 2, 0x40, 0, 0, 0, 9, 0, 7, 1, 'a', 1, 'b', 1, 'c', 2}, {0xfe, 0, 0, 2, 0x40, 0, 0}, {0xfe, 'm', 0},
	}
	rapid.Check(t, func(t *rapid.T) {
		var misused []string
		e, err := engine.New(engine.Options{Dialect: dialect.Dialect, Misuse: func(what string) { misused = append(misused, what) }}, time.Now())
		require.NoError(t, err)
		defer e.Close()
		log := &faults{}
		s := quiet(t, e, log, rapid.Bool().Draw(t, "without EOF"))
		s.tracks = rapid.Bool().Draw(t, "tracks")
		back := framer{keep: func(byte, int) int { return longestLogin }}
		for range rapid.IntRange(1, 40).Draw(t, "steps") {
			var b []byte
			body := rapid.SliceOfN(rapid.Byte(), 0, 12).Draw(t, "body")
			client := rapid.Bool().Draw(t, "client")
			switch {
			case client && rapid.IntRange(0, 4).Draw(t, "sense") > 0:
				kind := rapid.SampledFrom([]byte{comQuery, comPrepare, comExecute, comClose, comInitDB, comReset, comChangeUser, comSendLongData, comFieldList, comBulkExecute, 0x0e, comFetch, 0x1d}).Draw(t, "kind")
				b = packet(0, append(append([]byte{kind}, rapid.SampledFrom(texts).Draw(t, "text")...), body...))
			case !client && rapid.IntRange(0, 9).Draw(t, "sense") > 0:
				b = packet(rapid.ByteRange(0, 9).Draw(t, "number"), rapid.SampledFrom(replies).Draw(t, "reply"))
			default:
				b = packet(rapid.ByteRange(0, 3).Draw(t, "number"), body)
			}
			if client && rapid.IntRange(0, 15).Draw(t, "long") == 0 {
				b = packet(0, append([]byte{comQuery}, strings.Repeat("select 1 ", 10_000)...))
			}
			cut := rapid.IntRange(0, len(b)).Draw(t, "cut")
			for _, piece := range [][]byte{b[:cut], b[cut:]} {
				switch {
				case len(piece) == 0:
				case client:
					s.sent(piece)
				default:
					s.came(&back, piece, len(piece))
				}
			}
		}
		s.leaves()
		s.client.Close()
		s.origin.Close()
		assert.Empty(t, log.list)
		assert.Empty(t, misused)
		assert.Zero(t, e.Sessions())
		assert.Zero(t, e.SessionRoom().Used(), "what was taken for prepared statements was given back")
	})
}

// However many commands a client sends ahead, each reply takes as long as any other: if all that are behind it were
// touched, this would take minutes.
func TestManyCommandsAhead(t *testing.T) {
	e, err := engine.New(engine.Options{Dialect: dialect.Dialect, Misuse: func(what string) { t.Error(what) }}, time.Now())
	require.NoError(t, err)
	defer e.Close()
	log := &faults{}
	s := quiet(t, e, log, false)
	back := framer{}
	const commands = mostOutstanding - 1
	for range commands {
		s.sent(packet(0, []byte("\x03select 1 from berths")))
	}
	assert.Len(t, s.queue, commands)
	for range commands {
		s.came(&back, packet(1, []byte{0, 0, 0, 2, 0, 0, 0}), 11)
	}
	assert.Empty(t, s.queue)
	assert.Empty(t, s.lost)
	allocated := testing.AllocsPerRun(100, func() {
		s.enqueue(command{kind: comQuery})
		s.done()
	})
	assert.Zero(t, allocated, "a queue that is empty begins where it did")
	s.leaves()
	assert.Empty(t, log.list)
}

// cached gives a session of a larder that caches everything, and knows a table.
func cached(t *testing.T, log *faults) *session {
	e, err := engine.New(engine.Options{Dialect: dialect.Dialect, Misuse: func(what string) { t.Error(what) }}, time.Now())
	require.NoError(t, err)
	t.Cleanup(e.Close)
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	s := quiet(t, e, log, false)
	s.eng.Asking(engine.NeedCatalog, s.now)
	d := &catalog.Described{Tables: []catalog.Table{{Schema: "skerrow", Name: "berths", Type: "BASE TABLE", Engine: "InnoDB"}}}
	if end := s.eng.LearnedPart(d, s.server.Time()); end != nil {
		end(s.server.Time())
	}
	s.status, s.heard = statusAutocommit, true
	return s
}

// A statement that is ended while the larder asks its own question has ended as its client wished.
func TestKillingTheQuestion(t *testing.T) {
	log := &faults{}
	s := cached(t, log)
	client, program := net.Pipe()
	s.client = socket.New(client)
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		s.sent(packet(0, []byte("\x03select ship from berths where id = 7")))
	}()
	asks := func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return len(s.queue) == 1 && s.queue[0].own == ownQuestion
	}
	require.Eventually(t, asks, time.Minute, time.Millisecond)
	refusal := errorPacket(1, codeInterrupted, "70100", "Query execution was interrupted")
	require.Empty(t, s.came(&framer{}, refusal, len(refusal)).forward, "it is for nobody")
	s.learnt <- struct{}{}
	got := make([]byte, len(refusal))
	_, err := io.ReadFull(program, got)
	require.NoError(t, err)
	assert.Equal(t, refusal, got)
	<-sent
	assert.Empty(t, s.queue, "it did not go on")
	s.leaves()
	assert.Empty(t, log.list)
}

// An answer from memory allocates nothing, whether the statement comes as text or was prepared.
func TestHitsAllocateNothing(t *testing.T) {
	log := &faults{}
	s := cached(t, log)
	values := make([]string, asksVariables+len(syntax.Variables))
	values[asksSchema], values[asksIsolation], values[asksVariables] = "skerrow", "REPEATABLE-READ", "1"
	s.values = values
	s.learns()
	back := framer{}
	text := packet(0, []byte("\x03select ship from berths where id = 7"))
	run := packet(0, append([]byte{comExecute, 7, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 3, 0}, 7, 0, 0, 0))
	s.sent(packet(0, []byte("\x16select ship from berths where id = ?")))
	prepared := append(packet(1, []byte{0, 7, 0, 0, 0, 1, 0, 1, 0, 0, 0, 0}), packet(2, []byte("\x03def"))...)
	prepared = append(append(append(prepared, packet(3, []byte{markEOF, 0, 0, 2, 0})...), packet(4, []byte("\x03def"))...), packet(5, []byte{markEOF, 0, 0, 2, 0})...)
	s.came(&back, prepared, len(prepared))
	for _, command := range [][]byte{text, run} {
		for range 3 {
			s.sent(command)
			if len(s.queue) > 0 {
				reply := result(1, 1, false, statusAutocommit)
				s.came(&back, reply, len(reply))
			}
		}
		others := 0
		allocated := testing.AllocsPerRun(200, func() {
			if s.sent(command); s.eng.Last().Outcome != ledger.Hit {
				others++
			}
		})
		assert.Zero(t, others, "all are hits")
		assert.Zero(t, allocated, "%q", command)
	}
	s.leaves()
	assert.Empty(t, log.list)
}
