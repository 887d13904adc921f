package ledger

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"jollylarder/internal/core/reason"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
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
				p.Record(Record{Outcome: Pass, Reason: reason.Of(reason.NoRule), Took: time.Millisecond, Keepable: true, Rows: 2})
				l.Application("quay-boards").Record(Record{Outcome: Hit, Took: time.Microsecond, Spared: time.Millisecond})
			}
		})
	}
	wg.Wait()
	assert.Equal(t, uint64(8000), p.Total().Calls())
	assert.Equal(t, 8*time.Second, p.Total().Keepable)
	assert.Equal(t, []ReasonCount{{reason.Of(reason.NoRule), 8000}}, p.Reasons())
	assert.Equal(t, 8*time.Second, l.Application("quay-boards").Total().Spared)
}

func TestTheLastMinuteForgets(t *testing.T) {
	now := time.Unix(0, 0)
	l := New(now)
	l.Application("quay-boards").Record(Record{Outcome: Miss, Took: time.Second})
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
		l.Application(string(rune('a'+i%26)) + string(rune('a'+i/26))).Record(Record{Outcome: Pass})
	}
	n, calls := 0, uint64(0)
	l.Applications(func(_ string, t *Tally) { n++; calls += t.Total().Calls() })
	assert.LessOrEqual(t, n, mostApplications+1)
	assert.Equal(t, uint64(200), calls)
}

// The outlook of a sample that follows everything, and of one that must choose, against what a larder would have done.
func TestOutlookForetellsHits(t *testing.T) {
	for name, inputs := range map[string]int{"few inputs": 20, "many inputs": 3000} {
		t.Run(name, func(t *testing.T) {
			now := time.Unix(0, 0)
			l := New(now)
			p := l.NewPattern()
			rng := rand.New(rand.NewPCG(1, 2))
			var calls, changes float64
			var hits, aged [steps]float64
			type fetch struct {
				at      time.Time
				changes uint64
			}
			var fetched, agedFetch [steps]map[uint64]fetch
			for i := range Ladder {
				fetched[i], agedFetch[i] = map[uint64]fetch{}, map[uint64]fetch{}
			}
			for range 60_000 {
				now = now.Add(time.Duration(rng.ExpFloat64() * float64(5*time.Millisecond)))
				if rng.IntN(2000) == 0 {
					changes++
				}
				in := uint64(math.Pow(float64(inputs), rng.Float64())) // few of them often
				hash := in * 0x9e3779b97f4a7c15
				hash ^= hash >> 29
				p.Record(Record{Outcome: Pass, Took: time.Millisecond})
				p.Follow(Asked{Input: hash, Changes: uint32(changes)}, now)
				calls++
				for i, ttl := range Ladder {
					if f, ok := fetched[i][in]; ok && f.changes == uint64(changes) && (ttl == 0 || now.Sub(f.at) < ttl) {
						hits[i]++
					} else {
						fetched[i][in] = fetch{now, uint64(changes)}
					}
					if f, ok := agedFetch[i][in]; ok && (ttl == 0 || now.Sub(f.at) < ttl) {
						aged[i]++
					} else {
						agedFetch[i][in] = fetch{now, 0}
					}
				}
			}
			o := p.Outlook(now)
			for i, ttl := range Ladder {
				slack := 0.02
				if inputs > inputsEach {
					slack = 0.08 // 256 of 3,000 are followed, of which a few make most of the calls
				}
				assert.InDelta(t, hits[i]/calls, o.Hits[i], slack, "hits at %s", ttl)
				assert.InDelta(t, aged[i]/calls, o.Aged[i], slack, "hits at %s if writes dropped nothing", ttl)
			}
			assert.LessOrEqual(t, o.Sampled, inputsEach)
			assert.InEpsilon(t, float64(len(fetched[0])), o.Inputs, 0.5)
		})
	}
}

func TestResultsThatChange(t *testing.T) {
	now := time.Unix(0, 0)
	p := New(now).NewPattern()
	changes := uint64(0)
	for i := range 100 {
		now = now.Add(time.Second)
		if i%10 == 0 {
			changes++
		}
		p.Record(Record{Outcome: Pass, Took: time.Millisecond})
		if p.Follow(Asked{Input: 1, Changes: uint32(changes)}, now) {
			p.Compare(1, uint64(i/20), changes, now)
		}
	}
	o := p.Outlook(now)
	assert.InDelta(t, 97, o.Compared, 2)
	assert.EqualValues(t, 4, o.Changed, "every twentieth second")
	assert.EqualValues(t, 0, o.Unseen)
	assert.EqualValues(t, 4, o.Stayed[2], "for at most 30 s")
	p.Follow(Asked{Input: 1, Changes: uint32(changes)}, now)
	p.Compare(1, 99, changes, now)
	assert.EqualValues(t, 1, p.Outlook(now).Unseen, "another result, and no write was seen")
}

func TestFollowingTakesFixedRoom(t *testing.T) {
	now := time.Unix(0, 0)
	l := New(now)
	var all []*Pattern
	for range 3000 {
		p := l.NewPattern()
		for i := range uint64(200) {
			p.Record(Record{Outcome: Pass})
			p.Follow(Asked{Input: i * 0x9e3779b97f4a7c15}, now)
		}
		all = append(all, p)
	}
	followed := 0
	for _, p := range all {
		followed += p.Outlook(now).Sampled
	}
	assert.LessOrEqual(t, followed, inputsAll)
	assert.Greater(t, followed, 3000)
	into := l.NewPattern()
	l.Merge(all, into)
	assert.EqualValues(t, 600_000, into.Total().Calls())
	assert.EqualValues(t, 3000, into.Merged.Load())
	assert.EqualValues(t, inputsAll, l.room.Load(), "all room has been given back")
}

func TestCallersAreNamedUpToABound(t *testing.T) {
	l := New(time.Unix(0, 0))
	p := l.NewPattern()
	for i := range 10 {
		for range 10 - i {
			p.Record(Record{Outcome: Pass, Caller: l.Caller(Caller{Application: fmt.Sprint("app ", i), User: "ines", Database: "skerrow"})})
		}
	}
	list := p.Callers()
	assert.Equal(t, CallerCount{Caller{"app 0", "ines", "skerrow"}, 10}, list[0])
	assert.Equal(t, CallerCount{Caller{Others, "", ""}, 4 + 3 + 2 + 1}, list[len(list)-1])
}

func BenchmarkRecord16Connections(b *testing.B) {
	l := New(time.Unix(0, 0))
	p := l.NewPattern()
	who := l.Caller(Caller{Application: "quay-boards"})
	app := l.Application("quay-boards")
	start := time.Now()
	b.SetParallelism(8) // times two processors
	var connections atomic.Uint32
	b.RunParallel(func(pb *testing.PB) {
		lane := uint8(connections.Add(1))
		for i := uint64(0); pb.Next(); i++ {
			r := Record{Outcome: Pass, Reason: reason.Of(reason.NoRule), Took: time.Duration(i%1000) * time.Microsecond, Keepable: true, Rows: 1, Bytes: 100, Caller: who, Lane: lane}
			p.Follow(Asked{Input: i % 500 * 0x9e3779b97f4a7c15}, start)
			app.Record(r)
			p.Record(r)
		}
	})
}

// Callers beyond the bound are nobody in particular: no rule for one caller is taken to be for them.
func TestClassesBeyondTheBound(t *testing.T) {
	l := New(time.Unix(0, 0))
	first := l.Class(Class{Caller: l.Caller(Caller{Application: "quay-boards"}), Client: "10.0.0.1"})
	commented := l.Class(Class{Caller: l.Caller(Caller{Application: "quay-boards"}), Client: "10.0.0.1", Comment: "page='1'"})
	assert.NotEqual(t, first, commented)
	for i := range 2 * mostClasses {
		l.Class(Class{Caller: l.Caller(Caller{Application: "booking-web"}), Client: fmt.Sprint(i)})
	}
	beyond := l.Class(Class{Caller: l.Caller(Caller{Application: "crew-tablet"}), Client: "x"})
	assert.NotEqual(t, first, beyond)
	assert.Equal(t, Others, l.Classes()[beyond].Application)
	assert.Equal(t, first, l.Class(Class{Caller: l.Caller(Caller{Application: "quay-boards"}), Client: "10.0.0.1", Comment: "page='2'"}), "comments go first")
}
