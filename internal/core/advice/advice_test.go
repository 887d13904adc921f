package advice

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/reason"
)

// busy is a pattern that is worth keeping.
func busy() Seen {
	o := inputs.Outlook{Followed: 20 * time.Minute, Calls: 9000, Inputs: 40, Sampled: 40, Repeats: 0.98, Half: 0.1, Compared: 100}
	for i := range inputs.Ladder {
		o.Hits[i], o.Aged[i], o.Live[i] = 0.9, 0.95, 40
	}
	o.Hits[0], o.Hits[1] = 0.4, 0.8
	return Seen{Tables: []string{"public.sailings"}, Calls: 450, Origin: 6 * time.Millisecond, Bytes: 1000, Outlook: o}
}

func TestKeepForTheShortestLifetimeThatBringsNearlyAll(t *testing.T) {
	a := Give(busy())
	assert.Equal(t, Cache, a.Kind)
	assert.Equal(t, 30*time.Second, a.TTL)
	assert.Equal(t, "Cache it for 30s: hit rate 90% of 450 calls a minute, saves 2.4 s a minute, uses about 62 KiB.", a.Sentence)
	assert.Contains(t, a.For, "no writes to public.sailings in the last minute")
	assert.Contains(t, a.For, "half of the calls use 10% of about 40 inputs")
}

func TestLifetimesNobodyHasSeenAreNotForetold(t *testing.T) {
	s := busy()
	s.Outlook.Followed = 3 * time.Minute
	for i := range inputs.Ladder {
		s.Outlook.Hits[i] = float64(i+1) * 0.1
	}
	assert.Equal(t, 2*time.Minute, Give(s).TTL)
}

func TestOtherAdvice(t *testing.T) {
	s := busy()
	s.Outlook.Hits = [len(inputs.Ladder)]float64{}
	a := Give(s)
	assert.Equal(t, NotWorth, a.Kind)
	assert.Equal(t, "Not worth caching: the hit rate would be 0%.", a.Sentence)
	assert.NotEmpty(t, a.Could, "writes are what spoils it")

	s = busy()
	s.Origin = 60 * time.Microsecond
	assert.Equal(t, "Not worth caching: it would save only 4 ms a minute.", Give(s).Sentence)

	s = busy()
	s.Outlook.Calls, s.Calls = 10, 10
	a = Give(s)
	assert.Equal(t, WatchLonger, a.Kind)
	assert.Equal(t, 2*time.Minute, a.Watch)
	assert.Equal(t, "It could be cached. Watch it for about 2m more for a forecast: 10 calls were observed so far.", a.Sentence)

	s = busy()
	s.Reasons = []reason.Reason{reason.About(reason.UnknownLanguage, "c").Behind(reason.Way("").Calls().Function("loyalty"))}
	a = Give(s)
	assert.Equal(t, NotPossible, a.Kind)
	assert.Equal(t, "Cannot be cached: it calls loyalty(), whose tables are not known: it is written in c.", a.Sentence)
	assert.Contains(t, a.Could[0], "[[declare]]")

	s = busy()
	s.Outlook.Unseen, s.Writes, s.Outlook.Changed = 3, 12, 5
	a = Give(s)
	assert.Len(t, a.Against, 3, "%v", a.Against)

	s.Decided, s.Ruled = true, "Kept for 30s."
	assert.Equal(t, Decided, Give(s).Kind)
}
