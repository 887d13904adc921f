package choices

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

var start = time.Unix(1_800_000_000, 0)

// bench is an advised rule with patterns that a test turns as it likes, minute by minute.
type bench struct {
	rule     rules.Rule
	c        *Chooser
	now      time.Time
	room     float64
	patterns []*played
	changes  []Change
	outcomes []Outcome
}

// played is a pattern that is asked so often a minute and, where it is chosen, hits as often as its outlook says,
// unless a test says otherwise.
type played struct {
	Pattern
	calls  uint64
	actual float64 // of calls that are hits once it is chosen; less than 0 for what the outlook says
	own    time.Duration
}

func newBench() *bench {
	return &bench{c: New(), now: start, room: 1 << 30, rule: rules.Rule{Name: "dashboards", Action: rules.Advised, TTL: time.Minute, MinSaved: 100 * time.Millisecond}}
}

// outlook gives one in which hits grow with the TTL, up to the last share.
func outlook(hits ...float64) (o inputs.Outlook) {
	o.Calls, o.Followed, o.Inputs = 1000, 5*time.Minute, 10
	for i := range o.Hits {
		o.Hits[i] = hits[min(i, len(hits)-1)]
		o.Aged[i], o.Live[i] = o.Hits[i], 10
	}
	return o
}

func (b *bench) pattern(id string, hits ...float64) *played {
	p := &played{calls: 60, actual: -1, Pattern: Pattern{ID: statement.ID(id), Text: "select " + id, Share: 1}}
	p.Seen = advice.Seen{Tables: []string{"public.fares"}, Origin: 10 * time.Millisecond, Bytes: 400, Outlook: outlook(hits...)}
	b.patterns = append(b.patterns, p)
	return p
}

// run lets so many minutes pass, and gives what was changed.
func (b *bench) run(minutes int) (changes []Change) {
	for range minutes {
		b.now = b.now.Add(time.Minute)
		var list []Pattern
		chosen := b.c.Choices()[b.rule.Name]
		for _, p := range b.patterns {
			p.Seen.Calls = float64(p.calls)
			hits := uint64(0)
			if ttl, ok := chosen[p.ID]; ok {
				share := p.Seen.At(ttl).Hits
				if p.actual >= 0 {
					share = p.actual
				}
				hits = uint64(share * float64(p.calls))
			}
			p.Total.Count[ledger.Hit] += hits
			p.Total.Count[ledger.Miss] += p.calls - hits
			p.Total.Saved += time.Duration(hits)*p.Seen.Origin - time.Duration(p.calls-hits)*p.own
			if p.calls > 0 {
				list = append(list, p.Pattern)
			}
		}
		more, came := b.c.Decide(b.now, &b.rule, b.room, list)
		changes, b.outcomes = append(changes, more...), append(b.outcomes, came...)
	}
	b.changes = append(b.changes, changes...)
	return changes
}

func (b *bench) ttl(p *played) time.Duration { return b.c.Choices()[b.rule.Name][p.ID] }

// Each row: what is known of a pattern, and whether and for how long it is chosen within a minute.
func TestWhatIsChosen(t *testing.T) {
	for name, c := range map[string]struct {
		hits []float64
		with func(*bench, *played)
		want time.Duration
	}{
		"it would save much":                      {hits: []float64{0.2, 0.5, 0.9}, want: 30 * time.Second},
		"a short TTL brings as much":              {hits: []float64{0.2, 0.9}, want: 5 * time.Second},
		"a longer TTL than the rule allows":       {hits: []float64{0.1, 0.2, 0.3, 0.9}, want: time.Minute},
		"the rule allows what lies in between":    {hits: []float64{0.1, 0.2, 0.3, 0.9}, with: func(b *bench, _ *played) { b.rule.TTL = 45 * time.Second }, want: 45 * time.Second},
		"it hardly repeats":                       {hits: []float64{0.05}},
		"it saves less than the rule asks for":    {hits: []float64{0.9}, with: func(b *bench, _ *played) { b.rule.MinSaved = time.Second }},
		"most callers are others":                 {hits: []float64{0.9}, with: func(_ *bench, p *played) { p.Share = 0.1 }},
		"a moment ago it was not known":           {hits: []float64{0.9}, with: func(_ *bench, p *played) { p.Seen.Outlook.Followed = 20 * time.Second }},
		"few calls were observed":                 {hits: []float64{0.9}, with: func(_ *bench, p *played) { p.Seen.Outlook.Calls = 4 }},
		"it cannot be cached":                     {hits: []float64{0.9}, with: func(_ *bench, p *played) { p.Seen.Reasons = []reason.Reason{reason.Of(reason.AsksForTime)} }},
		"it reads a table that is never chosen":   {hits: []float64{0.9}, with: func(b *bench, _ *played) { b.rule.NeverTables = []string{"fares"} }},
		"the rule refuses it":                     {hits: []float64{0.9}, with: func(b *bench, p *played) { b.rule.NeverPatterns = []statement.ID{p.ID} }},
		"its result changed with no write seen":   {hits: []float64{0.9}, with: func(_ *bench, p *played) { p.Seen.Outlook.Unseen = 1 }},
		"there is no room":                        {hits: []float64{0.9}, with: func(b *bench, _ *played) { b.room = 0 }},
		"next to nothing of it has room":          {hits: []float64{0.9}, with: func(b *bench, _ *played) { b.room = 60 }},
		"part of it has room, and that is enough": {hits: []float64{0.9}, with: func(b *bench, _ *played) { b.room = 400 }, want: time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench()
			p := b.pattern("bado-kife-ruma", c.hits...)
			if c.with != nil {
				c.with(b, p)
			}
			changes := b.run(1)
			assert.Equal(t, c.want, b.ttl(p))
			against := b.c.Against(b.now, &b.rule, p.Pattern)
			if c.want == 0 {
				assert.Empty(t, changes)
				assert.Equal(t, strings.Contains(name, "room"), against == "", against)
				return
			}
			assert.Empty(t, against)
			require.Len(t, changes, 1)
			assert.Equal(t, Chosen, changes[0].Kind)
			assert.Positive(t, changes[0].Forecast.Saved)
			assert.NotEmpty(t, changes[0].Why)
		})
	}
}

// A TTL moves in steps, and each step is a change with its reason and what came of the one before.
func TestTTLsMoveInSteps(t *testing.T) {
	b := newBench()
	b.rule.TTL = time.Hour
	p := b.pattern("bado-kife-ruma", 0.2, 0.3, 0.4)
	b.run(1)
	require.Equal(t, 30*time.Second, b.ttl(p))
	p.Seen.Outlook = outlook(0.2, 0.3, 0.4, 0.5, 0.6, 0.7)
	p.Seen.Outlook.Followed = 3 * time.Hour
	b.run(60)
	p.Seen.Outlook = outlook(0.7)
	p.Seen.Outlook.Followed = 3 * time.Hour
	b.run(60)
	var moves []string
	for _, c := range b.changes {
		moves = append(moves, fmt.Sprint(c.Kind, " ", rules.FormatTTL(c.Before), "→", rules.FormatTTL(c.After)))
	}
	assert.Equal(t, []string{
		"chosen none→30s", "lengthened 30s→2m", "lengthened 2m→10m", "lengthened 10m→1h",
		"shortened 1h→10m", "shortened 10m→2m", "shortened 2m→30s", "shortened 30s→5s", "shortened 5s→1s",
	}, moves)
	require.NotEmpty(t, b.outcomes)
	first := b.outcomes[0]
	assert.Equal(t, b.changes[0].At, first.At)
	assert.InDelta(t, 60, first.Actual.Calls, 1e-9)
	assert.InDelta(t, 24, first.Actual.Hits, 1e-9)
	assert.InDelta(t, b.changes[1].At.Sub(b.changes[0].At).Minutes(), first.Actual.Minutes, 1e-9)
}

// What costs more than it saves is taken back within minutes, and rests the longer the more often that was so.
func TestWhatDoesNotPayIsTakenBack(t *testing.T) {
	b := newBench()
	p := b.pattern("bado-kife-ruma", 0.9)
	b.run(30)
	require.NotZero(t, b.ttl(p))
	p.actual, p.own = 0, time.Millisecond
	var times []time.Time
	for range 8 * 60 {
		for _, c := range b.run(1) {
			times = append(times, c.At)
		}
	}
	require.Greater(t, len(times), 4)
	assert.LessOrEqual(t, times[0].Sub(start), 30*time.Minute+costly+time.Minute)
	assert.Equal(t, Withdrawn, b.changes[1].Kind)
	assert.Contains(t, b.changes[1].Why, "costs more than it saves")
	assert.GreaterOrEqual(t, times[3].Sub(times[2]), times[1].Sub(times[0]), "it rests longer each time")
	assert.Less(t, len(times), 14, "in eight hours")
}

// What others ask who are not the rule's callers does not make a choice look like a loss.
func TestOtherCallersDoNotCount(t *testing.T) {
	b := newBench()
	p := b.pattern("bado-kife-ruma", 0.9)
	b.run(1)
	require.NotZero(t, b.ttl(p))
	for range 30 {
		p.Total.Count[ledger.Bypass] += 100_000
		assert.Empty(t, b.run(1))
	}
	r, known := b.c.Actual(b.rule.Name, p.ID, p.Total, b.now)
	require.True(t, known)
	assert.InDelta(t, 0.9, r.Hits/r.Calls, 0.01)
}

// A clone knows what was observed, and changes nothing of what it was made from.
func TestAClone(t *testing.T) {
	b := newBench()
	p := b.pattern("bado-kife-ruma", 0.9)
	p.calls = 18 // enough for the rule, and not for what was seen for a moment alone
	b.run(2)
	require.Zero(t, b.ttl(p))
	p.Total.Count[ledger.Miss] += p.calls
	at := b.now.Add(time.Minute)
	mine, _ := b.c.Clone().Decide(at, &b.rule, b.room, []Pattern{p.Pattern})
	require.Len(t, mine, 1)
	assert.Zero(t, b.ttl(p))
	changes, _ := b.c.Decide(at, &b.rule, b.room, []Pattern{p.Pattern})
	assert.Equal(t, mine, changes)
}

// What saves less than half of what the rule asks for in an hour is taken back; what is idle stays.
func TestWhatIsHardlyWorthItIsTakenBack(t *testing.T) {
	b := newBench()
	p := b.pattern("bado-kife-ruma", 0.9)
	idle := b.pattern("ruma-bado-kife", 0.9)
	b.run(10)
	p.calls, idle.calls = 3, 0
	changes := b.run(120)
	require.Len(t, changes, 1)
	assert.Equal(t, p.ID, changes[0].Pattern)
	assert.Contains(t, changes[0].Why, "in the last hour")
	assert.NotZero(t, b.ttl(idle))
	changes = b.run(24 * 60)
	require.Len(t, changes, 1)
	assert.Equal(t, "It was not asked for a day.", changes[0].Why)
}

// What is not safe any more is taken back at once, whenever the last change was.
func TestWhatIsNotSafeIsTakenBackAtOnce(t *testing.T) {
	for name, turn := range map[string]func(*bench, *played){
		"the rule refuses it":       func(b *bench, p *played) { b.rule.NeverPatterns = []statement.ID{p.ID} },
		"reads a table":             func(b *bench, _ *played) { b.rule.NeverTables = []string{"public.fares"} },
		"changed with no write":     func(_ *bench, p *played) { p.Seen.Outlook.Unseen = 1 },
		"allows no more than 2s":    func(b *bench, _ *played) { b.rule.TTL = 2 * time.Second },
		"a rule above decides":      func(_ *bench, p *played) { p.Elsewhere = true },
		"the rule refuses it, idle": func(b *bench, p *played) { b.rule.NeverPatterns, p.calls = []statement.ID{p.ID}, 0 },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench()
			p := b.pattern("bado-kife-ruma", 0.1, 0.3, 0.9)
			b.run(1)
			require.NotZero(t, b.ttl(p))
			turn(b, p)
			changes := b.run(1)
			require.Len(t, changes, 1)
			assert.LessOrEqual(t, b.ttl(p), 2*time.Second)
		})
	}
}

// A larder that starts again goes on with what was chosen, and does not change it before it has observed it.
func TestChoicesOutliveTheLarder(t *testing.T) {
	b := newBench()
	p := b.pattern("bado-kife-ruma", 0.1, 0.3, 0.9)
	q := b.pattern("ruma-bado-kife", 0.9)
	b.run(20)
	q.actual, q.own = 0, time.Millisecond
	b.run(5)
	require.NotZero(t, b.ttl(p))
	require.Zero(t, b.ttl(q))
	all := b.c.All()
	b.c = New(all...)
	assert.Equal(t, all, b.c.All())
	p.Total, q.Total, p.Seen.Outlook, q.Seen.Outlook = ledger.Sums{}, ledger.Sums{}, inputs.Outlook{}, inputs.Outlook{}
	p.actual = 0.9
	assert.Empty(t, b.run(5))
	rate, known := b.c.Actual(b.rule.Name, p.ID, p.Total, b.now)
	assert.True(t, known)
	assert.InDelta(t, 4, rate.Minutes, 1e-9)
}

// Whatever comes, no pattern is changed twice within the pause unless for safety, no TTL is beyond the rule's, what must
// not be chosen is not, and what is chosen has room.
func TestDecisionsStayWithinBounds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := newBench()
		b.room = rapid.SampledFrom([]float64{0, 20_000, 1 << 30}).Draw(t, "room")
		b.rule.TTL = rapid.SampledFrom([]time.Duration{time.Second, 7 * time.Second, 2 * time.Minute, 45 * time.Minute}).Draw(t, "longest")
		for i := range 6 {
			b.pattern(fmt.Sprint("p", i), 0)
		}
		hits := rapid.SliceOfN(rapid.Float64Range(0, 0.3), 7, 7)
		last := map[statement.ID]time.Time{}
		for range 40 {
			for _, p := range b.patterns {
				if rapid.IntRange(0, 3).Draw(t, "turn") > 0 {
					continue
				}
				o, sum := outlook(0), 0.0
				for i, more := range hits.Draw(t, "hits") {
					sum = min(sum+more, 1)
					o.Hits[i], o.Live[i] = sum, float64(10*i)
				}
				o.Followed = time.Duration(rapid.IntRange(0, 7200).Draw(t, "followed")) * time.Second
				p.Seen.Outlook, p.actual = o, -1
				p.calls = rapid.SampledFrom([]uint64{0, 1, 20, 300}).Draw(t, "calls")
				if rapid.Bool().Draw(t, "disappoints") {
					p.actual, p.own = 0, time.Millisecond
				}
			}
			longest := b.rule.TTL
			for _, c := range b.run(rapid.IntRange(1, 15).Draw(t, "minutes")) {
				if at, ok := last[c.Pattern]; ok && c.At.Sub(at) < Pause {
					t.Fatalf("%s %s after %s: %s", c.Kind, c.Pattern, c.At.Sub(at), c.Why)
				}
				last[c.Pattern] = c.At
				if c.After > longest || c.After == 0 != (c.Kind == Withdrawn) || c.Before == c.After || c.Why == "" {
					t.Fatalf("%+v", c)
				}
			}
			if b.room == 0 && len(b.c.Choices()[b.rule.Name]) > 0 {
				t.Fatal("something is chosen that has no room")
			}
		}
	})
}
