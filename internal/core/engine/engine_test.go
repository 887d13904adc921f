package engine

import (
	"cmp"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// With so many counters, hardly any two values of these tests share one by chance.
func init() { freshness.FewestCounters = 1 << 16 }

const read = "select n from berths where id = 1"

var now = time.Unix(1_800_000_000, 0)

// begin makes an engine that keeps a statement, and a session of which everything is known.
func begin(t testing.TB, opts Options) (*Engine, *Session) {
	opts.Dialect = cmp.Or(opts.Dialect, postgres.Dialect)
	opts.Observers = append(opts.Observers, counts{})
	opts.Misuse = func(what string) { t.Error(what) }
	e, err := New(opts, now)
	require.NoError(t, err)
	return e, session(e)
}

// counts counts statements by pattern and application.
type counts struct{ Unmoved }

func (counts) Ended(x *Ended) {
	x.Numbers.Record(&x.Record)
	x.Application.Record(&x.Record)
}

func session(e *Engine) *Session {
	s := e.NewSession(Identity{Database: "skerrow", User: "ines", Application: "quay-boards"})
	learn(s)
	return s
}

func learn(s *Session) {
	s.Asking(NeedSettings|NeedCatalog, now)
	s.Learned(Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted})
	s.LearnedCatalog(describe([]schema.Row{
		{What: "relation", Schema: "public", Name: "berths", Flags: "r"},
		{What: "relation", Schema: "public", Name: "ports", Flags: "r"},
		{What: "columns", Schema: "public", Name: "berths", OtherName: "n id\n n"},
		{What: "key", Schema: "public", Name: "berths", OtherName: "id"},
	}), now)
}

func keep(e *Engine, s *Session, sql string) {
	e.SetRules(rules.NewSet([]rules.Rule{{Pattern: s.Read([]byte(sql)).Pattern.ID, Action: rules.Cache, TTL: time.Minute, ControlSample: -1}}))
}

func decide(s *Session, sql string) Ticket {
	return s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, now)
}

// ask runs a read to its end and says what became of it.
func ask(s *Session, sql string, at time.Time) ledger.Outcome {
	d := s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, at)
	outcome := d.Outcome
	if d.Step() == StepForward {
		d.Sent(at)
	}
	d.End(Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Bytes: 9, Reply: []byte("the reply")}, at)
	if outcome != ledger.Hit {
		s.Ready(s.State())
	}
	return outcome
}

// What is sent in one breath, before the server has said where the session stands.
func TestTransactionsInAPipeline(t *testing.T) {
	for name, c := range map[string]struct {
		first   []string // and the state after them
		state   TxState
		then    []string
		end     TxState
		visible bool // somebody else may see the write at the end
	}{
		"autocommit":              {nil, Idle, []string{"update berths set n = 1"}, Idle, true},
		"whole block at once":     {nil, Idle, []string{"begin", "update berths set n = 1", "commit"}, Idle, true},
		"begun and left open":     {nil, Idle, []string{"begin", "update berths set n = 1"}, InBlock, true}, // too much at worst
		"left open before":        {[]string{"begin", "update ports set n = 1"}, InBlock, []string{"update berths set n = 1"}, InBlock, false},
		"committed":               {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"commit"}, Idle, true},
		"rolled back, then again": {[]string{"begin"}, InBlock, []string{"rollback", "update berths set n = 1"}, Idle, true},
		"committed and chained":   {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"commit and chain"}, InBlock, true},
		"prepared":                {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"prepare transaction 'x'"}, Idle, false},
		"prepared, committed":     {[]string{"begin", "update berths set n = 1", "prepare transaction 'x'"}, Idle, []string{"commit prepared 'x'"}, Idle, true},
		"prepared, another's":     {[]string{"begin", "update ports set n = 1", "prepare transaction 'x'"}, Idle, []string{"commit prepared 'x'"}, Idle, false},
		"prepared, undone":        {[]string{"begin", "update berths set n = 1", "prepare transaction 'x'"}, Idle, []string{"rollback prepared 'x'"}, Idle, false},
		"ended unseen":            {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"select 1"}, Idle, true},
		"rolled back":             {[]string{"begin"}, InBlock, []string{"update berths set n = 1", "rollback"}, Idle, false},
	} {
		t.Run(name, func(t *testing.T) {
			e, writer := begin(t, Options{})
			reader := session(e)
			keep(e, reader, read)
			run := func(list []string, end TxState, during func()) {
				var under []Ticket
				for _, sql := range list {
					d := decide(writer, sql)
					d.Sent(now)
					under = append(under, d)
				}
				during()
				for _, d := range under {
					d.End(Result{}, now)
				}
				writer.Ready(end)
			}
			run(c.first, c.state, func() {})
			ask(reader, read, now)
			require.Equal(t, ledger.Hit, ask(reader, read, now))
			run(c.then, c.end, func() {
				if c.visible && name != "ended unseen" {
					assert.Equal(t, ledger.Miss, ask(reader, read, now), "from the moment it is sent")
					assert.Equal(t, ledger.Miss, ask(reader, read, now), "and nothing is kept while it is under way")
				}
			})
			after := ask(reader, read, now)
			if c.visible {
				assert.Equal(t, ledger.Miss, after)
				assert.Equal(t, ledger.Hit, ask(reader, read, now))
			} else {
				assert.Equal(t, ledger.Hit, after)
			}
		})
	}
}

// A text that comes again byte for byte is not read again, and means the same; what shares its place takes turns.
func TestTextsThatComeAgain(t *testing.T) {
	e, s := begin(t, Options{MostPatterns: 20})
	for range 3 {
		for i := range 40 {
			sql := fmt.Sprintf("select n from berths where id = %d and 'A' = 'A'", i%3)
			if i%2 == 0 {
				sql = fmt.Sprintf("select c%d from berths", i)
			}
			scan := statement.Scan{Syntax: postgres.Dialect.Syntax}
			scan.Read([]byte(sql))
			st := s.Read([]byte(sql))
			require.Equal(t, string(scan.Exact), string(st.Exact))
			if !st.Pattern.passing {
				require.Equal(t, string(postgres.Dialect.Syntax.Normalise([]byte(sql))), st.Pattern.Text)
			}
		}
	}
	known, _ := e.textsOf(postgres.Dialect.Syntax).get([]byte("select n from berths where id = 1 and 'A' = 'A'"))
	require.NotNil(t, known)
	assert.Nil(t, first(e.textsOf(postgres.Dialect.Syntax).get([]byte("select n from berths where id = 1 and 'A' = 'a'"))), "not the same bytes")
	assert.Nil(t, first(e.textsOf(postgres.Dialect.Syntax).get([]byte("select c38 from berths"))), "a pattern beyond the limit is read each time")
	long := "select n from berths where id = 1 -- " + strings.Repeat("x", longestText)
	for range 3 {
		s.Read([]byte(long))
	}
	assert.Nil(t, first(e.textsOf(postgres.Dialect.Syntax).get([]byte(long))))
}

func first(st *Statement, _ uint64) *Statement { return st }

// Settings are asked for ahead only for those whose sessions mostly come to need them.
func TestAskingAhead(t *testing.T) {
	e, s := begin(t, Options{})
	keep(e, s, read)
	fresh := func() *Session {
		return e.NewSession(Identity{Database: "skerrow", User: "ines", Application: "crew-tablet"})
	}
	a := fresh()
	assert.Zero(t, a.Wants(now)&NeedSettings, "nothing is known of it")
	assert.Equal(t, NeedSettings, decide(a, read).Need)
	b := fresh()
	assert.Equal(t, NeedSettings, b.Wants(now)&NeedSettings)
	for range 3 {
		fresh().Close(now) // connected and left
	}
	assert.Zero(t, fresh().Wants(now)&NeedSettings)
}

// What one origin's clients do counts for that origin alone.
func TestOriginsAreApart(t *testing.T) {
	e, _ := begin(t, Options{})
	at := func(origin string) *Session {
		s := e.NewSession(Identity{Origin: origin, Database: "skerrow", User: "ines"})
		learn(s)
		return s
	}
	north, south := at("north"), at("south")
	keep(e, north, read)
	ask(north, read, now)
	assert.Equal(t, ledger.Miss, ask(south, read, now), "another's result is not given")
	ask(south, "update berths set n = 1", now)
	ask(south, "drop table ports", now)
	assert.Equal(t, ledger.Hit, ask(north, read, now))
	learn(south)
	assert.Equal(t, ledger.Miss, ask(south, read, now))
}

func TestTTLAndRules(t *testing.T) {
	e, s := begin(t, Options{})
	assert.Equal(t, ledger.Bypass, ask(s, read, now))
	keep(e, s, read)
	assert.Equal(t, ledger.Miss, ask(s, read, now))
	assert.Equal(t, ledger.Hit, ask(s, read, now.Add(59*time.Second)))
	assert.Equal(t, ledger.Miss, ask(s, read, now.Add(60*time.Second)))
	assert.Equal(t, ledger.Miss, ask(s, "select n from berths where id = 2", now), "another input")
	e.SetCaching(false)
	assert.Equal(t, ledger.Bypass, ask(s, read, now))
	e.SetCaching(true)
	e.SetRules(rules.NewSet(nil))
	assert.Equal(t, ledger.Bypass, ask(s, read, now))
	results, _, _ := e.Cached()
	assert.Zero(t, results, "what no rule keeps is let go")
}

func TestAWriteThatWasLostSettles(t *testing.T) {
	e, writer := begin(t, Options{Settle: time.Minute})
	reader := session(e)
	keep(e, reader, read)
	d := decide(writer, "update berths set n = 1")
	d.Sent(now)
	writer.Close(now)
	e.Tick(now.Add(59 * time.Second))
	ask(reader, read, now)
	assert.Equal(t, ledger.Miss, ask(reader, read, now))
	e.Tick(now.Add(60 * time.Second))
	ask(reader, read, now)
	assert.Equal(t, ledger.Hit, ask(reader, read, now))
}

func TestPatternsAreBounded(t *testing.T) {
	e, s := begin(t, Options{MostPatterns: 10})
	for i := range 50 {
		ask(s, fmt.Sprintf("select a%d from berths", i), now)
	}
	n, calls := 0, uint64(0)
	e.Patterns(func(p *Pattern) { n++; calls += p.Numbers.Total().Calls() })
	assert.Equal(t, 11, n)
	assert.Equal(t, uint64(50), calls)
	d := decide(s, "delete from berths where a51 = 1")
	assert.Equal(t, ledger.Write, d.Outcome, "what a statement does is known all the same")
}

func TestMemoryStaysWithinItsLimit(t *testing.T) {
	e, s := begin(t, Options{Memory: 1 << 20})
	keep(e, s, read)
	for i := range 20_000 {
		ask(s, fmt.Sprintf("select n from berths where id = %d", i), now)
	}
	require.Eventually(t, func() bool { _, bytes, limit := e.Cached(); return bytes <= limit }, time.Minute, 10*time.Millisecond)
	results, _, _ := e.Cached()
	assert.Greater(t, results, 500)
}

func BenchmarkDecideHit(b *testing.B) {
	e, s := begin(b, Options{})
	keep(e, s, read)
	ask(s, read, now)
	r := &Request{Statement: s.Read([]byte(read)), Shape: 'q'}
	b.ReportAllocs()
	for b.Loop() {
		d := s.Begin(r, now)
		if d.Outcome != ledger.Hit {
			b.Fatal(d.Reason)
		}
		d.Drop()
	}
}

// What is the same for every statement: its text read, its pattern found, and decided on where nothing is kept.
func BenchmarkReadAndDecidePass(b *testing.B) {
	e, s := begin(b, Options{})
	for name, differs := range map[string]int{"the same text": 1, "another text each time": 10_000} {
		texts := make([][]byte, differs)
		for i := range texts {
			texts[i] = fmt.Appendf(nil, "SELECT n, name, moored_at FROM berths WHERE quay_id = %d AND state IN ('free', 'held') AND length >= 12.5 ORDER BY name LIMIT 20", i)
		}
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				r := Request{Statement: s.Read(texts[i%len(texts)]), Shape: 'q'}
				d := s.Begin(&r, now)
				if d.Outcome != ledger.Bypass {
					b.Fatal(d.Outcome)
				}
				d.Drop()
			}
		})
	}
	_ = e
}

// Known patterns while ten thousand new ones come every second: what is found must not wait for what is learned.
func BenchmarkKnownWhileLearning(b *testing.B) {
	for name, learning := range map[string]bool{"quiet": false, "10,000 new patterns a second": true} {
		b.Run(name, func(b *testing.B) {
			e, s := begin(b, Options{})
			keep(e, s, read)
			ask(s, read, now)
			r := &Request{Statement: s.Read([]byte(read)), Shape: 'q'}
			done := make(chan struct{})
			var wg sync.WaitGroup
			if learning {
				wg.Go(func() {
					other := session(e)
					tick := time.NewTicker(time.Millisecond)
					defer tick.Stop()
					for i := 0; ; {
						select {
						case <-done:
							return
						case <-tick.C:
							for range 10 {
								other.Read(fmt.Appendf(nil, "select c%d from berths", i))
								i++
							}
						}
					}
				})
			}
			var slowest time.Duration
			for b.Loop() {
				begun := time.Now()
				s.Begin(r, now).Drop()
				slowest = max(slowest, time.Since(begun))
			}
			close(done)
			wg.Wait()
			b.ReportMetric(float64(slowest.Microseconds()), "slowest-µs")
		})
	}
}

// A function that is called all the time must not keep the catalog from becoming known, unless it may change the schema.
func TestTheCatalogBecomesKnownUnderFunctionCalls(t *testing.T) {
	for body, known := range map[string]bool{"select 1": true, "create table x (a int)": false} {
		e, err := New(Options{Dialect: postgres.Dialect}, now)
		require.NoError(t, err)
		reader, caller := e.NewSession(Identity{Database: "skerrow"}), e.NewSession(Identity{Database: "skerrow"})
		require.NotZero(t, reader.Asking(NeedCatalog, now)&NeedCatalog)
		d := decide(caller, "select f(1)")
		d.Sent(now)
		rows := []schema.Row{
			{What: "relation", Schema: "public", Name: "berths", Flags: "r"},
			{What: "function", Schema: "public", Name: "f", Flags: "vf", OtherSchema: "sql", OtherName: "create function f(int) returns int language sql as '" + body + "'"},
			{What: "builtin", OtherName: "i abs"},
		}
		is := func(known bool, when string) {
			e.Databases(func(_ string, is, _ bool, _ []string) { assert.Equal(t, known, is, "%s: %s", body, when) })
		}
		reader.LearnedCatalog(describe(rows), now)
		is(known, "a first answer")
		reader.Asking(NeedCatalog, now)
		reader.LearnedCatalog(describe(rows), now)
		is(true, "an answer from before what is still under way")
		d.End(Result{}, now)
		is(known, "when that has ended")
	}
}

// Patterns beyond the limit are merged, the least waited for first; those with a rule and those in use stay.
func TestRarePatternsAreMerged(t *testing.T) {
	e, s := begin(t, Options{MostPatterns: 100})
	keep(e, s, read)
	at := now
	asked := 0
	run := func(sql string, took time.Duration) {
		d := decide(s, sql)
		d.Sent(at)
		d.End(Result{Took: took}, at)
		s.Ready(Idle)
		asked++
	}
	run("select slow from berths", time.Minute)
	for range 5 {
		for i := range 60 {
			run(fmt.Sprintf("select c%d from berths", asked+i), time.Millisecond)
		}
		for range 30 { // more than a minute goes by
			at = at.Add(5 * time.Second)
			e.Tick(at)
		}
	}
	patterns, calls, merged := 0, uint64(0), uint64(0)
	e.Patterns(func(p *Pattern) {
		patterns++
		calls += p.Numbers.Calls()
		merged += p.Numbers.Merged.Load()
	})
	assert.LessOrEqual(t, patterns, 101)
	assert.EqualValues(t, asked, calls, "every call is still counted")
	assert.Greater(t, merged, uint64(20))
	assert.NotNil(t, e.Pattern(postgres.Dialect.Syntax.Of(read)), "a rule speaks of it")
	assert.NotNil(t, e.Pattern(postgres.Dialect.Syntax.Of("select slow from berths")), "clients waited long for it")
}

// What a pattern takes in memory, when each was seen once and when each is in use.
func BenchmarkMemoryOfPatterns(b *testing.B) {
	for name, calls := range map[string]int{"seen once": 1, "in use": 40} {
		b.Run(name, func(b *testing.B) {
			const patterns = 50_000
			for b.Loop() {
				var before, after runtime.MemStats
				runtime.GC()
				runtime.ReadMemStats(&before)
				e, s := begin(b, Options{Overhead: 4 << 30}) // room for all of them
				at := now
				for range calls {
					for i := range patterns - 1000 {
						d := s.Begin(&Request{Statement: s.Read(fmt.Appendf(nil, "select c%d, n, name, moored_at from berths where id = %d and state = 'free' order by name", i, calls)), Shape: 'q'}, at)
						d.Sent(at)
						d.End(Result{Took: time.Millisecond}, at)
					}
					at = at.Add(time.Second)
					e.Ledger.Tick(at)
				}
				runtime.GC()
				runtime.ReadMemStats(&after)
				require.EqualValues(b, patterns-1000, e.patterns.count.Load())
				b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/(patterns-1000), "B/pattern")
				runtime.KeepAlive(e)
			}
		})
	}
}

// A write moves its clocks in the same time, however much is kept.
func BenchmarkWrite(b *testing.B) {
	for _, kept := range []int{1, 100_000} {
		b.Run(fmt.Sprintf("kept=%d", kept), func(b *testing.B) {
			e, s := begin(b, Options{Memory: 1 << 30})
			keep(e, s, read)
			for i := range kept {
				ask(s, fmt.Sprintf("select n from berths where id = %d", i), now)
			}
			r := &Request{Statement: s.Read([]byte("update ports set n = 1")).Clone(), Shape: 'q'}
			b.ReportAllocs()
			for b.Loop() {
				d := s.Begin(r, now)
				d.Sent(now)
				d.End(Result{}, now)
				s.Ready(Idle)
			}
		})
	}
}
