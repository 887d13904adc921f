package engine

import (
	"fmt"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// Rules are worked out once for a pattern, a database and a caller, and change for all at once.
func TestRulesForSomeTablesAndCallers(t *testing.T) {
	e, boards := begin(t, Options{})
	web := e.NewSession(Identity{Database: "skerrow", User: "ines", Application: "booking-web"})
	learn(web)
	e.SetRules(rules.NewSet([]rules.Rule{
		{Name: "labelled", Tables: []string{"berths"}, When: rules.Conditions{Application: "quay-boards", Labels: map[string]string{"page": "1"}}, Action: rules.Bypass},
		{Name: "boards", Tables: []string{"berths"}, When: rules.Conditions{Application: "quay-boards"}, Action: rules.Cache, TTL: time.Minute},
		{Name: "ports", OnlyTables: []string{"public.ports"}, Action: rules.Cache},
	}))
	for range 2 {
		assert.Equal(t, ledger.Bypass, ask(boards, read+" /*page='1'*/", now))
		assert.Equal(t, ledger.Bypass, ask(web, read, now))
	}
	assert.Equal(t, ledger.Miss, ask(boards, read, now))
	assert.Equal(t, ledger.Hit, ask(boards, read+" /*page='2'*/", now))
	assert.Equal(t, ledger.Miss, ask(web, "select name from ports", now))
	assert.Equal(t, ledger.Hit, ask(web, "select name from ports", now))
	web.SetApplication("quay-boards")
	assert.Equal(t, ledger.Hit, ask(web, read, now), "the same user's, by another rule from now on")

	kept, _, _ := e.Cached()
	assert.Equal(t, 2, kept)
	paused := slices.Clone(e.Rules().List())
	for i := range paused {
		paused[i].Paused = true
	}
	d := decide(boards, read) // under way while rules change
	e.SetRules(rules.NewSet(paused))
	d.End(Result{}, now)
	assert.Equal(t, ledger.Bypass, ask(boards, read, now))
	kept, _, _ = e.Cached()
	assert.Equal(t, 2, kept, "what is kept stays while a rule is paused")
	assert.Equal(t, 1, e.DropRule("ports"))
	e.SetRules(rules.NewSet(paused[2:]))
	kept, _, _ = e.Cached()
	assert.Zero(t, kept, "and goes when no rule keeps it")
}

func manyRules(n int) *rules.Set {
	var list []rules.Rule
	for i := range n {
		r := rules.Rule{Name: fmt.Sprint("r", i), Action: rules.Cache, ControlSample: -1, TTL: time.Minute}
		switch i % 3 {
		case 0:
			r.Pattern = postgres.Dialect.Syntax.Of(fmt.Sprintf("select c%d from berths", i))
		case 1:
			r.Text = fmt.Sprintf("select c%d from *", i)
		default:
			r.Pattern = postgres.Dialect.Syntax.Of(read)
			r.When.Application = fmt.Sprint("app", i)
		}
		list = append(list, r)
	}
	return rules.NewSet(append(list, rules.Rule{Pattern: postgres.Dialect.Syntax.Of(read), Action: rules.Cache, ControlSample: -1, TTL: time.Minute}))
}

// Deciding with many rules takes what it takes with one.
func BenchmarkDecideWithRules(b *testing.B) {
	for _, n := range []int{0, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			e, s := begin(b, Options{})
			e.SetRules(manyRules(n))
			ask(s, read, now)
			r := &Request{Statement: s.Read([]byte(read)).Clone(), Shape: 'q'}
			b.ReportAllocs()
			for b.Loop() {
				d := s.Begin(r, now)
				if d.Outcome != ledger.Hit {
					b.Fatal(d.Reason)
				}
				d.Drop()
			}
		})
	}
}

// What the slowest of the statements waits that are decided on while 10,000 rules are put in force, with 2,000 patterns known.
func BenchmarkApply(b *testing.B) {
	e, s := begin(b, Options{})
	for i := range 2000 {
		ask(s, fmt.Sprintf("select c%d from berths", i), now)
	}
	sets := []*rules.Set{manyRules(10_000), manyRules(10_000)}
	reader := session(e)
	r := &Request{Statement: reader.Read([]byte(read)).Clone(), Shape: 'q'}
	var worst []time.Duration
	var stop atomic.Bool
	done := make(chan struct{})
	var begun, slowest atomic.Int64
	go func() {
		defer close(done)
		for !stop.Load() {
			at := time.Now()
			reader.Begin(r, now).Drop()
			if took := int64(time.Since(at)); took > slowest.Load() {
				slowest.Store(took)
			}
			begun.Add(1)
		}
	}()
	for i := 0; b.Loop(); i++ {
		slowest.Store(0)
		e.SetRules(sets[i%2])
		worst = append(worst, time.Duration(slowest.Load()))
	}
	stop.Store(true)
	<-done
	slices.Sort(worst)
	b.ReportMetric(float64(worst[len(worst)/2].Microseconds()), "µs-slowest-median")
	b.ReportMetric(float64(worst[len(worst)-1].Microseconds()), "µs-slowest-of-all")
}
