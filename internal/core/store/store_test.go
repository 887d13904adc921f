package store

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/maypok86/otter/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// shelf is a store with what its entries rest on.
type shelf struct {
	*Store
	clocks *freshness.Clocks
	ledger *ledger.Ledger
	number *ledger.Pattern
	rule   rules.Rule
}

func newShelf(t testing.TB, limit int64) *shelf {
	s, err := New(limit)
	require.NoError(t, err)
	l := ledger.New(time.Now())
	return &shelf{s, freshness.New(), l, l.NewPattern(), rules.Rule{Name: "r", Action: rules.Cache}}
}

// put keeps a reply of so many bytes that rests on some tables, and on one row of the first if it is pinned.
func (s *shelf) put(i, size, tables int, pinned bool) *Entry {
	var names []string
	for k := range tables {
		names = append(names, fmt.Sprintf("public.t%d", k))
	}
	r := s.clocks.Dependencies(names)
	var pins []freshness.Pinned
	if pinned {
		c := s.clocks.Table(names[0])
		pins = append(pins, freshness.Pinned{Table: c, Key: c.Key([]string{"id"}, true), Hashes: []uint64{uint64(i) * 0x9e3779b97f4a7c15}})
	}
	e := &Entry{Reply: make([]byte, size), Stamp: r.Take(pins...), Dependencies: r, Numbers: s.number, Rule: &s.rule, Fetched: time.Now()}
	s.Put(fmt.Appendf(nil, "demo\x00larder\x00UTC\x00select name from t where id = %d", i), e)
	return e
}

func heap() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// The limit is of memory that is really taken: what entries are said to take is what the heap grows by.
func TestEntriesTakeWhatIsSaid(t *testing.T) {
	for _, x := range []struct {
		n, size, tables int
		pinned          bool
	}{{200_000, 40, 1, true}, {200_000, 300, 1, false}, {100_000, 1024, 1, true}, {100_000, 1024, 3, false}, {10_000, 20_000, 2, false}, {1000, 200_000, 1, true}} {
		t.Run(fmt.Sprintf("%+v", x), func(t *testing.T) {
			s := newShelf(t, 1<<40)
			s.put(0, x.size, x.tables, x.pinned)
			before, cells := heap(), s.clocks.Bytes()
			for i := range x.n {
				s.put(i+1, x.size, x.tables, x.pinned)
			}
			s.common.CleanUp()
			took := heap() - before
			said := s.Bytes()*garbage/(garbage+1) + s.clocks.Bytes() - cells
			t.Logf("%d B each, said %d", took/int64(x.n), said/int64(x.n))
			assert.InEpsilon(t, took, said, 0.06)
			runtime.KeepAlive(s)
		})
	}
}

// fill puts so many results of a KiB, each used once, and lets the cache settle.
func (s *shelf) fill(n int) {
	for i := range n {
		s.put(i, 1024, 1, false).Uses.Add(1)
	}
	s.each(func(c *otter.Cache[string, *Entry]) { c.CleanUp() })
}

// A lower limit pushes out what is too much, and counts it; what is needed to tell what writes change is part of the limit.
func TestALimitHolds(t *testing.T) {
	s := newShelf(t, 4<<20)
	s.fill(1000)
	require.Equal(t, 1000, s.Len())
	used := s.Bytes()
	s.SetLimit(1 << 20)
	assert.LessOrEqual(t, s.Bytes(), int64(1<<20))
	assert.Equal(t, int64(s.Len()), s.number.Cached.Held.Load())
	assert.Equal(t, uint64(1000-s.Len()), s.number.Cached.Evicted.Load())
	assert.Zero(t, s.number.Cached.Unused.Load(), "all were used")
	assert.InDelta(t, float64(used)/1000, float64(s.number.Cached.HeldBytes.Load())/float64(s.Len()), 8)
	s.Beside(512 << 10)
	s.each(func(c *otter.Cache[string, *Entry]) { c.CleanUp() })
	assert.LessOrEqual(t, s.Bytes(), int64(1<<20), "with what is beside")
	assert.False(t, s.Fits(&s.rule, 600<<10))
	s.SetLimit(4 << 20)
	assert.True(t, s.Fits(&s.rule, 600<<10))
}

// A rule with a share of the memory has it to itself, and must do with it.
func TestARuleWithItsOwnMemory(t *testing.T) {
	s := newShelf(t, 4<<20)
	other := &rules.Rule{Name: "crowd", Action: rules.Cache}
	s.rule.MemoryShare = 0.25
	s.Divide(rules.NewSet([]rules.Rule{s.rule, *other}))
	s.fill(2000)
	mine := s.Shares()["r"]
	assert.Equal(t, int64(1<<20), mine.Limit)
	assert.LessOrEqual(t, mine.Bytes, mine.Limit)
	assert.Greater(t, mine.Bytes, mine.Limit*8/10)
	had := s.Len()
	for i := range 5000 {
		e := &Entry{Reply: make([]byte, 1024), Numbers: s.number, Rule: other}
		s.Put(fmt.Appendf(nil, "other %d", i), e)
	}
	s.each(func(c *otter.Cache[string, *Entry]) { c.CleanUp() })
	assert.Equal(t, mine, s.Shares()["r"], "others push nothing of it out")
	assert.Greater(t, s.Len(), had)
	assert.LessOrEqual(t, s.Bytes(), int64(4<<20))
	s.Divide(rules.NewSet([]rules.Rule{*other}))
	assert.Empty(t, s.Shares())
	assert.Nil(t, s.Get(&s.rule, []byte("demo\x00larder\x00UTC\x00select name from t where id = 1")), "what has no place any more is not kept")
}

// What comes to the end of its TTL gives its memory back without being asked for.
func TestExpiredResultsGiveTheirMemoryBack(t *testing.T) {
	s := newShelf(t, 4<<20)
	s.rule.TTL = 50 * time.Millisecond
	for i := range 50 {
		s.put(i, 1024, 1, false)
	}
	assert.Equal(t, 50, s.Len())
	s.Tick(time.Now().Add(time.Second))
	require.Eventually(t, func() bool { return s.Len() == 0 }, time.Minute, 20*time.Millisecond)
	assert.Equal(t, uint64(50), s.number.Cached.Expired.Load())
	assert.Equal(t, uint64(50), s.number.Cached.Unused.Load(), "none was used")
	assert.Empty(t, s.DependOn(&s.clocks.Every.Counter, nil))
}

// A write may drop a result at the very moment that it is put: it is counted as taken out as it was counted in, and nothing of it stays.
func TestDroppedWhileBeingPut(t *testing.T) {
	s := newShelf(t, 1<<30)
	done := make(chan struct{})
	released := make(chan int)
	go func() {
		n := 0
		var list []*Entry
		for ended := false; !ended; {
			select {
			case <-done:
				ended = true // and once more
			default:
			}
			list = s.DependOn(&s.clocks.Every.Counter, list[:0])
			for _, e := range list {
				if s.Release(e) {
					s.Remove(e)
					n++
				}
			}
		}
		released <- n
	}()
	const puts = 20_000
	for i := range puts {
		s.put(i, 100, 2, i%2 == 0)
	}
	close(done)
	assert.Equal(t, puts, <-released)
	assert.Zero(t, s.number.Cached.Held.Load())
	assert.Zero(t, s.number.Cached.HeldBytes.Load())
	s.common.CleanUp()
	assert.Zero(t, s.Bytes())
}
