package findings

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// Each row: the rules, the feeds, and what is promised, each sentence with its level.
func TestWhatIsPromised(t *testing.T) {
	keep := rules.Rule{Name: "boards", Text: "*", Action: rules.Cache, TTL: 10 * time.Minute}
	forever, aged, never := keep, keep, rules.Rule{Text: "*", Action: rules.Bypass}
	forever.TTL, aged.TTLOnly = 0, true
	advised := rules.Rule{Name: "larder", Text: "*", Action: rules.Advised, TTL: time.Minute}
	const writes = "well: Writes through this larder are seen before their client is answered: after that no client gets an older result."
	for name, c := range map[string]struct {
		rules []rules.Rule
		held  bool
		feeds []control.Feed
		want  []string
	}{
		"nothing kept":    {nil, false, nil, []string{"well: Nothing is cached: every answer comes from the database."}},
		"only never":      {[]rules.Rule{never}, false, nil, []string{"well: Nothing is cached: every answer comes from the database."}},
		"nothing chosen":  {[]rules.Rule{advised}, false, nil, []string{"well: Nothing is cached: every answer comes from the database."}},
		"chosen":          {[]rules.Rule{advised, {Name: "chosen", Text: "*", Action: rules.Bypass}}, false, nil, []string{writes, "age: Direct writes are not seen: a cached result may be as old as its rule's TTL, 1m at most."}},
		"on hold":         {[]rules.Rule{keep}, true, nil, []string{"well: Caching is off: every answer comes from the database."}},
		"no feed":         {[]rules.Rule{keep}, false, nil, []string{writes, "age: Direct writes are not seen: a cached result may be as old as its rule's TTL, 10m at most."}},
		"no feed, no end": {[]rules.Rule{keep, forever}, false, nil, []string{writes, "age: Direct writes are not seen: a cached result stays until a write through the larder touches its tables."}},
		"a stream":        {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Mode: "stream", LagMS: 12}}, []string{writes, "well: Direct writes in skerrow are seen 12 ms after their commit, as measured."}},
		"a stream and counters": {[]rules.Rule{keep}, false, []control.Feed{{Origin: "south", Database: "skerrow", Mode: "stream", LagMS: 1500, Polled: []string{"a", "b", "c", "d", "e"}}},
			[]string{writes, "well: Direct writes in south/skerrow are seen 1.5 s after their commit, as measured.", "age: 5 tables of south/skerrow are seen by counters only, up to 11 s later: a, b, c, d …."}},
		"counters": {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Mode: "poll", LagMS: 900}}, []string{writes, "age: Direct writes in skerrow are found by the server's counters, up to 900 ms later."}},
		"no feed any more": {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Problem: "It was refused."}},
			[]string{writes, "trouble: Direct writes in skerrow are not seen at this moment: a cached result may be as old as its rule's TTL, 10m at most. It was refused."}},
		"an age": {[]rules.Rule{aged}, false, []control.Feed{{Database: "skerrow", Mode: "poll", LagMS: 900}},
			[]string{writes, "age: Direct writes in skerrow are found by the server's counters, up to 900 ms later.", "age: 1 rule accepts mode \"ttl only\": writes do not drop their results, which may be as old as their TTL."}},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := larder.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
			require.NoError(t, err)
			set := rules.NewSet(c.rules)
			if set.Named("chosen") != nil {
				set = set.With(rules.Choices{"larder": {"bado-kife-ruma": time.Second}})
			}
			l.SetRules(set)
			l.SetCaching(!c.held)
			g := Guard(l, c.feeds)
			var said []string
			for _, p := range g.Promise {
				said = append(said, p.Level+": "+p.Text)
			}
			assert.Equal(t, c.want, said)
			assert.NotNil(t, g.Feeds, "lists are empty and not absent")
			assert.NotNil(t, g.Tables)
		})
	}
}

// What no feed follows is said, also where others are followed.
func TestWhatNoFeedFollows(t *testing.T) {
	l, err := larder.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	require.NoError(t, err)
	l.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Minute}}))
	for _, of := range [][2]string{{"", "skerrow"}, {"shop", ""}, {"", "yard"}} {
		l.Feed(of[0], of[1])
	}
	g := Guard(l, []control.Feed{{Database: "yard", Mode: "stream", LagMS: 1}})
	assert.Equal(t, "Direct writes in all of shop, skerrow are not seen: a cached result may be as old as its rule's TTL, 1m at most.", g.Promise[len(g.Promise)-1].Text)
	g = Guard(l, []control.Feed{{Origin: "shop", Mode: "stream", LagMS: 1}, {Database: "yard", Mode: "stream"}, {Database: "skerrow", Mode: "stream"}})
	assert.Equal(t, "Direct writes in all of shop are seen 1 ms after their commit, as measured.", g.Promise[1].Text)
	assert.Len(t, g.Promise, 4)
}

// Each row: a rule, why its results are not kept, and what is said of it.
func TestWhatARuleHasMadeOfAPattern(t *testing.T) {
	keep := rules.Rule{Action: rules.Cache, TTL: time.Minute}
	some, paused := keep, keep
	some.When.Application, paused.Paused = "booking-web", true
	minute := ledger.Sums{Count: [4]uint64{30, 5, 5, 0}, Waited: [4]time.Duration{time.Millisecond, 9 * time.Millisecond}, Saved: 1200 * time.Millisecond}
	assert.Equal(t, "A rule says bypass.", ruled(&rules.Rule{Action: rules.Bypass}, nil, minute))
	assert.Equal(t, "The rule that caches it is paused.", ruled(&paused, nil, minute))
	assert.Equal(t, "A rule caches it, but not at this moment: it bypasses: the database's catalog has not been read yet.", ruled(&keep, []reason.Reason{reason.Of(reason.CatalogUnread)}, minute))
	whole := rules.NewSet([]rules.Rule{{Name: "larder", Text: "*", Action: rules.Advised, TTL: time.Hour}}).With(rules.Choices{"larder": {"bado-kife-ruma": time.Minute}})
	assert.Contains(t, ruled(whole.Candidates("bado-kife-ruma", "select")[0], nil, minute), "The larder chose it within larder: cached for 1m. In the last minute 30 of 40 calls were hits")
	assert.Equal(t, "Cached for 1m for some callers. In the last minute 30 of 40 calls were hits: 1.2 s saved, 10 ms waited.", ruled(&some, nil, minute))
}

// What would help is told of each reason for which calls passed, but not to keep what a rule keeps by now.
func TestWhatWouldHelp(t *testing.T) {
	list := []ledger.ReasonCount{{Reason: reason.Of(reason.NoRule), Count: 3}, {Reason: reason.Of(reason.TemporaryTables), Count: 1}}
	before, after := passed(list, 4, false, nil), passed(list, 4, true, nil)
	assert.Equal(t, "a rule that caches this pattern", before[0].Would)
	assert.Empty(t, after[0].Would)
	assert.Equal(t, before[1], after[1])
	assert.InDelta(t, 0.75, before[0].Share, 1e-9)
	assert.Equal(t, "its session has temporary tables", before[1].Reason)
}
