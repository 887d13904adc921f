package lines

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// server stands between clients and one origin.
type server struct {
	link.Options
	fault Fault

	mu    sync.Mutex
	ended bool
	conns map[net.Conn]net.Conn // clients, with what they are connected to
	wg    sync.WaitGroup
	one   sync.Mutex // held by a client that is written to, with the fault WaitsForOneClient
}

func (s *server) Configure(link.Settings) {}
func (s *server) EndIdle()                {}

// Reach implements link.Server.
func (s *server) Reach(context.Context) error { return nil }

func (s *server) Clients() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.conns)
}

func (s *server) Drain(ctx context.Context) {
	for s.Clients() > 0 && ctx.Err() == nil {
		time.Sleep(time.Millisecond)
	}
}

func (s *server) Close() {
	s.mu.Lock()
	s.ended = true
	for c, o := range s.conns {
		c.Close()
		o.Close()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

func (s *server) Serve(l net.Listener) error {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		s.wg.Go(func() { s.handle(c) })
	}
}

// handle serves one client.
func (s *server) handle(c net.Conn) {
	defer c.Close()
	origin, err := net.Dial(link.Network(s.Origin), s.Origin)
	if err != nil {
		fmt.Fprintf(c, "failed there is no server\n")
		return
	}
	defer origin.Close()
	s.mu.Lock()
	if s.ended {
		s.mu.Unlock()
		return
	}
	if s.conns == nil {
		s.conns = map[net.Conn]net.Conn{}
	}
	s.conns[c] = origin
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.fault != KeepsVanished {
			delete(s.conns, c)
		}
	}()
	x := &session{s: s, client: bufio.NewReaderSize(c, longest), to: c, origin: bufio.NewReader(origin), ask: origin}
	hello, err := x.client.ReadString('\n')
	if err != nil {
		return
	}
	words := strings.Fields(hello)
	if len(words) > 0 && words[0] == "cancel" && s.fault == IgnoresCancelling {
		return
	}
	if _, err := io.WriteString(origin, hello); err != nil {
		return
	}
	welcome, err := x.origin.ReadString('\n')
	_, _ = io.WriteString(c, welcome)
	if s.fault == ReadsStrangers && strings.HasPrefix(welcome, "failed") {
		x.eng = s.Engine.NewSession(engine.Identity{Origin: s.Name, Database: "nowhere"})
		x.eng.Read([]byte("select name from quay where id = 7"))
		x.eng.Close(time.Now())
	}
	if err != nil || len(words) != 3 || !strings.HasPrefix(welcome, "welcome") {
		return
	}
	x.eng = s.Engine.NewSession(engine.Identity{Origin: s.Name, Database: words[2], User: userOf(words[1]), Address: c.RemoteAddr().String()})
	defer func() { x.eng.Close(time.Now()) }()
	if ready, err := x.origin.ReadString('\n'); err == nil {
		_, err = io.WriteString(c, ready)
		for err == nil {
			err = x.statement()
		}
	}
	if s.fault == HidesTheEnd { // until the larder itself ends
		_, _ = io.Copy(io.Discard, c)
	}
}

// longest bounds a statement, in bytes.
const longest = 64 << 10

// session is one client's.
type session struct {
	s      *server
	eng    *engine.Session
	client *bufio.Reader
	to     net.Conn
	origin *bufio.Reader
	ask    net.Conn
}

// statement takes one statement from a client to its end.
func (x *session) statement() error {
	line, err := x.client.ReadSlice('\n')
	if err != nil {
		return err
	}
	line = append([]byte(nil), line...)
	sql, values, _ := strings.Cut(strings.TrimSuffix(string(line), "\n"), "\t")
	began := time.Now()
	r := &engine.Request{Statement: x.eng.Read([]byte(sql)).Clone(), Shape: 'l', Bound: []byte(values)}
	unseen := x.s.fault == OverlooksWrites || x.s.fault == OverlooksBoundWrites && values != ""
	if unseen = unseen && r.Pattern.Facts.Kind == analysis.KindUpdate; unseen {
		reply, ready, err := x.forward(line)
		return errors.Join(err, x.write(append(reply, ready...)))
	}
	if need := x.eng.Wants(began); need != 0 && x.eng.State() == engine.Idle {
		if err := x.learn(need); err != nil {
			return err
		}
	}
	t := x.eng.Begin(r, began)
	for {
		switch t.Step() {
		case engine.StepAnswer:
			reply := append(append([]byte(nil), t.Entry.Reply...), x.ready()...)
			if x.s.fault == LosesBytes {
				reply = reply[1:]
			}
			t.End(engine.Result{Took: time.Since(began), Rows: t.Entry.Rows, Bytes: len(reply)}, time.Now())
			return x.write(reply)
		case engine.StepAsk:
			if err := x.learn(t.Need); err != nil {
				t.Drop()
				return err
			}
		case engine.StepWait:
			done, most := t.Done()
			select {
			case <-done:
			case <-time.After(most):
			}
		case engine.StepForward:
			return x.forwards(t, line, began)
		}
		t.Again(r, time.Now())
	}
}

// forwards sends a statement to the origin, and its reply to the client once it is known what came of it.
func (x *session) forwards(t engine.Ticket, line []byte, began time.Time) error {
	sent := time.Now()
	t.Sent(sent)
	reply, ready, err := x.forward(line)
	if err != nil {
		return err // what was under way is settled when the session is closed
	}
	result := engine.Result{Took: time.Since(began), Fetch: time.Since(sent), Rows: strings.Count(string(reply), "\n") - 1, Bytes: len(reply)}
	if result.Failed = !strings.HasSuffix(string(reply), "done\n"); !result.Failed && x.s.fault != CachesNothing {
		result.Reply = append([]byte(nil), reply...)
	}
	now := time.Now()
	t.End(result, now)
	x.eng.Ready(states[ready])
	return x.write(append(reply, ready...))
}

var states = map[string]engine.TxState{"ready I\n": engine.Idle, "ready T\n": engine.InBlock}

// ready gives the last line of a reply from memory.
func (x *session) ready() string {
	if x.eng.State() == engine.InBlock {
		return "ready T\n"
	}
	return "ready I\n"
}

// forward sends a line to the origin and reads the reply, and the state behind it.
func (x *session) forward(line []byte) (reply []byte, ready string, err error) {
	if _, err := x.ask.Write(line); err != nil {
		return nil, "", err
	}
	for {
		got, err := x.origin.ReadString('\n')
		switch {
		case err != nil:
			return nil, "", err
		case strings.HasPrefix(got, "ready "):
			return reply, got, nil
		}
		reply = append(reply, got...)
	}
}

// learn asks the origin what the engine needs to know.
func (x *session) learn(need engine.Need) error {
	need = x.eng.Asking(need, time.Now())
	if need&engine.NeedSettings != 0 { // which nobody can change
		x.eng.Learned(engine.Settings{Values: []string{"lines"}, Isolation: analysis.ReadCommitted, Path: []string{"main"}, Server: "lines"})
	}
	if need&engine.NeedCatalog == 0 {
		return nil
	}
	reply, _, err := x.forward([]byte("tables\n"))
	if err != nil {
		return err
	}
	told, _ := strings.CutSuffix(strings.ReplaceAll(string(reply), "row ", ""), "done\n")
	if end := x.eng.LearnedPart(tables(told), time.Now()); end != nil {
		end(time.Now())
	}
	return nil
}

func (x *session) write(b []byte) error {
	if x.s.fault == WaitsForOneClient {
		x.s.one.Lock()
		defer x.s.one.Unlock()
	}
	_, err := x.to.Write(b)
	return err
}
