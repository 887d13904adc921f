package store

import (
	"slices"
	"sync/atomic"
	"time"
	"unsafe"

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
	// Stamp says whether the result is still true, and Dependencies are what it was taken of.
	Stamp        freshness.Stamp
	Dependencies freshness.Dependencies
	// Pattern is the ID of the pattern it belongs to, and Numbers are that pattern's.
	Pattern statement.ID
	Numbers *ledger.Pattern
	// Rule is the one that it was kept by.
	Rule *rules.Rule
	Rows int
	// Fetched is when its statement was sent, and Took how long the origin took to answer.
	Fetched time.Time
	Took    time.Duration
	// Moment is the number of the last transaction block of any session that had begun when it was known what Stamp
	// holds.
	Moment uint64

	// Uses counts the answers given from it.
	Uses atomic.Int64

	gone  atomic.Bool
	size  uint32
	key   string
	links []link
}

// Key is the exact key it is kept under. Whoever holds on to it is to clone it: it shares the reply's memory.
func (e *Entry) Key() string { return e.key }

// release marks the entry as no longer kept. It is true once.
func (e *Entry) release() bool { return e.gone.CompareAndSwap(false, true) }

// Gone says whether the entry is no longer kept.
func (e *Entry) Gone() bool { return e.gone.Load() }

// pack puts key and reply into one piece of memory that has no room to spare but what the allocator adds.
func (e *Entry) pack(key []byte) {
	packed := append(append(slices.Grow([]byte(nil), len(key)+len(e.Reply)), key...), e.Reply...)
	e.key = unsafe.String(unsafe.SliceData(packed), len(key))
	e.Reply = packed[len(key):]
}

// What an entry takes beside what can be measured of it, in bytes: its node in the cache with its place in the table,
// and for each counter that only few results rest on a place in the index. Measured on Go 1.26 for amd64;
// TestEntriesTakeWhatIsSaid holds it to account.
const (
	nodeBytes = 116
	ownBytes  = 40
)

// garbage is which part of what entries take is counted beyond that: as much of it waits to be collected at times.
const garbage = 16

// Overhead is about what an entry takes beyond its reply, in bytes, where nothing has been measured yet.
const Overhead = 760

// measure notes what the entry takes; nothing else rested on so many of its counters when it was put. It is called when
// its links are made, with the index locked.
func (e *Entry) measure(alone int) {
	n := rounded(int(unsafe.Sizeof(*e))) + len(e.key) + cap(e.Reply) + nodeBytes
	n += rounded(e.Stamp.Bytes()) + rounded(cap(e.links)*int(unsafe.Sizeof(link{}))) + alone*ownBytes
	e.size = uint32(n + n/garbage)
}

// Size is what the entry takes in bytes, with its key and all that is needed to find and to drop it.
func (e *Entry) Size() int { return int(e.size) }

// rounded is what the allocator takes for so many bytes.
func rounded(n int) int {
	if n == 0 {
		return 0
	}
	if n <= len(classes)*16 {
		return int(classes[(n-1)/16])
	}
	return cap(slices.Grow([]byte(nil), n))
}

// classes are the sizes that small pieces of memory are rounded up to, for each multiple of 16 bytes.
var classes = func() (c [64]uint16) {
	for i := range c {
		c[i] = uint16(cap(slices.Grow([]byte(nil), (i+1)*16)))
	}
	return c
}()
