package ledger

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/reason"
)

// The interval of the control samples holds what was truly spared, about as often as it says.
func TestTheSamplesInterval(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	held := 0
	const tries = 400
	for range tries {
		p := New(time.Now()).NewPattern()
		var truth time.Duration
		for i := range 4000 {
			would := time.Duration(float64(time.Millisecond) * (2 + r.ExpFloat64())) // what the origin would have taken
			if i%20 == 0 {
				p.Sample(would)
				p.Record(&Record{Outcome: Miss, Took: would, Own: 0})
				continue
			}
			truth += would - 50*time.Microsecond
			p.Record(&Record{Outcome: Hit, Took: 50 * time.Microsecond, Saved: 3 * time.Millisecond})
		}
		e := p.Total().BySample()
		assert.True(t, e.Known)
		if d := e.Time - truth; d < e.Error && d > -e.Error {
			held++
		}
	}
	assert.InDelta(t, 0.95, float64(held)/tries, 0.04)
}

func TestWhatIsCountedAgainstWhatWasSpared(t *testing.T) {
	l := New(time.Now())
	p := l.NewPattern()
	ms := time.Millisecond
	for range 100 { // before a rule
		p.Record(&Record{Outcome: Bypass, Cacheable: true, Took: 10 * ms})
	}
	p.Record(&Record{Outcome: Bypass, Cacheable: true, LeftOut: true, Took: 10 * ms}) // belongs to neither
	p.Record(&Record{Outcome: Miss, Cacheable: true, Ruled: true, Took: 12 * ms, Own: 2 * ms})
	p.Record(&Record{Outcome: Hit, Ruled: true, Cacheable: true, Took: 8 * ms, Followed: 7 * ms, Saved: 2 * ms})
	for range 7 {
		p.Record(&Record{Outcome: Hit, Ruled: true, Cacheable: true, Took: ms, Saved: 9 * ms})
	}
	p.Record(&Record{Outcome: Bypass, Reason: reason.Of(reason.UnknownIsolation), Ruled: true, Cacheable: true, Took: 10 * ms})
	s := p.Total()
	assert.Equal(t, 2*ms+7*9*ms-2*ms, s.Saved, "less what the larder added to the miss")
	assert.Equal(t, 2*ms, s.Own)
	assert.Equal(t, 7*ms, s.Followed)
	assert.Equal(t, Part{100, 1000 * ms}, s.Before)
	assert.Equal(t, Part{1, 10 * ms}, s.Hindered)
	assert.Equal(t, Part{10, 37 * ms}, s.After(), "eight hits, a miss, and one that was hindered")
	m := Measure(Measured{s, s.Before}, Measured{Sums: Sums{Count: [4]uint64{10, 0, 0, 0}, Saved: ms}})
	assert.Equal(t, 10*10*ms-37*ms, m.Before.Time)
	assert.InDelta(t, 0.5, m.BeforeCovers, 1e-9)
	assert.Equal(t, s.Saved, m.BeforeLike)
	assert.False(t, m.Sample.Known, "no sample was taken")
	assert.Equal(t, s.Saved+ms, m.Fetches)
	later := p.Total()
	assert.Equal(t, Sums{}, later.Minus(s), "nothing came since")
}
