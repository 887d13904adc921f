package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/control/client"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/privatepg"
)

// The statements. Those on kept tables have a rule; the others are the same and have none.
const (
	schema = `create table kept_fares (id int primary key, fare int not null);
insert into kept_fares select i, i * 7 from generate_series(1, 10000) i;
create table passed_fares as select * from kept_fares;
alter table passed_fares add primary key (id);
create table kept_sailings as select i as id, 'vessel ' || i % 17 as vessel, date '2027-03-01' + i as day, i * 3 as seats from generate_series(1, 1000) i;
create table passed_sailings as select * from kept_sailings;
create table loaded (id int, note text);
analyze`
	keptPoint   = "select fare from kept_fares where id = 4711"
	passedPoint = "select fare from passed_fares where id = 4711"
	keptRows    = "select id, vessel, day, seats from kept_sailings order by id"
	passedRows  = "select id, vessel, day, seats from passed_sailings order by id"
	// 100 MB in 100,000 rows.
	large   = "select i, repeat('x', 1000) from generate_series(1, 100000) i"
	copyOut = "copy (" + large + ") to stdout"
	copyIn  = "copy loaded from stdin"
)

// bench is what all cases share.
type bench struct {
	program string
	rounds  int
	slice   time.Duration
	idle    int
	just    string
	results Results

	dir      string
	pg       *privatepg.Server
	procs    []*process
	larder   *process
	relay    *process
	stub     *process
	kv       *process
	direct   string // addresses
	relayed  string
	through  string
	stubbed  string
	keyValue string
	control  string
}

func (b *bench) stop() {
	for _, p := range slices.Backward(b.procs) {
		p.stop()
	}
	if b.pg != nil {
		b.pg.Stop()
	}
	if b.dir != "" {
		os.RemoveAll(b.dir)
	}
}

// spawn starts a process that listens on a free port.
func (b *bench) spawn(name, program string, args func(address string) []string) (*process, string, error) {
	address, err := freePort()
	if err != nil {
		return nil, "", err
	}
	p, err := startProcess(name, program, args(address)...)
	if err != nil {
		return nil, "", fmt.Errorf("starting %s: %w", name, err)
	}
	b.procs = append(b.procs, p)
	return p, address, listening(p, address)
}

func (b *bench) start() (err error) {
	if b.dir, err = os.MkdirTemp("", "larderbench-"); err != nil {
		return err
	}
	if b.pg, err = privatepg.Start("", "shared_buffers=256MB", "jit=off"); err != nil {
		return err
	}
	b.direct = b.pg.Address()
	c, err := pgConn(b.direct)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := ask(c, message('Q', []byte(schema+"\x00"))); err != nil {
		return err
	}

	self, err := os.Executable()
	if err != nil {
		return err
	}
	if b.relay, b.relayed, err = b.spawn("the relay", self, func(a string) []string { return []string{"relay", a, b.direct} }); err != nil {
		return err
	}
	if err := b.startLarder(); err != nil {
		return err
	}
	if b.stubbed, err = b.startStub(); err != nil {
		return err
	}
	kv, err := exec.LookPath("redis-server")
	if err != nil {
		return fmt.Errorf("no key-value server is installed; scripts/install-test-tools gets one: %w", err)
	}
	b.kv, b.keyValue, err = b.spawn("the key-value server", kv, func(a string) []string {
		_, port, _ := net.SplitHostPort(a)
		return []string{"--bind", "127.0.0.1", "--port", port, "--save", "", "--appendonly", "no", "--dir", b.dir}
	})
	return err
}

// startLarder starts it with rules for the kept statements, and waits until they are answered from memory.
func (b *bench) startLarder() (err error) {
	var rules strings.Builder
	prepared := strings.Replace(keptPoint, "4711", "$1", 1)
	for _, sql := range []string{keptPoint, keptRows} {
		fmt.Fprintf(&rules, "[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1h\"\n", dialect.Dialect.Syntax.Of(sql))
	}
	file := filepath.Join(b.dir, "rules.toml")
	if err := os.WriteFile(file, []byte(rules.String()), 0o600); err != nil {
		return err
	}
	b.control = filepath.Join(b.dir, "larder.sock")
	b.larder, b.through, err = b.spawn("the larder", b.program, func(a string) []string {
		return []string{"serve", "--listen", a, "--origin", b.direct, "--rules", file, "--control", b.control}
	})
	if err != nil {
		return err
	}
	c, err := pgConn(b.through, prepared)
	if err != nil {
		return err
	}
	defer c.Close()
	api := client.NewClient(b.control)
	for range 400 {
		for _, request := range [][]byte{message('Q', []byte(keptPoint+"\x00")), message('Q', []byte(keptRows+"\x00")), bound("4711")} {
			if _, err := ask(c, request); err != nil {
				return err
			}
		}
		st, err := api.Status(context.Background())
		if err != nil {
			return err
		}
		if st.Total.Hits >= 6 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the larder answers nothing from memory")
}

// bound makes the request that runs the prepared statement s0.
func bound(value string) []byte {
	body := []byte("\x00s0\x00\x00\x00\x00\x01")
	body = append(body, 0, 0, 0, byte(len(value)))
	body = append(append(body, value...), 0, 0)
	return slices.Concat(message('B', body), message('E', []byte{0, 0, 0, 0, 0}), message('S'))
}

// startStub starts a stub that answers as the database does.
func (b *bench) startStub() (string, error) {
	c, err := net.Dial("tcp", b.direct)
	if err != nil {
		return "", err
	}
	defer c.Close()
	var reply canned
	if reply.Login, err = ask(c, startup("postgres", "postgres")); err != nil {
		return "", err
	}
	if reply.Simple, err = ask(c, message('Q', []byte(keptPoint+"\x00"))); err != nil {
		return "", err
	}
	if _, err = ask(c, slices.Concat(message('P', []byte("s0\x00select fare from kept_fares where id = $1\x00\x00\x00")), message('S'))); err != nil {
		return "", err
	}
	if reply.Prepared, err = ask(c, bound("4711")); err != nil {
		return "", err
	}
	text, err := json.Marshal(reply)
	if err != nil {
		return "", err
	}
	file := filepath.Join(b.dir, "canned.json")
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return "", err
	}
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	var address string
	b.stub, address, err = b.spawn("the stub", self, func(a string) []string { return []string{"stub", a, file} })
	return address, err
}

var cases = []struct {
	name string
	run  func(*bench) error
}{
	{"simple, 1 connection", func(b *bench) error { return b.points("simple, 1 connection", false, 1) }},
	{"simple, 16 connections", func(b *bench) error { return b.points("simple, 16 connections", false, 16) }},
	{"prepared, 1 connection", func(b *bench) error { return b.points("prepared, 1 connection", true, 1) }},
	{"prepared, 16 connections", func(b *bench) error { return b.points("prepared, 16 connections", true, 16) }},
	{"transaction, 1 connection", func(b *bench) error { return b.transactions("transaction, 1 connection", 1) }},
	{"transaction, 16 connections", func(b *bench) error { return b.transactions("transaction, 16 connections", 16) }},
	{"MariaDB", (*bench).mariaPoints},
	{"blocks far away", (*bench).blocksFarAway},
	{"1,000 rows", (*bench).thousandRows},
	{"100 MB result", func(b *bench) error { return b.stream("100 MB result", large, nil) }},
	{"COPY out, 100 MB", func(b *bench) error { return b.stream("COPY out, 100 MB", copyOut, nil) }},
	{"COPY in, 100 MB", func(b *bench) error { return b.stream("COPY in, 100 MB", copyIn, copyData()) }},
	{"opening connections", (*bench).opening},
	{"idle connections", (*bench).idleConnections},
	{"many connections", (*bench).manyConnections},
	{"a large one", (*bench).largeOne},
	{"allocations", (*bench).allocations},
	{"instructions", (*bench).instructions},
	{"accounting", (*bench).accounting},
	{"cached by hand", (*bench).byHand},
	{"ten watchers", (*bench).tenWatchers},
	{"a million results", (*bench).millionResults},
}

func caseNames() string {
	var names []string
	for _, c := range cases {
		names = append(names, c.name)
	}
	return strings.Join(names, "; ")
}

// compare runs targets in turn, round by round, and gives what each reached in every round.
func (b *bench) compare(name string, n int, targets ...target) (map[string][]float64, error) {
	out := map[string][]float64{}
	var fleets []*fleet
	for _, t := range targets {
		if b.just != "" && t.name != b.just {
			continue
		}
		f, err := t.fleet(n)
		if err != nil {
			return nil, err
		}
		defer f.close()
		fleets = append(fleets, f)
	}
	for round := range b.rounds {
		for i := range fleets {
			f := fleets[(i+round)%len(fleets)] // nobody is always first
			rate, err := f.run(b.slice)
			if err != nil {
				return nil, err
			}
			out[f.name] = append(out[f.name], rate)
		}
	}
	for _, f := range fleets {
		if f.process != nil && f.answered > 0 {
			b.results.Figures = append(b.results.Figures,
				Figure{Case: name, What: "processor time of " + f.name, Value: float64(f.used.Nanoseconds()) / 1000 / float64(f.answered), Unit: "µs"})
		}
	}
	return out, nil
}

// targets gives what a statement is asked of, given how a kept one and one that is passed on are asked for: the
// database, the relay, the larder for either, and the key-value server for the kept one's bytes.
func (b *bench) targets(key string, kept, passed target) ([]target, error) {
	c, err := kept.open(b.direct)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	value, err := ask(c, kept.request)
	if err != nil {
		return nil, err
	}
	kept.reply, passed.reply = len(value), len(value)
	named := func(t target, name, address string, p *process) target {
		t.name, t.address, t.process = name, address, p
		return t
	}
	kv := target{name: "kv", process: b.kv, address: b.keyValue, open: func(a string) (net.Conn, error) { return kvConn(a, key, value) }}
	kv.request, kv.reply = lookup(key, value)
	return []target{named(passed, "direct", b.direct, nil), named(passed, "relay", b.relayed, b.relay), named(passed, "bypass", b.through, b.larder),
		named(kept, "hit", b.through, b.larder), kv}, nil
}

// block makes a transaction of three reads.
func (b *bench) block(read string) (steps []step, err error) {
	c, err := pgConn(b.direct)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	for _, sql := range []string{"begin", read, read, read, "commit"} {
		request := message('Q', []byte(sql+"\x00"))
		reply, err := ask(c, request)
		if err != nil {
			return nil, err
		}
		steps = append(steps, step{request, len(reply)})
	}
	return steps, nil
}

// transactions measures blocks of BEGIN, three reads and COMMIT, each a request of its own: the reads are hits.
func (b *bench) transactions(name string, n int) error {
	kept, err := b.block(keptPoint)
	if err != nil {
		return err
	}
	passed, err := b.block(passedPoint)
	if err != nil {
		return err
	}
	open := func(a string) (net.Conn, error) { return pgConn(a) }
	rates, err := b.compare(name, n, target{name: "direct", address: b.direct, open: open, steps: passed}, target{name: "relay", address: b.relayed, open: open, steps: passed, process: b.relay},
		target{name: "bypass", address: b.through, open: open, steps: passed, process: b.larder}, target{name: "hits", address: b.through, open: open, steps: kept, process: b.larder})
	if err != nil || b.just != "" {
		return err
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "hits", "direct", rates["hits"], rates["direct"], 0),
		ratio(name, "bypass", "relay", rates["bypass"], rates["relay"], 1),
		ratio(name, "bypass", "direct", rates["bypass"], rates["direct"], 0))
	return nil
}

func (b *bench) points(name string, prepared bool, n int) error {
	kept, passed := target{request: message('Q', []byte(keptPoint+"\x00"))}, target{request: message('Q', []byte(passedPoint+"\x00"))}
	kept.open = func(a string) (net.Conn, error) { return pgConn(a) }
	passed.open = kept.open
	if prepared {
		kept.request, passed.request = bound("4711"), bound("4711")
		kept.open = func(a string) (net.Conn, error) { return pgConn(a, strings.Replace(keptPoint, "4711", "$1", 1)) }
		passed.open = func(a string) (net.Conn, error) { return pgConn(a, strings.Replace(passedPoint, "4711", "$1", 1)) }
	}
	shared, err := b.targets(keptPoint, kept, passed)
	if err != nil {
		return err
	}
	stub := shared[3] // it is asked what a hit is
	stub.name, stub.address, stub.process = "stub", b.stubbed, b.stub
	stub.open = func(a string) (net.Conn, error) { return pgConn(a) }
	rates, err := b.compare(name, n, append(shared, stub)...)
	if err != nil {
		return err
	}
	if b.just != "" {
		return nil
	}
	direct := 0.0
	if n > 1 && !prepared {
		direct = 3.5
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "bypass", "relay", rates["bypass"], rates["relay"], 1),
		ratio(name, "bypass", "direct", rates["bypass"], rates["direct"], 0),
		ratio(name, "hit", "stub", rates["hit"], rates["stub"], 0.95),
		ratio(name, "hit", "key-value lookup", rates["hit"], rates["kv"], 1),
		ratio(name, "hit", "direct", rates["hit"], rates["direct"], direct))
	if n > 1 {
		b.results.Figures = append(b.results.Figures, Figure{
			Case: name, What: "processor time of a hit / of the stub", Value: b.results.figure(name, "processor time of hit") / b.results.figure(name, "processor time of stub"), Unit: "times",
		}.atMost(1.05))
	}
	for _, what := range []string{"direct", "hit"} {
		b.results.Figures = append(b.results.Figures, Figure{Case: name, What: what, Value: median(rates[what]), Unit: "per second"})
	}
	return nil
}

func (b *bench) thousandRows() error {
	const name = "1,000 rows"
	kept := target{request: message('Q', []byte(keptRows+"\x00")), open: func(a string) (net.Conn, error) { return pgConn(a) }}
	passed := target{request: message('Q', []byte(passedRows+"\x00")), open: kept.open}
	shared, err := b.targets(keptRows, kept, passed)
	if err != nil {
		return err
	}
	rates, err := b.compare(name, 4, shared...)
	if err != nil {
		return err
	}
	if b.just != "" {
		return nil
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "bypass", "relay", rates["bypass"], rates["relay"], 1),
		ratio(name, "bypass", "direct", rates["bypass"], rates["direct"], 0),
		ratio(name, "hit", "key-value lookup", rates["hit"], rates["kv"], 1),
		ratio(name, "hit", "direct", rates["hit"], rates["direct"], 0))
	return nil
}

func copyData() []byte {
	line := append(bytes.Repeat([]byte("x"), 1000), '\n')
	var out []byte
	for i := range 64 {
		out = append(out, message('d', fmt.Appendf(nil, "%d\t", i), line)...)
	}
	return out
}

// stream measures one large transfer after the other.
func (b *bench) stream(name, sql string, data []byte) error {
	rates := map[string][]float64{}
	targets := []struct{ name, address string }{{"direct", b.direct}, {"relay", b.relayed}, {"bypass", b.through}}
	for round := range max(3, b.rounds/2) {
		for i := range targets {
			t := targets[(i+round)%len(targets)]
			c, err := pgConn(t.address)
			if err != nil {
				return err
			}
			start := time.Now()
			if _, err := c.Write(message('Q', []byte(sql+"\x00"))); err != nil {
				return err
			}
			if data != nil {
				for range 100_000 / 64 {
					if _, err := c.Write(data); err != nil {
						return err
					}
				}
				if _, err := c.Write(message('c')); err != nil {
					return err
				}
			}
			if err := drain(c); err != nil {
				return err
			}
			rates[t.name] = append(rates[t.name], 1/time.Since(start).Seconds())
			if data != nil {
				if _, err := ask(c, message('Q', []byte("truncate loaded\x00"))); err != nil {
					return err
				}
			}
			c.Close()
		}
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "bypass", "relay", rates["bypass"], rates["relay"], 1),
		ratio(name, "bypass", "direct", rates["bypass"], rates["direct"], 0))
	return nil
}

// drain reads until a ReadyForQuery ends what has arrived: the cheapest way to take a large reply, of which the last
// bytes are known.
func drain(c net.Conn) error {
	buf := make([]byte, 256<<10)
	end := []byte{'Z', 0, 0, 0, 5, 'I'}
	var tail []byte
	for {
		n, err := c.Read(buf)
		if err != nil {
			return err
		}
		tail = append(tail, buf[max(0, n-len(end)):n]...)
		tail = tail[max(0, len(tail)-len(end)):]
		if bytes.Equal(tail, end) {
			return nil
		}
	}
}

// opening measures logins: connecting, becoming ready, leaving.
func (b *bench) opening() error {
	const name, each = "opening connections", 1000
	rates := map[string][]float64{}
	targets := []struct{ name, address string }{{"direct", b.direct}, {"through", b.through}}
	rounds := max(3, b.rounds/4)
	for round := range rounds {
		for i := range targets {
			t := targets[(i+round)%len(targets)]
			start := time.Now()
			errs := make(chan error, 16)
			for range 16 {
				go func() {
					for range each / 16 {
						c, err := pgConn(t.address)
						if err == nil {
							_, err = c.Write(message('X'))
							_, _ = io.Copy(io.Discard, c)
							c.Close()
						}
						if err != nil {
							errs <- err
							return
						}
					}
					errs <- nil
				}()
			}
			for range 16 {
				if err := <-errs; err != nil {
					return err
				}
			}
			rates[t.name] = append(rates[t.name], time.Since(start).Seconds())
		}
	}
	r := ratio(name, "time through", "time direct", rates["through"], rates["direct"], 0)
	met := r.Median <= 1.3
	r.Aim, r.Met = "at most 1.3", &met
	b.results.Ratios = append(b.results.Ratios, r)
	return nil
}

// inUse is the memory that a larder uses for what it holds and for stacks, in bytes, when what waited to be collected
// has been: how much of that waits at a moment is no matter of connections.
func inUse(profile string) (int64, error) {
	r, err := http.Get("http://" + profile + "/debug/pprof/heap?gc=1&debug=1")
	if err != nil {
		return 0, err
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return 0, err
	}
	var sum int64
	for _, of := range []string{"HeapInuse", "Stack"} {
		_, rest, ok := strings.Cut(string(text), "\n# "+of+" = ")
		if !ok {
			return 0, fmt.Errorf("the larder's profile does not tell %s", of)
		}
		n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
		if err != nil {
			return 0, err
		}
		sum += n
	}
	return sum, nil
}

// idleConnections measures the larder's memory for connections that do nothing. The origin is a stub, since a
// database would need a process for each.
func (b *bench) idleConnections() error {
	profile, err := freePort()
	if err != nil {
		return err
	}
	_, address, err := b.spawn("a larder before the stub", b.program, func(a string) []string {
		return []string{"serve", "--listen", a, "--origin", b.stubbed, "--profile", profile}
	})
	if err != nil {
		return err
	}
	var conns []net.Conn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	open := func(n int) error {
		for range n {
			c, err := pgConn(address)
			if err != nil {
				return err
			}
			conns = append(conns, c)
			if _, err := ask(c, message('Q', []byte(passedPoint+"\x00"))); err != nil { // it was in use once
				return err
			}
		}
		return nil
	}
	if err := open(50); err != nil {
		return err
	}
	before, err := inUse(profile)
	if err != nil {
		return err
	}
	if err := open(b.idle); err != nil {
		return err
	}
	after, err := inUse(profile)
	if err != nil {
		return err
	}
	b.results.Figures = append(b.results.Figures,
		Figure{Case: fmt.Sprintf("%d idle connections", b.idle), What: "memory of each", Value: float64(after-before) / float64(b.idle) / 1024, Unit: "KiB"}.atMost(40))
	return nil
}
