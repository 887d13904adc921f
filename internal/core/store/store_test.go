package store

import (
	"fmt"
	"runtime"
	"testing"
	"time"

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
	return &shelf{s, freshness.New(), l, l.NewPattern(), rules.Rule{Name: "r", Verdict: rules.Keep}}
}

// put keeps a reply of so many bytes that rests on some tables, and on one row of the first if it is pinned.
func (s *shelf) put(i, size, tables int, pinned bool) *Entry {
	var names []string
	for k := range tables {
		names = append(names, fmt.Sprintf("public.t%d", k))
	}
	r := s.clocks.Readings(names)
	var pins []freshness.Pinned
	if pinned {
		c := s.clocks.Table(names[0])
		pins = append(pins, freshness.Pinned{Table: c, Key: c.Key([]string{"id"}, true), Hashes: []uint64{uint64(i) * 0x9e3779b97f4a7c15}})
	}
	e := &Entry{Reply: make([]byte, size), Stamp: r.Take(pins...), Readings: r, Numbers: s.number, Rule: &s.rule, Fetched: time.Now()}
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
