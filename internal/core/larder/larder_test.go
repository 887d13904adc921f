package larder

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/stream"
)

// With so many counters, hardly any two values of these tests share one by chance.
func init() { freshness.FewestCounters = 1 << 16 }

const read = "select n from berths where id = 1"

var now = time.Unix(1_800_000_000, 0)

// begin makes a larder, and a session of which everything is known.
func begin(t testing.TB, opts engine.Options) (*Larder, *engine.Session) {
	kind := *postgres.Dialect
	kind.SameRows = func(a, b []byte) bool { return string(a) == string(b) }
	opts.Dialect, opts.Misuse = &kind, func(what string) { t.Error(what) }
	l, err := New(opts, now)
	require.NoError(t, err)
	s := l.NewSession(engine.Identity{Database: "skerrow", User: "ines", Application: "quay-boards"})
	learn(s)
	return l, s
}

func describe(rows []schema.Row) catalog.Description {
	d, err := schema.Describe(rows)
	if err != nil {
		panic(err)
	}
	return d
}

func learn(s *engine.Session) {
	s.Asking(engine.NeedSettings|engine.NeedCatalog, now)
	s.Learned(engine.Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted})
	s.LearnedCatalog(describe([]schema.Row{
		{What: "relation", Schema: "public", Name: "berths", Flags: "r"},
		{What: "relation", Schema: "public", Name: "ports", Flags: "r"},
		{What: "columns", Schema: "public", Name: "berths", OtherName: "n id\n n"},
		{What: "key", Schema: "public", Name: "berths", OtherName: "id"},
	}), now)
}

func decide(s *engine.Session, sql string) engine.Ticket {
	return s.Begin(&engine.Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, now)
}

// ask runs a statement to its end and says what became of it.
func ask(s *engine.Session, sql string, at time.Time) ledger.Outcome {
	return asks(s, sql, "the reply", at)
}

func asks(s *engine.Session, sql, reply string, at time.Time) ledger.Outcome {
	d := s.Begin(&engine.Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, at)
	outcome := d.Outcome
	if d.Step() == engine.StepForward {
		d.Sent(at)
	}
	d.End(engine.Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Bytes: len(reply), Reply: []byte(reply)}, at)
	if outcome != ledger.Hit {
		s.Ready(s.State())
	}
	return outcome
}

// A control sample that finds other rows than were kept is told, and its rule keeps nothing any more; where a write explains that, it is not.
func TestStaleAnswersAreFound(t *testing.T) {
	for name, c := range map[string]struct {
		reply   string
		written bool
		want    string
	}{
		"the same":                {"the reply", false, "equal"},
		"another":                 {"another", false, "stale"},
		"another, behind a write": {"another", true, "explained"},
	} {
		t.Run(name, func(t *testing.T) {
			l, s := begin(t, engine.Options{})
			other := l.NewSession(engine.Identity{Database: "skerrow", User: "ines"})
			learn(other)
			l.SetRules(rules.NewSet([]rules.Rule{{Name: "r", Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: 1}}))
			require.Equal(t, ledger.Miss, ask(s, read, now))
			d := decide(s, read) // a control sample
			require.Equal(t, engine.StepForward, d.Step())
			d.Sent(now)
			if c.written {
				ask(other, "update berths set n = 2 where id = 1", now)
			}
			d.End(engine.Result{Took: time.Second, Fetch: time.Second, Rows: 1, Bytes: len(c.reply), Reply: []byte(c.reply)}, now)
			s.Ready(engine.Idle)
			l.Tick(now.Add(time.Minute))
			n := l.Samples.Counts()
			assert.Equal(t, map[string]uint64{"equal": 0, "stale": 0, "explained": 0, c.want: 1}, map[string]uint64{"equal": n.Equal, "stale": n.Stale, "explained": n.Explained})
			assert.Len(t, l.Samples.Stale(), int(n.Stale))
			after := decide(s, read)
			if c.want == "stale" {
				found := <-l.Samples.Found()
				assert.Equal(t, []string{"public.berths"}, found.Tables)
				assert.True(t, found.Paused)
				assert.Equal(t, "its rule is paused after a stale answer", after.Reason.String())
			} else {
				assert.Equal(t, ledger.Miss, after.Outcome)
			}
			after.Drop()
		})
	}
}

// What a write drops is held against what is fetched again.
func TestNeedlessDrops(t *testing.T) {
	l, s := begin(t, engine.Options{})
	l.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: -1}}))
	for _, reply := range []string{"one", "one", "two", "two"} {
		require.Equal(t, ledger.Miss, asks(s, read, reply, now))
		require.Equal(t, ledger.Hit, asks(s, read, reply, now))
		ask(s, "update berths set n = 2 where id = 1", now)
		l.Tick(now)
	}
	changed, same := l.Drops.Counts()
	assert.EqualValues(t, 1, changed)
	assert.EqualValues(t, 2, same)
}

// Each watcher learns how much he was not shown, whoever reads first.
func TestWatchersLearnWhatTheyMissed(t *testing.T) {
	l, s := begin(t, engine.Options{})
	masked, curious := l.Stream.Watch(false, false), l.Stream.Watch(true, false)
	defer masked.Close()
	defer curious.Close()
	for range 1500 {
		ask(s, read, now)
	}
	for _, w := range []*stream.Watcher{masked, curious} {
		events, lost := w.Read()
		assert.Len(t, events, 500)
		assert.Equal(t, uint64(1000), lost)
		assert.Equal(t, w == curious, len(events[0].Exact) > 0)
	}
	ask(s, read, now)
	events, lost := masked.Read()
	assert.Len(t, events, 1)
	assert.Zero(t, lost)
}

// Each would-be hit of these rules is a control sample. Its time counts whether or not its rows can be compared; a failed one tells nothing; and
// the larder's own sessions, which nobody waits for, take none.
func TestControlSamplesAreTimed(t *testing.T) {
	const sql = "select n from berths where id = 1"
	for _, ttlOnly := range []bool{false, true} {
		e, s := begin(t, engine.Options{})
		own := e.NewSession(engine.Identity{Database: "skerrow", User: "ines", Own: true})
		learn(own)
		e.SetRules(rules.NewSet([]rules.Rule{{Name: "r", Text: "*", Action: rules.Cache, TTL: time.Hour, TTLOnly: ttlOnly, ControlSample: 1}}))
		require.Equal(t, ledger.Miss, ask(s, sql, now), "there is nothing to hit yet")
		require.Equal(t, ledger.Miss, ask(s, sql, now))
		assert.Equal(t, ledger.Hit, ask(own, sql, now))
		d := decide(s, sql)
		d.Sent(now)
		d.End(engine.Result{Took: time.Hour, Fetch: time.Hour, Failed: true}, now)
		for _, sums := range []ledger.Sums{s.Read([]byte(sql)).Pattern.Numbers.Total(), e.Ledger.Rule("r").Total(), e.Ledger.Total.Total()} {
			assert.Equal(t, ledger.Samples{Count: 1, Took: 1, Squares: 1}, sums.Samples, "ttl only: %v", ttlOnly)
		}
	}
}
