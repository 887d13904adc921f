package larder

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// harbour is traffic in an imagined time: screens that ask the same all day, a login that asks for few people far more
// often than for others, and writes to one of the tables.
type harbour struct {
	boards, web *engine.Session
	r           *rand.Rand
	at          time.Time
	calls, hits map[string]int
}

const (
	ofBoards = "select n from berths where id = %d"
	ofLogin  = "select name from ports where card = %d"
)

func newHarbour(t testing.TB) (*Larder, *harbour) {
	e, s := begin(t, engine.Options{})
	web := e.NewSession(engine.Identity{Database: "skerrow", User: "ines", Application: "booking-web", Address: "10.1.2.3:400"})
	learn(web)
	return e, &harbour{boards: s, web: web, r: rand.New(rand.NewPCG(1, 2)), at: now}
}

// run lets so much time pass.
func (h *harbour) run(e *Larder, length time.Duration) {
	h.calls, h.hits = map[string]int{}, map[string]int{}
	one := func(name string, s *engine.Session, sql string) {
		h.calls[name]++
		if ask(s, sql, h.at) == ledger.Hit {
			h.hits[name]++
		}
	}
	for end := h.at.Add(length); h.at.Before(end); h.at = h.at.Add(50 * time.Millisecond) {
		tick := h.at.UnixMilli() / 50
		if tick%10 == 0 {
			for i := range 12 {
				one("boards", h.boards, fmt.Sprintf(ofBoards, i))
			}
		}
		for range 3 {
			one("login", h.web, fmt.Sprintf(ofLogin, int(5000*h.r.Float64()*h.r.Float64()*h.r.Float64()*h.r.Float64())))
		}
		if h.r.IntN(40) == 0 {
			ask(h.web, "update berths set n = 2", h.at)
		}
		e.Tick(h.at)
	}
}

func keeping(ttl time.Duration) *rules.Set {
	id := func(sql string) statement.ID { return postgres.Dialect.Syntax.Of(fmt.Sprintf(sql, 1)) }
	return rules.NewSet([]rules.Rule{
		{Name: "boards", Pattern: id(ofBoards), Action: rules.Cache, TTL: 10 * ttl},
		{Name: "login", Pattern: id(ofLogin), Action: rules.Cache, TTL: ttl, When: rules.Conditions{Application: "booking-web"}},
	})
}

// What was foretold comes true: within five points of the share of hits, and of the rest in proportion.
func TestAForecastComesTrue(t *testing.T) {
	for _, ttl := range []time.Duration{2 * time.Second, 30 * time.Second, 5 * time.Minute} {
		e, h := newHarbour(t)
		h.run(e, 10*time.Minute)
		f, err := e.Forecast(keeping(ttl), h.at, time.Hour, nil)
		require.NoError(t, err)
		e.SetRules(keeping(ttl))
		h.run(e, 2*time.Minute) // memory fills
		drops := e.Ledger.Drops.Load()
		h.run(e, 10*time.Minute)
		for _, name := range []string{"boards", "login"} {
			o := f.Rules[name]
			actual := float64(h.hits[name]) / float64(h.calls[name])
			assert.InDelta(t, actual, o.Hits/o.Calls, 0.05, "%s at %s", name, ttl)
			assert.InEpsilon(t, float64(h.calls[name])/10, o.Calls, 0.1, "%s at %s", name, ttl)
		}
		assert.InEpsilon(t, float64(e.Ledger.Drops.Load()-drops)/10, f.Sum.Drops, 0.1)
		assert.LessOrEqual(t, f.Rules["login"].Oldest, 3*ttl/2)
	}
}

// A pattern that was asked for the first time a moment ago is not taken to be asked all the time: a minute is the least that is
// looked at, or the time that the larder runs.
func TestAForecastIsNotLedByAMoment(t *testing.T) {
	const report = "select sum(n) from berths"
	set := rules.NewSet([]rules.Rule{{Name: "report", Pattern: postgres.Dialect.Syntax.Of(report), Action: rules.Cache, TTL: time.Minute}})
	for _, runs := range []time.Duration{20 * time.Second, 50 * time.Second, 10 * time.Minute} {
		e, h := newHarbour(t)
		h.run(e, runs)
		const calls = 12
		for range calls { // each takes a second
			h.at = h.at.Add(300 * time.Millisecond)
			d := h.web.Begin(&engine.Request{Statement: h.web.Read([]byte(report)), Shape: 'q'}, h.at)
			d.Sent(h.at)
			d.End(engine.Result{Took: time.Second, Fetch: time.Second, Rows: 1, Bytes: 1, Reply: []byte("1")}, h.at)
			h.web.Ready(engine.Idle)
			e.Tick(h.at)
		}
		f, err := e.Forecast(set, h.at, time.Hour, nil)
		require.NoError(t, err)
		assert.Greater(t, f.Span, runs*9/10, "it is known that it was not asked before")
		each := calls / min(runs, time.Minute).Minutes()
		assert.InDelta(t, each, f.Rules["report"].Calls, 0.4*each, "a minute")
		assert.Less(t, f.Rules["report"].Saved, time.Duration(1.4*each*float64(time.Second)), "a minute")
	}
}

// What the curve says of a memory of another size comes true with one: within three points of the share of hits.
func TestTheMemoryCurveComesTrue(t *testing.T) {
	type traffic struct {
		r  *rand.Rand
		at time.Time
	}
	run := func(e *Larder, s *engine.Session, x *traffic, limit int64, calls int) float64 {
		hits := 0
		for i := range calls {
			if i%50 == 0 {
				e.SetLimit(limit) // has what is to be evicted evicted now, and not when there is time
			}
			x.at = x.at.Add(10 * time.Millisecond)
			id := int(30_000 * math.Pow(x.r.Float64(), 3))
			if x.r.IntN(5) == 0 {
				id = 100_000 + x.r.IntN(1_000_000) // never asked again
			}
			if ask(s, fmt.Sprintf(ofLogin, id), x.at) == ledger.Hit {
				hits++
			}
			e.Ledger.Tick(x.at)
			e.Inputs.Tick(x.at)
		}
		return float64(hits) / float64(calls)
	}
	set := rules.NewSet([]rules.Rule{{Pattern: postgres.Dialect.Syntax.Of(fmt.Sprintf(ofLogin, 1)), Action: rules.Cache, ControlSample: -1}})
	limits := []int64{2 << 20, 4 << 20, 9 << 20}
	seen, s := begin(t, engine.Options{Memory: 1 << 20})
	seen.SetRules(set)
	x := &traffic{rand.New(rand.NewPCG(3, 4)), now}
	run(seen, s, x, 1<<20, 150_000)
	curve, err := seen.MemoryCurve(limits, x.at, time.Hour, nil)
	require.NoError(t, err)
	for i, limit := range limits {
		e, s := begin(t, engine.Options{Memory: limit})
		e.SetRules(set)
		x := &traffic{rand.New(rand.NewPCG(5, 6)), now}
		run(e, s, x, limit, 60_000) // memory fills
		actual := run(e, s, x, limit, 60_000)
		predicted := curve[i].Sum.Hits / curve[i].Sum.Calls
		t.Logf("%d KiB: %.3f foretold, %.3f actual", limit>>10, predicted, actual)
		assert.InDelta(t, actual, predicted, 0.03, "%d KiB", limit>>10)
	}
}

func TestAForecastGoesByWhatRulesSay(t *testing.T) {
	e, h := newHarbour(t)
	h.run(e, 5*time.Minute)
	make := func(change func(*rules.Rule)) forecast.Outcome {
		list := keeping(time.Minute).List()
		change(&list[0])
		f, err := e.Forecast(rules.NewSet(list), h.at, time.Hour, nil)
		require.NoError(t, err)
		if f.Rules["boards"] == nil {
			return forecast.Outcome{}
		}
		return *f.Rules["boards"]
	}
	usual := make(func(*rules.Rule) {})
	assert.Positive(t, usual.Drops)
	aged := make(func(r *rules.Rule) { r.TTLOnly = true })
	assert.Zero(t, aged.Drops)
	assert.Greater(t, aged.Hits, usual.Hits)
	for _, change := range []func(*rules.Rule){
		func(r *rules.Rule) { r.Paused = true }, func(r *rules.Rule) { r.Action = rules.Bypass },
		func(r *rules.Rule) { r.When.Application = "nobody" }, func(r *rules.Rule) { r.SizeLimit = 3 },
	} {
		assert.Zero(t, make(change).Hits)
	}
	_, err := e.Forecast(keeping(time.Minute), h.at, time.Hour, func(float64) bool { return false })
	assert.ErrorIs(t, err, forecast.ErrStopped)
}

// An hour of traffic like the demo's.
func BenchmarkForecastOfAnHour(b *testing.B) {
	e, h := newHarbour(b)
	h.run(e, time.Hour)
	for b.Loop() {
		if _, err := e.Forecast(keeping(time.Minute), h.at, time.Hour, nil); err != nil {
			b.Fatal(err)
		}
	}
}
