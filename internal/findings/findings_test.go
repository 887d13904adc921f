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
	keep := rules.Rule{Name: "boards", Text: "*", Verdict: rules.Keep, TTL: 10 * time.Minute}
	forever, aged, never := keep, keep, rules.Rule{Text: "*", Verdict: rules.Never}
	forever.TTL, aged.TTLOnly = 0, true
	const writes = "well: Writes through this larder count before their writer is answered: after that nobody is given an older value."
	for name, c := range map[string]struct {
		rules []rules.Rule
		held  bool
		feeds []control.Feed
		want  []string
	}{
		"nothing kept":    {nil, false, nil, []string{"well: Nothing is kept: every answer is the database's own."}},
		"only never":      {[]rules.Rule{never}, false, nil, []string{"well: Nothing is kept: every answer is the database's own."}},
		"on hold":         {[]rules.Rule{keep}, true, nil, []string{"well: All keeping is on hold: every answer is the database's own."}},
		"no feed":         {[]rules.Rule{keep}, false, nil, []string{writes, "age: Writes around it are not seen: of those an answer knows nothing, and may be as old as its rule's TTL, 10m at most."}},
		"no feed, no end": {[]rules.Rule{keep, forever}, false, nil, []string{writes, "age: Writes around it are not seen: of those an answer knows nothing, and stays until a write through the larder touches its tables."}},
		"a stream":        {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Mode: "stream", LagMS: 12}}, []string{writes, "well: Writes around it in skerrow count 12 ms after their commit, as measured."}},
		"a stream and counters": {[]rules.Rule{keep}, false, []control.Feed{{Origin: "south", Database: "skerrow", Mode: "stream", LagMS: 1500, Polled: []string{"a", "b", "c", "d", "e"}}},
			[]string{writes, "well: Writes around it in south/skerrow count 1.5 s after their commit, as measured.", "age: 5 tables of south/skerrow counters alone tell, up to some 11 s later: a, b, c, d …."}},
		"counters": {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Mode: "poll", LagMS: 900}}, []string{writes, "age: Writes around it in skerrow are found by the server's counters, up to 900 ms later."}},
		"no feed any more": {[]rules.Rule{keep}, false, []control.Feed{{Database: "skerrow", Problem: "It was refused."}},
			[]string{writes, "trouble: Writes around it in skerrow are not seen at this moment: an answer may be as old as its rule's TTL, 10m at most. It was refused."}},
		"an age": {[]rules.Rule{aged}, false, []control.Feed{{Database: "skerrow", Mode: "poll", LagMS: 900}},
			[]string{writes, "age: Writes around it in skerrow are found by the server's counters, up to 900 ms later.", "age: 1 rule accepts an age: their answers may be as old as their TTL, whatever is written."}},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := larder.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
			require.NoError(t, err)
			l.SetRules(rules.NewSet(c.rules))
			l.Hold(c.held)
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

// Each row: a rule, why its results are not kept, and what is said of it.
func TestWhatARuleHasMadeOfAPattern(t *testing.T) {
	keep := rules.Rule{Verdict: rules.Keep, TTL: time.Minute}
	some, paused := keep, keep
	some.When.Application, paused.Paused = "booking-web", true
	minute := ledger.Sums{Count: [4]uint64{30, 5, 5, 0}, Waited: [4]time.Duration{time.Millisecond, 9 * time.Millisecond}, Spared: 1200 * time.Millisecond}
	assert.Equal(t, "A rule says never to keep it.", ruled(&rules.Rule{Verdict: rules.Never}, nil, minute))
	assert.Equal(t, "The rule that keeps it is paused.", ruled(&paused, nil, minute))
	assert.Equal(t, "A rule keeps it, but at this moment nothing is: it passes: the database's catalog has not been read yet.", ruled(&keep, []reason.Reason{reason.Of(reason.CatalogUnread)}, minute))
	assert.Equal(t, "Kept for 1m for some callers. In the last minute 30 of 40 calls were answered from memory: 1.2 s spared, 10 ms still waited.", ruled(&some, nil, minute))
}

// What would help is told of each reason for which calls passed, but not to keep what a rule keeps by now.
func TestWhatWouldHelp(t *testing.T) {
	list := []ledger.ReasonCount{{Reason: reason.Of(reason.NoRule), Count: 3}, {Reason: reason.Of(reason.TemporaryTables), Count: 1}}
	before, after := passed(list, 4, false, nil), passed(list, 4, true, nil)
	assert.Equal(t, "a rule that keeps this pattern", before[0].Would)
	assert.Empty(t, after[0].Would)
	assert.Equal(t, before[1], after[1])
	assert.InDelta(t, 0.75, before[0].Share, 1e-9)
	assert.Equal(t, "its session has temporary tables", before[1].Reason)
}
