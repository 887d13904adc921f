// Package store keeps results in memory under their exact keys, within a limit in bytes.
package store

import (
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/maypok86/otter/v2"

	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Entry is one kept result. It does not change once put, but for the count of its uses.
type Entry struct {
	// Reply holds the bytes for the client, ready to be written: the messages of the result up to and with its
	// completion, as the wire protocol frames them.
	Reply []byte
	// Stamp says whether the result is still true, and Readings are what it was taken of.
	Stamp    freshness.Stamp
	Readings freshness.Readings
	// Pattern is the ID of the pattern it belongs to, and Numbers are that pattern's.
	Pattern statement.ID
	Numbers *ledger.Pattern
	// Rule is the one that it was kept by.
	Rule *rules.Rule
	Rows int
	// Fetched is when its statement was sent, and Took how long the origin took to answer.
	Fetched time.Time
	Took    time.Duration

	// Uses counts the answers given from it.
	Uses atomic.Int64

	gone  atomic.Bool
	key   string
	links []link
}

// Key is the exact key it is kept under.
func (e *Entry) Key() string { return e.key }

// release marks the entry as no longer kept. It is true once.
func (e *Entry) release() bool { return e.gone.CompareAndSwap(false, true) }

// Gone says whether the entry is no longer kept.
func (e *Entry) Gone() bool { return e.gone.Load() }

// overhead is what an entry takes beyond its key and reply: the entry itself, its stamp, its links, and the table's node.
const overhead = 640

// Size is what the entry takes in bytes.
func (e *Entry) Size() int { return len(e.Reply) + len(e.key) + overhead }

// Store is safe for concurrent use.
type Store struct {
	cache *otter.Cache[string, *Entry]
	limit uint64
	index index
}

// New makes a store that keeps at most limit bytes.
func New(limit int64) (*Store, error) {
	s := &Store{limit: uint64(limit), index: index{rest: map[*freshness.Counter]*link{}, tables: map[*freshness.Clock]int{}}}
	c, err := otter.New(&otter.Options[string, *Entry]{
		MaximumWeight: uint64(limit),
		Weigher:       func(_ string, e *Entry) uint32 { return uint32(e.Size()) },
		OnAtomicDeletion: func(e otter.DeletionEvent[string, *Entry]) {
			s.Release(e.Value)
		},
	})
	if err != nil {
		return nil, err
	}
	s.cache = c
	return s, nil
}

// Release takes an entry out of the index, and marks it as no longer kept. It is true once: for whoever is to count the loss.
func (s *Store) Release(e *Entry) bool {
	if !e.release() {
		return false
	}
	s.index.remove(e)
	return true
}

// Get gives what is kept under a key, or nil. The key's bytes are not held on to.
func (s *Store) Get(key []byte) *Entry {
	if len(key) == 0 {
		return nil
	}
	e, _ := s.cache.GetIfPresent(unsafe.String(&key[0], len(key)))
	return e
}

// Put keeps an entry, in place of what was kept under its key.
func (s *Store) Put(key []byte, e *Entry) {
	e.key = string(key)
	s.index.add(e)
	s.cache.Set(e.key, e)
	if e.Gone() { // dropped before it was in
		s.Remove(e)
	}
}

// Remove takes an entry out, if it is still the one kept under its key.
func (s *Store) Remove(e *Entry) {
	s.cache.ComputeIfPresent(e.key, func(have *Entry) (*Entry, otter.ComputeOp) {
		if have == e {
			return nil, otter.InvalidateOp
		}
		return have, otter.CancelOp
	})
}

// All calls f with every entry until it returns false.
func (s *Store) All(f func(*Entry) bool) {
	for _, e := range s.cache.All() {
		if !f(e) {
			return
		}
	}
}

// Len is how many results are kept, Bytes what they take, and Limit what they may take.
func (s *Store) Len() int     { return s.cache.EstimatedSize() }
func (s *Store) Bytes() int64 { return int64(s.cache.WeightedSize()) }
func (s *Store) Limit() int64 { return int64(s.limit) }
