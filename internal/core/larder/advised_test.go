package larder

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// asked is one kind of statement of an imagined day.
type asked struct {
	sql    string // with a place for a number
	table  int
	inputs int
	fetch  time.Duration
	rate   func(hour float64) float64 // calls a minute
}

// day is a day of imagined traffic, the same whenever it is run: screens that are busy by day, reports at all hours,
// lookups that hardly repeat, a batch job that writes at night, tables that are written all the time, and a release in
// the afternoon after which other statements are sent.
type day struct {
	kinds  []asked
	writes func(table int, hour float64) float64 // a minute
}

const (
	dayTables = 8
	releaseAt = 14.0
	ownCost   = 40 * time.Microsecond // what the larder adds to a miss here, generously
	hitCost   = 20 * time.Microsecond
)

func imagined(seed uint64) *day {
	r := rand.New(rand.NewPCG(seed, 1))
	d := &day{writes: func(table int, hour float64) float64 {
		switch {
		case table == 7: // positions of ships
			return 60
		case table >= 4 && hour >= 2 && hour < 3: // the batch job
			return 120
		case table >= 4:
			return 0.5
		}
		return 0.02
	}}
	byDay := func(most float64) func(float64) float64 {
		return func(hour float64) float64 { return most * math.Max(0.02, math.Sin((hour-5)/16*math.Pi)) }
	}
	until, from := func(f func(float64) float64) func(float64) float64 {
		return func(hour float64) float64 {
			if hour >= releaseAt {
				return 0
			}
			return f(hour)
		}
	}, func(f func(float64) float64) func(float64) float64 {
		return func(hour float64) float64 {
			if hour < releaseAt {
				return 0
			}
			return f(hour)
		}
	}
	for i := range 24 {
		k := asked{
			table: i % dayTables, inputs: 1 + r.IntN(40), fetch: time.Duration(1+r.IntN(30)) * time.Millisecond,
			rate: byDay(2 + 30*r.Float64()),
		}
		if i%5 == 0 {
			k.rate = func(float64) float64 { return 4 } // at all hours
		}
		if i%7 == 3 {
			k.inputs = 1_000_000 // and never the same
		}
		k.sql = fmt.Sprintf("select n, %d as kind from t%d where id = %%d", i, k.table)
		if i%3 == 1 {
			renewed := k
			renewed.sql = fmt.Sprintf("select n, %d as kind, id from t%d where id = %%d", i, k.table)
			k.rate, renewed.rate = until(k.rate), from(k.rate)
			d.kinds = append(d.kinds, renewed)
		}
		d.kinds = append(d.kinds, k)
	}
	return d
}

// lived is what came of a day.
type lived struct {
	waited  map[string]time.Duration // by statement
	minutes []time.Duration          // by minute
	changes []choices.Change
}

func (x *lived) all() (sum time.Duration) {
	for _, w := range x.waited {
		sum += w
	}
	return sum
}

// live lets a day pass under rules, with the larder choosing within those that are advised.
func (d *day) live(t *testing.T, set *rules.Set, opts engine.Options) *lived {
	l, first := begin(t, opts)
	at := now
	var rows []schema.Row
	for i := range dayTables {
		name := fmt.Sprint("t", i)
		rows = append(rows, schema.Row{What: "relation", Schema: "public", Name: name, Flags: "r"},
			schema.Row{What: "columns", Schema: "public", Name: name, OtherName: "n id\n n"}, schema.Row{What: "key", Schema: "public", Name: name, OtherName: "id"})
	}
	first.Asking(engine.NeedCatalog, at)
	first.LearnedCatalog(describe(rows), at)
	first.Close(at)
	s := l.NewSession(engine.Identity{Database: "skerrow", User: "ines", Application: "harbour-report", Address: "10.1.2.3:400"})
	s.Asking(engine.NeedSettings, at)
	s.Learned(engine.Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted})
	l.SetRules(set)
	c := choices.New()
	out := &lived{waited: map[string]time.Duration{}, minutes: make([]time.Duration, 24*60)}
	r := rand.New(rand.NewPCG(5, 5))
	for m := range out.minutes {
		hour := float64(m) / 60
		type event struct {
			kind *asked // nil for a write
			sql  string
		}
		var events []event
		for i := range d.kinds {
			k := &d.kinds[i]
			for n := poisson(r, k.rate(hour)); n > 0; n-- {
				events = append(events, event{k, fmt.Sprintf(k.sql, int(float64(k.inputs)*r.Float64()*r.Float64()))})
			}
		}
		for table := range dayTables {
			for n := poisson(r, d.writes(table, hour)); n > 0; n-- {
				events = append(events, event{sql: fmt.Sprintf("update t%d set n = n + 1", table)})
			}
		}
		r.Shuffle(len(events), func(i, j int) { events[i], events[j] = events[j], events[i] })
		for i, x := range events {
			when := at.Add(time.Duration(i) * time.Minute / time.Duration(len(events)))
			q := s.Begin(&engine.Request{Statement: s.Read([]byte(x.sql)), Shape: 'q'}, when)
			if q.Step() != engine.StepForward && q.Step() != engine.StepAnswer {
				t.Fatal(q.Step(), q.Need, x.sql, m, q.Reason)
			}
			took := hitCost
			if q.Step() == engine.StepForward {
				q.Sent(when)
				took = time.Millisecond
				if x.kind != nil {
					if took = x.kind.fetch; q.Outcome == ledger.Miss {
						took += ownCost
					}
				}
			}
			fetch := took
			if x.kind != nil {
				fetch = x.kind.fetch
				out.waited[x.kind.sql] += took
				out.minutes[m] += took
			}
			hit := q.Outcome == ledger.Hit
			q.End(engine.Result{Took: took, Fetch: fetch, Rows: 1, Bytes: 300, Reply: []byte("the reply")}, when)
			if !hit {
				s.Ready(s.State())
			}
			if i%(len(events)/12+1) == 0 {
				l.Tick(when)
			}
		}
		at = at.Add(time.Minute)
		l.Tick(at)
		changes, _ := l.Choose(c, at)
		if len(changes) > 0 {
			l.SetRules(l.Rules().With(c.Choices()))
		}
		out.changes = append(out.changes, changes...)
	}
	return out
}

func poisson(r *rand.Rand, mean float64) (n int) {
	if mean > 30 {
		return max(int(mean+math.Sqrt(mean)*r.NormFloat64()+0.5), 0)
	}
	for p := r.Float64(); p > math.Exp(-mean); p *= r.Float64() {
		n++
	}
	return n
}

// A day with an advised rule ends with nearly all saved that the best fixed rules would have saved, as they are known at
// its end; at no moment do clients wait longer than without, and nothing is changed back and forth. That is so where
// there is room for everything, and where there is not.
func TestADayWithAnAdvisedRule(t *testing.T) {
	const longest = 10 * time.Minute
	for name, c := range map[string]struct {
		seed   uint64
		memory int64
	}{"with room for everything": {1, 0}, "with little room": {2, 200 << 10}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d, opts := imagined(c.seed), engine.Options{Memory: c.memory}
			none := d.live(t, rules.NewSet(nil), opts)
			fixed := d.live(t, rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: longest}}), opts)
			advised := d.live(t, rules.NewSet([]rules.Rule{
				{Name: "reports", When: rules.Conditions{Application: "harbour-report"}, Action: rules.Advised, TTL: longest},
			}), opts)
			var best time.Duration
			for sql, waited := range none.waited {
				best += max(waited-fixed.waited[sql], 0) // what costs more than it saves is left out by the best rules
			}
			require.Greater(t, best, none.all()/4)
			saved := none.all() - advised.all()
			t.Logf("waited %s, the best rules save %s, the larder saves %s (%.1f%%) with %d changes", none.all(), best, saved, 100*float64(saved)/float64(best), len(advised.changes))
			assert.GreaterOrEqual(t, float64(saved), 0.95*float64(best))
			for m := range none.minutes {
				require.LessOrEqual(t, float64(advised.minutes[m]), 1.05*float64(none.minutes[m]), "in minute %d", m)
			}
			last, kinds := map[statement.ID]time.Time{}, map[string]int{}
			for _, c := range advised.changes {
				kinds[c.Kind]++
				if at, ok := last[c.Pattern]; ok {
					require.GreaterOrEqual(t, c.At.Sub(at), choices.Pause, "%s of %s", c.Kind, c.Text)
				}
				last[c.Pattern] = c.At
				require.NotEmpty(t, c.Why)
				require.LessOrEqual(t, c.After, longest)
			}
			for _, k := range []string{choices.Chosen, choices.Lengthened, choices.Withdrawn} {
				assert.Positive(t, kinds[k], k)
			}
			assert.Less(t, len(advised.changes), 3*len(d.kinds), "nothing flaps")
		})
	}
}

// A stale answer stops all of the rule that it came of, and not only the pattern; what is chosen stays, for when somebody
// resumes it.
func TestAStaleAnswerStopsAnAdvisedRule(t *testing.T) {
	l, s := begin(t, engine.Options{})
	const another = "select name from ports"
	id := func(sql string) statement.ID { return postgres.Dialect.Syntax.Of(sql) }
	whole := rules.Rule{Name: "boards", Text: "*", Action: rules.Advised, TTL: time.Hour, ControlSample: 1}
	chosen := rules.Choices{"boards": {id(read): time.Minute, id(another): time.Minute}}
	l.SetRules(rules.NewSet([]rules.Rule{whole}).With(chosen))
	require.Equal(t, ledger.Miss, ask(s, read, now))
	d := decide(s, read)
	require.Equal(t, engine.StepForward, d.Step(), "it is a control sample")
	d.Sent(now)
	d.End(engine.Result{Took: time.Second, Fetch: time.Second, Rows: 1, Bytes: 7, Reply: []byte("another")}, now)
	s.Ready(engine.Idle)
	l.Tick(now.Add(time.Minute))
	require.EqualValues(t, 1, l.Samples.Counts().Stale)
	for _, sql := range []string{read, another} {
		d := decide(s, sql)
		assert.Equal(t, "its rule is paused after a stale answer", d.Reason.String())
		d.Drop()
	}
	assert.False(t, l.Caches())
	c := choices.New(choices.Choice{Rule: "boards", Pattern: id(read), TTL: time.Minute, Since: now, Changed: now})
	changes, _ := l.Choose(c, now.Add(time.Hour))
	assert.Empty(t, changes, "nothing is decided meanwhile")
	paused := whole
	paused.Paused = true
	l.SetRules(rules.NewSet([]rules.Rule{paused}).With(chosen))
	l.SetRules(rules.NewSet([]rules.Rule{whole}).With(chosen))
	assert.True(t, l.Caches(), "somebody has looked at it")
	assert.Equal(t, ledger.Miss, ask(s, another, now))
}

// Which patterns are put to an advised rule, and what is said where none speaks for them.
func TestWhatIsLeftToTheLarder(t *testing.T) {
	l, s := begin(t, engine.Options{})
	id := postgres.Dialect.Syntax.Of(read)
	within := func(list ...rules.Rule) map[string]int {
		out := map[string]int{}
		set := rules.NewSet(list)
		found := map[*rules.Rule][]choices.Pattern{}
		l.gather(found, set, rules.Choices{}, l.Pattern(id), now, true)
		for r, patterns := range found {
			out[r.Name] = len(patterns)
		}
		return out
	}
	for range 50 {
		ask(s, read, now)
	}
	advised := func(name string, f func(*rules.Rule)) rules.Rule {
		r := rules.Rule{Name: name, Text: "*", Action: rules.Advised, TTL: time.Minute}
		if f != nil {
			f(&r)
		}
		return r
	}
	some := func(r *rules.Rule) { r.When.Application = "quay-boards" }
	own := rules.Rule{Name: "own", Pattern: id, Action: rules.Cache, TTL: time.Minute}
	ownOfSome := own
	some(&ownOfSome)
	assert.Equal(t, map[string]int{"a": 1}, within(advised("a", nil), advised("b", nil)), "the first that decides")
	assert.Equal(t, map[string]int{"a": 1, "b": 1}, within(advised("a", some), advised("b", nil)))
	assert.Empty(t, within(own, advised("a", nil)))
	assert.Equal(t, map[string]int{"a": 1}, within(ownOfSome, advised("a", nil)), "for the other callers")
	assert.Empty(t, within(ownOfSome, advised("a", some)))
	assert.Empty(t, within(advised("a", func(r *rules.Rule) { r.OnlyTables = []string{"ports"} })))
	found := map[*rules.Rule][]choices.Pattern{}
	nobody := advised("a", func(r *rules.Rule) { r.When.Application = "nobody" })
	l.gather(found, rules.NewSet([]rules.Rule{nobody}), rules.Choices{}, l.Pattern(id), now, true)
	for _, list := range found {
		assert.Zero(t, list[0].Share, "nobody's calls are its callers'")
	}
	l.SetRules(rules.NewSet([]rules.Rule{advised("a", func(r *rules.Rule) { r.NeverTables = []string{"berths"} })}))
	assert.Equal(t, "It reads a table that the rule never chooses.", l.Against(choices.New(), l.Pattern(id), now))
	l.SetRules(rules.NewSet([]rules.Rule{own}))
	assert.Empty(t, l.Against(choices.New(), l.Pattern(id), now))
}

// A result that changes with no write through the larder speaks against choosing its pattern, unless a feed tells of
// direct writes: it may do so in a moment.
func TestDirectWritesSpeakAgainstAChoice(t *testing.T) {
	for name, c := range map[string]struct {
		feed func(*engine.Feed, time.Time)
		want bool
	}{
		"no feed":                   {func(*engine.Feed, time.Time) {}, true},
		"a feed":                    {func(f *engine.Feed, at time.Time) { f.Running(true); f.Told(at) }, false},
		"a feed that is gone":       {func(f *engine.Feed, at time.Time) { f.Told(at); f.Running(false) }, true},
		"a feed that tells nothing": {func(f *engine.Feed, at time.Time) { f.Running(true) }, true},
		"a feed with counters": {func(f *engine.Feed, at time.Time) {
			f.Running(true)
			f.Told(at)
			f.Counted([]string{"public.berths"}, at)
		}, false},
		"a feed whose counters are old": {func(f *engine.Feed, at time.Time) {
			f.Running(true)
			f.Told(at)
			f.Counted([]string{"public.berths"}, now.Add(-time.Hour))
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			l, s := begin(t, engine.Options{})
			l.SetRules(rules.NewSet([]rules.Rule{{Name: "boards", Text: "*", Action: rules.Advised, TTL: time.Minute}}))
			at := now
			for i := range 100 {
				at = at.Add(time.Second)
				c.feed(l.Feed("", "skerrow"), at)
				d := s.Begin(&engine.Request{Statement: s.Read([]byte(read)), Shape: 'q'}, at)
				require.Equal(t, engine.StepForward, d.Step())
				d.Sent(at)
				d.End(engine.Result{Took: 10 * time.Millisecond, Fetch: 10 * time.Millisecond, Rows: 1, Bytes: 9, Reply: []byte("the reply"), Sum: uint64(1 + i/10)}, at)
				s.Ready(engine.Idle)
				l.Tick(at)
			}
			changes, _ := l.Choose(choices.New(), at)
			if c.want {
				assert.Empty(t, changes)
				assert.Contains(t, l.Against(choices.New(), l.Pattern(postgres.Dialect.Syntax.Of(read)), at), "with no write seen")
				return
			}
			assert.Len(t, changes, 1)
		})
	}
}
