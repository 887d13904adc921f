package ledger

import (
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/reason"
)

func TestPercentilesAreRightWithinAnEighth(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		times := rapid.SliceOfN(rapid.Int64Range(8, 100_000_000), 1, 200).Draw(t, "µs")
		var d Distribution
		for _, us := range times {
			d.Add(time.Duration(us) * time.Microsecond)
		}
		slices.Sort(times)
		for _, p := range []float64{0.5, 0.9, 1} {
			i := max(int(p*float64(len(times))+0.9999999)-1, 0)
			exact := float64(times[i])
			got := float64(d.Percentile(p).Microseconds())
			assert.InEpsilon(t, exact, got, 0.126, "bucket of an eighth of a power of two")
		}
	})
}

func TestManyWritersLoseNothing(t *testing.T) {
	start := time.Unix(0, 0)
	l := New(start)
	p := l.NewPattern()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 1000 {
				p.Record(&Record{Outcome: Bypass, Reason: reason.Of(reason.NoRule), Took: time.Millisecond, Cacheable: true, Rows: 2})
				l.Application("quay-boards").Record(&Record{Outcome: Hit, Took: time.Microsecond, Saved: time.Millisecond})
			}
		})
	}
	wg.Wait()
	assert.Equal(t, uint64(8000), p.Total().Calls())
	assert.Equal(t, 8*time.Second, p.Total().Cacheable)
	assert.Equal(t, []ReasonCount{{reason.Of(reason.NoRule), 8000}}, p.Reasons())
	assert.Equal(t, 8*time.Second, l.Application("quay-boards").Total().Saved)
}

func TestTheLastMinuteForgets(t *testing.T) {
	now := time.Unix(0, 0)
	l := New(now)
	l.Application("quay-boards").Record(&Record{Outcome: Miss, Took: time.Second})
	for range 60 {
		now = now.Add(time.Second)
		l.Tick(now)
		assert.Equal(t, uint64(1), l.Total.Minute().Calls())
	}
	l.Tick(now.Add(time.Second))
	assert.Equal(t, uint64(0), l.Total.Minute().Calls())
	assert.Equal(t, uint64(1), l.Total.Total().Calls())
}

func TestApplicationsAreBounded(t *testing.T) {
	l := New(time.Unix(0, 0))
	for i := range 200 {
		l.Application(string(rune('a'+i%26)) + string(rune('a'+i/26))).Record(&Record{Outcome: Bypass})
	}
	n, calls := 0, uint64(0)
	l.Applications(func(_ string, t *Tally) { n++; calls += t.Total().Calls() })
	assert.LessOrEqual(t, n, mostApplications+1)
	assert.Equal(t, uint64(200), calls)
}

func TestCallersAreNamedUpToABound(t *testing.T) {
	l := New(time.Unix(0, 0))
	p := l.NewPattern()
	for i := range 10 {
		for range 10 - i {
			p.Record(&Record{Outcome: Bypass, Caller: l.Caller(Caller{Application: fmt.Sprint("app ", i), User: "ines", Database: "skerrow"})})
		}
	}
	list := p.Callers()
	assert.Equal(t, CallerCount{Caller{"app 0", "ines", "skerrow"}, 10}, list[0])
	assert.Equal(t, CallerCount{Caller{Others, "", ""}, 4 + 3 + 2 + 1}, list[len(list)-1])
}

// What the larder answers itself is counted, and is part of what clients waited for, but says nothing of how long the
// origin takes, nor of how long memory does.
func TestWhatTheLarderAnswersItself(t *testing.T) {
	p := New(time.Unix(0, 0)).NewPattern()
	for range 9 {
		p.Record(&Record{Outcome: Bypass, Here: true, Took: time.Microsecond})
	}
	p.Record(&Record{Outcome: Bypass, Took: 8 * time.Millisecond})
	assert.EqualValues(t, 10, p.Calls())
	assert.Equal(t, 8*time.Millisecond+9*time.Microsecond, p.Total().Waited[Bypass])
	assert.EqualValues(t, 1, p.Origin().Count())
	assert.InEpsilon(t, 8*time.Millisecond, p.Origin().Percentile(0.5), 0.13)
	assert.Zero(t, p.Memory().Count())
}

// What is counted of patterns that are no longer told apart is counted with those they are merged into.
func TestMergedPatterns(t *testing.T) {
	l := New(time.Unix(0, 0))
	var all []*Pattern
	for range 30 {
		p := l.NewPattern()
		for range 20 {
			p.Record(&Record{Outcome: Bypass, Took: time.Millisecond, Rows: 2})
		}
		all = append(all, p)
	}
	into := l.NewPattern()
	l.Merge(all, into)
	assert.EqualValues(t, 600, into.Total().Calls())
	assert.EqualValues(t, 1200, into.Rows())
	assert.EqualValues(t, 30, into.Merged.Load())
	l.Tick(time.Unix(100, 0))
	assert.Zero(t, into.Minute().Calls(), "they were asked before")
}

// Who looks what a rule has done makes no tally of it: there may be ten thousand rules, and each second somebody looks.
func TestLookingAtARuleMakesNoTally(t *testing.T) {
	l := New(time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC))
	assert.Nil(t, l.Counted("boards"))
	n := 0
	l.Rules(func(string, *Tally) { n++ })
	assert.Zero(t, n)
	made := l.Rule("boards")
	assert.Same(t, made, l.Counted("boards"))
}
