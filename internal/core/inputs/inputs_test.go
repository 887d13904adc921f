package inputs

import (
	"fmt"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
)

// The outlook of a sample that follows everything, and of one that must choose, against what a larder would have done.
func TestOutlookForetellsHits(t *testing.T) {
	for name, inputs := range map[string]int{"few inputs": 20, "many inputs": 3000} {
		t.Run(name, func(t *testing.T) {
			now := time.Unix(0, 0)
			calls := uint64(0)
			p := New().Pattern(func() uint64 { return calls })
			rng := rand.New(rand.NewPCG(1, 2))
			var changes float64
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
				calls++
				p.Follow(Asked{Input: hash, Changes: uint32(changes)}, now)
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
				assert.InDelta(t, hits[i]/float64(calls), o.Hits[i], slack, "hits at %s", ttl)
				assert.InDelta(t, aged[i]/float64(calls), o.Aged[i], slack, "hits at %s if writes dropped nothing", ttl)
			}
			assert.LessOrEqual(t, o.Sampled, inputsEach)
			assert.InEpsilon(t, float64(len(fetched[0])), o.Inputs, 0.5)
		})
	}
}

func TestResultsThatChange(t *testing.T) {
	now := time.Unix(0, 0)
	calls, changes := uint64(0), uint64(0)
	p := New().Pattern(func() uint64 { return calls })
	for i := range 100 {
		now = now.Add(time.Second)
		if i%10 == 0 {
			changes++
		}
		calls++
		if p.Follow(Asked{Input: 1, Changes: uint32(changes)}, now) {
			p.Compare(1, uint64(i/20), changes, false, now)
		}
	}
	o := p.Outlook(now)
	assert.InDelta(t, 97, o.Compared, 2)
	assert.EqualValues(t, 4, o.Changed, "every twentieth second")
	assert.EqualValues(t, 0, o.Unseen)
	assert.EqualValues(t, 4, o.Stayed[2], "for at most 30 s")
	p.Follow(Asked{Input: 1, Changes: uint32(changes)}, now)
	p.Compare(1, 99, changes, false, now)
	assert.EqualValues(t, 1, p.Outlook(now).Unseen, "another result, and no write was seen")
	now = now.Add(time.Second)
	p.Follow(Asked{Input: 1, Changes: uint32(changes)}, now)
	p.Compare(1, 100, changes, true, now)
	assert.EqualValues(t, 1, p.Outlook(now).Unseen, "another result, and a write may still be told")
	assert.EqualValues(t, 6, p.Outlook(now).Changed)
}

// However many patterns there are, no more inputs are followed than there is room for, and all of it is given back.
func TestFollowingTakesFixedRoom(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	b := New()
	type counted struct {
		*Pattern
		calls uint64
	}
	var all []*counted
	for range 3000 {
		p := &counted{}
		p.Pattern = b.Pattern(func() uint64 { return p.calls })
		for i := range uint64(200) {
			p.calls++
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
	for _, p := range all[:1000] {
		p.Forget()
		assert.Zero(t, p.Outlook(now).Sampled)
	}
	for i := range 400 { // nobody asks any more
		b.Tick(now.Add(time.Duration(i) * ageEvery))
	}
	assert.Zero(t, len(b.followed))
	assert.EqualValues(t, inputsAll, b.room.Load())
	used, limit := b.Used()
	assert.Zero(t, used)
	assert.Positive(t, limit)
}

// Callers beyond the bound are nobody in particular: no rule for one caller is taken to be for them.
func TestClassesBeyondTheBound(t *testing.T) {
	b, l := New(), ledger.New(time.Unix(0, 0))
	first := b.Class(Class{Caller: l.Caller(ledger.Caller{Application: "quay-boards"}), Client: "10.0.0.1"})
	commented := b.Class(Class{Caller: l.Caller(ledger.Caller{Application: "quay-boards"}), Client: "10.0.0.1", Comment: "page='1'"})
	assert.NotEqual(t, first, commented)
	for i := range 2 * mostClasses {
		b.Class(Class{Caller: l.Caller(ledger.Caller{Application: "booking-web"}), Client: fmt.Sprint(i)})
	}
	beyond := b.Class(Class{Caller: l.Caller(ledger.Caller{Application: "crew-tablet"}), Client: "x"})
	assert.NotEqual(t, first, beyond)
	assert.Equal(t, ledger.Others, b.Classes()[beyond].Application)
	assert.Equal(t, first, b.Class(Class{Caller: l.Caller(ledger.Caller{Application: "quay-boards"}), Client: "10.0.0.1", Comment: "page='2'"}), "comments go first")
}

func BenchmarkRecord16Connections(b *testing.B) {
	l := ledger.New(time.Unix(0, 0))
	p := l.NewPattern()
	follows := New().Pattern(p.Calls)
	who := l.Caller(ledger.Caller{Application: "quay-boards"})
	app := l.Application("quay-boards")
	start := time.Now()
	b.SetParallelism(8) // times two processors
	var connections atomic.Uint32
	b.RunParallel(func(pb *testing.PB) {
		lane := uint8(connections.Add(1))
		for i := uint64(0); pb.Next(); i++ {
			r := ledger.Record{Outcome: ledger.Bypass, Reason: reason.Of(reason.NoRule), Took: time.Duration(i%1000) * time.Microsecond, Cacheable: true, Rows: 1, Bytes: 100, Caller: who, Lane: lane}
			follows.Follow(Asked{Input: i % 500 * 0x9e3779b97f4a7c15}, start)
			app.Record(&r)
			p.Record(&r)
		}
	})
}
