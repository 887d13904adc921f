package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

const read = "select n from berths where id = 1"

var now = time.Unix(1_800_000_000, 0)

// begin makes an engine that keeps a statement, and a session of which everything is known.
func begin(t testing.TB, opts Options) (*Engine, *Session) {
	opts.Facts = facts.Facts
	e, err := New(opts, now)
	require.NoError(t, err)
	return e, session(e)
}

func session(e *Engine) *Session {
	s := e.NewSession(Identity{Database: "skerrow", User: "ines", Application: "quay-boards"})
	learn(s)
	return s
}

func learn(s *Session) {
	s.Asking(NeedSettings|NeedCatalog, now)
	s.Learned(Settings{Values: []string{"UTC"}, ReadCommitted: true})
	s.LearnedCatalog(catalog.New([]catalog.Row{
		{What: "relation", Schema: "public", Name: "berths", Flags: "r"},
		{What: "relation", Schema: "public", Name: "ports", Flags: "r"},
	}), now)
}

func keep(e *Engine, s *Session, sql string) {
	e.SetRules(rules.NewSet([]rules.Rule{{Pattern: s.Read([]byte(sql)).Pattern.ID, Verdict: rules.Keep, TTL: time.Minute}}))
}

func decide(s *Session, sql string) Decision {
	return s.Decide(&Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, now)
}

// ask runs a read to its end and says what became of it.
func ask(s *Session, sql string, at time.Time) ledger.Outcome {
	d := s.Decide(&Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, at)
	if d.Outcome != ledger.Hit {
		s.Send(&d, at)
		p := s.Pending()
		p.End()
		s.Ready(s.State())
	}
	s.Finish(&d, Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Reply: []byte("the reply")}, at)
	return d.Outcome
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
		"prepared":                {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"prepare transaction 'x'"}, Idle, true},
		"ended unseen":            {[]string{"begin", "update berths set n = 1"}, InBlock, []string{"select 1"}, Idle, true},
		"rolled back":             {[]string{"begin"}, InBlock, []string{"update berths set n = 1", "rollback"}, Idle, false},
	} {
		t.Run(name, func(t *testing.T) {
			e, writer := begin(t, Options{})
			reader := session(e)
			keep(e, reader, read)
			run := func(list []string, end TxState, during func()) {
				pending := writer.Pending()
				for _, sql := range list {
					d := decide(writer, sql)
					writer.Send(&d, now)
					pending.Add(writer.Pending())
				}
				during()
				pending.End()
				writer.Ready(end)
				rest := writer.Pending()
				rest.End()
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
			var scan statement.Scan
			scan.Read([]byte(sql))
			st := s.Read([]byte(sql))
			require.Equal(t, string(scan.Exact), string(st.Exact))
			if !st.Pattern.passing {
				require.Equal(t, string(scan.Pattern), st.Pattern.Text)
			}
		}
	}
	known, _ := e.texts.get([]byte("select n from berths where id = 1 and 'A' = 'A'"))
	require.NotNil(t, known)
	assert.Nil(t, first(e.texts.get([]byte("select n from berths where id = 1 and 'A' = 'a'"))), "not the same bytes")
	assert.Nil(t, first(e.texts.get([]byte("select c38 from berths"))), "a pattern beyond the limit is read each time")
	long := "select n from berths where id = 1 -- " + strings.Repeat("x", longestText)
	for range 3 {
		s.Read([]byte(long))
	}
	assert.Nil(t, first(e.texts.get([]byte(long))))
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
	assert.Equal(t, ledger.Pass, ask(s, read, now))
	keep(e, s, read)
	assert.Equal(t, ledger.Miss, ask(s, read, now))
	assert.Equal(t, ledger.Hit, ask(s, read, now.Add(59*time.Second)))
	assert.Equal(t, ledger.Miss, ask(s, read, now.Add(60*time.Second)))
	assert.Equal(t, ledger.Miss, ask(s, "select n from berths where id = 2", now), "another input")
	e.Hold(true)
	assert.Equal(t, ledger.Pass, ask(s, read, now))
	e.Hold(false)
	e.SetRules(rules.NewSet(nil))
	assert.Equal(t, ledger.Pass, ask(s, read, now))
	results, _, _ := e.Kept()
	assert.Zero(t, results, "what no rule keeps is let go")
}

func TestAWriteThatWasLostSettles(t *testing.T) {
	e, writer := begin(t, Options{Settle: time.Minute})
	reader := session(e)
	keep(e, reader, read)
	d := decide(writer, "update berths set n = 1")
	writer.Send(&d, now)
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
	require.Eventually(t, func() bool { _, bytes, limit := e.Kept(); return bytes <= limit }, 5*time.Second, 10*time.Millisecond)
	results, _, _ := e.Kept()
	assert.Greater(t, results, 500)
}

func BenchmarkDecideHit(b *testing.B) {
	e, s := begin(b, Options{})
	keep(e, s, read)
	ask(s, read, now)
	b.ReportAllocs()
	for b.Loop() {
		if d := decide(s, read); d.Outcome != ledger.Hit {
			b.Fatal(d.Reason)
		}
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
			d := decide(s, "update ports set n = 1")
			b.ReportAllocs()
			for b.Loop() {
				s.Send(&d, now)
				p := s.Pending()
				p.End()
				s.Ready(Idle)
			}
		})
	}
}
