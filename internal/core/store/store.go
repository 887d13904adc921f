// Package store keeps results in memory under their exact keys, within a limit in bytes.
package store

import (
	"maps"
	"math"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/maypok86/otter/v2"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/rules"
)

// Store is safe for concurrent use.
type Store struct {
	limit  atomic.Int64
	beside atomic.Int64 // what is taken beside results
	common *otter.Cache[string, *Entry]
	own    atomic.Pointer[map[string]*room] // of rules that have a share of the memory to themselves, by their names
	index  index
	clock  clock

	mu sync.Mutex // of changes of own and the limits
}

// clock is the time as Tick last told it: reading the system's at every lookup would cost more than the lookup.
type clock struct{ now atomic.Int64 }

// NowNano implements otter.Clock, in nanoseconds.
func (c *clock) NowNano() int64 { return c.now.Load() }

// Tick implements otter.Clock.
func (c *clock) Tick(every time.Duration) <-chan time.Time { return time.Tick(every) }

// Tick tells the time, so that what has come to the end of its TTL gives its memory back. It is to be called some times
// a second.
func (s *Store) Tick(now time.Time) {
	if n := now.UnixNano(); n > s.clock.now.Load() {
		s.clock.now.Store(n)
	}
}

// room is the part of memory that belongs to one rule.
type room struct {
	cache *otter.Cache[string, *Entry]
	share float64
}

// New makes a store that keeps at most limit bytes.
func New(limit int64) (*Store, error) {
	s := &Store{index: index{rest: map[*freshness.Counter]*link{}, tables: map[*freshness.Clock]int{}}}
	s.limit.Store(limit)
	c, err := s.cache(limit)
	if err != nil {
		return nil, err
	}
	s.common = c
	s.own.Store(&map[string]*room{})
	return s, nil
}

// never stands for no time limit.
const never = time.Duration(math.MaxInt64)

func (s *Store) cache(limit int64) (*otter.Cache[string, *Entry], error) {
	return otter.New(&otter.Options[string, *Entry]{
		Clock:         &s.clock,
		MaximumWeight: uint64(max(limit, 1)),
		Weigher:       func(_ string, e *Entry) uint32 { return uint32(min(e.Size(), math.MaxUint32)) },
		// Whether a result is too old is for the rule in force to say when it is asked for: this only gives its memory
		// back.
		ExpiryCalculator: otter.ExpiryWritingFunc(func(e otter.Entry[string, *Entry]) time.Duration {
			if r := e.Value.Rule; r != nil && r.TTL > 0 {
				return r.TTL
			}
			return never
		}),
		OnAtomicDeletion: func(e otter.DeletionEvent[string, *Entry]) {
			if !s.Release(e.Value) || e.Value.Numbers == nil {
				return
			}
			switch e.Cause {
			case otter.CauseOverflow:
				e.Value.Numbers.Cached.Evicted.Add(1)
			case otter.CauseExpiration:
				e.Value.Numbers.Cached.Expired.Add(1)
			}
		},
	})
}

// in gives where results of a rule are kept, or nil if that is no more.
func (s *Store) in(r *rules.Rule) *otter.Cache[string, *Entry] {
	if r == nil || r.MemoryShare == 0 {
		return s.common
	}
	if x := (*s.own.Load())[r.Name]; x != nil {
		return x.cache
	}
	return nil
}

// Divide gives each rule that asks for it its share of the memory; the rest is for all others. What is kept by a rule
// that has no share any more is taken out.
func (s *Store) Divide(set *rules.Set) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := *s.own.Load()
	now := map[string]*room{}
	for _, r := range set.List() {
		if r.MemoryShare == 0 {
			continue
		}
		x := before[r.Name]
		if x == nil {
			c, err := s.cache(1)
			if err != nil {
				continue // what has no room is not kept
			}
			x = &room{cache: c}
		}
		now[r.Name] = &room{x.cache, r.MemoryShare}
	}
	s.own.Store(&now)
	s.resize()
	for name, x := range before {
		if now[name] == nil {
			x.cache.InvalidateAll()
			x.cache.StopAllGoroutines()
		}
	}
}

// leastForResults is which part of the limit is left for results whatever else is taken.
const leastForResults = 8

// Beside has so many bytes of the limit left free for what is needed beside the results, to tell what a write changes.
// It does something only if that has changed by much.
func (s *Store) Beside(bytes int64) {
	if d := bytes - s.beside.Load(); d < 1<<16 && d > -1<<16 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.beside.Store(bytes)
	s.resize()
}

// BesideBytes is what Beside was last told.
func (s *Store) BesideBytes() int64 { return s.beside.Load() }

// ForResults is how much of a limit is left for results.
func (s *Store) ForResults(limit int64) int64 {
	return max(limit-s.beside.Load(), limit/leastForResults)
}

// resize tells the caches how much each may hold. It is called with mu held.
func (s *Store) resize() {
	limit := s.ForResults(s.limit.Load())
	left := limit
	for _, x := range *s.own.Load() {
		part := int64(x.share * float64(limit))
		x.cache.SetMaximum(uint64(max(part, 1)))
		left -= part
	}
	s.common.SetMaximum(uint64(max(left, 1)))
}

// SetLimit has at most so many bytes kept from now on. What is too much is pushed out soon.
func (s *Store) SetLimit(limit int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.limit.Store(limit)
	s.resize()
	s.each(func(c *otter.Cache[string, *Entry]) { c.CleanUp() })
}

func (s *Store) each(f func(*otter.Cache[string, *Entry])) {
	f(s.common)
	for _, x := range *s.own.Load() {
		f(x.cache)
	}
}

// Fits says whether a result of so many bytes can be kept by a rule at all.
func (s *Store) Fits(r *rules.Rule, size int) bool {
	c := s.in(r)
	return c != nil && uint64(size) <= c.GetMaximum()
}

// Close ends what runs beside the store. It is not to be used any more.
func (s *Store) Close() {
	s.each(func(c *otter.Cache[string, *Entry]) { c.StopAllGoroutines() })
}

// Release takes an entry out of the index, and marks it as no longer kept. It is true once: for whoever is to count the
// loss.
func (s *Store) Release(e *Entry) bool {
	if !e.release() {
		return false
	}
	s.index.remove(e)
	if n := e.Numbers; n != nil {
		n.Cached.Held.Add(-1)
		n.Cached.HeldBytes.Add(-int64(e.size))
		if e.Uses.Load() == 0 {
			n.Cached.Unused.Add(1)
		}
	}
	return true
}

// Get gives what a rule keeps under a key, or nil. The key's bytes are not held on to.
func (s *Store) Get(r *rules.Rule, key []byte) *Entry {
	c := s.in(r)
	if c == nil || len(key) == 0 {
		return nil
	}
	e, _ := c.GetIfPresent(unsafe.String(&key[0], len(key)))
	return e
}

// Put keeps an entry, in place of what was kept under its key.
func (s *Store) Put(key []byte, e *Entry) {
	c := s.in(e.Rule)
	if c == nil || e.Gone() {
		return
	}
	e.pack(key)
	s.index.add(e)
	if n := e.Numbers; n != nil {
		n.Cached.Stored.Add(1)
		n.Cached.Held.Add(1)
		n.Cached.HeldBytes.Add(int64(e.size))
	}
	c.Set(e.key, e)
	switch {
	case e.Gone(): // dropped before it was in
		s.Remove(e)
	case s.in(e.Rule) != c: // its rule lost its share before it was in
		s.Release(e)
	}
}

// Remove takes an entry out, if it is still the one kept under its key.
func (s *Store) Remove(e *Entry) {
	c := s.in(e.Rule)
	if c == nil {
		return
	}
	c.ComputeIfPresent(e.key, func(have *Entry) (*Entry, otter.ComputeOp) {
		if have == e {
			return nil, otter.InvalidateOp
		}
		return have, otter.CancelOp
	})
}

// All calls f with every entry until it returns false, in no order that means anything.
func (s *Store) All(f func(*Entry) bool) {
	more := true
	s.each(func(c *otter.Cache[string, *Entry]) {
		if !more {
			return
		}
		for _, e := range c.All() {
			if more = f(e); !more {
				return
			}
		}
	})
}

// Len is how many results are kept, about.
func (s *Store) Len() (n int) {
	s.each(func(c *otter.Cache[string, *Entry]) { n += c.EstimatedSize() })
	return n
}

// Bytes is what the results take, with what tells their rows apart.
func (s *Store) Bytes() (n int64) {
	n = s.beside.Load()
	s.each(func(c *otter.Cache[string, *Entry]) { n += int64(c.WeightedSize()) })
	return n
}

// Limit is how many bytes the results may take.
func (s *Store) Limit() int64 { return s.limit.Load() }

// Shares gives what each rule that has a share of the memory may keep, and keeps, in bytes.
func (s *Store) Shares() map[string]Share {
	out := map[string]Share{}
	for name, x := range maps.All(*s.own.Load()) {
		out[name] = Share{int64(x.cache.WeightedSize()), int64(x.cache.GetMaximum())}
	}
	return out
}

// Share is what a rule keeps, and may keep, in bytes.
type Share struct{ Bytes, Limit int64 }
