// Package needless finds out how many of the results that writes dropped had really changed: those that are fetched
// again are held against what was dropped.
package needless

import (
	"hash/maphash"
	"sync"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/store"
)

// Drops is what is known of dropped results. Its zero value is ready to use.
type Drops struct {
	engine.Unmoved
	mu            sync.Mutex
	dropped       map[uint64]uint64 // the hash of its key to that of its reply
	changed, same uint64
}

// seed is that of keys and replies, which are compared within one run of the program.
var seed = maphash.MakeSeed()

// mostDropped bounds the dropped results that are remembered until they are fetched again.
const mostDropped = 1 << 16

// Dropped remembers what a dropped result was.
func (n *Drops) Dropped(entry *store.Entry) {
	key, reply := maphash.String(seed, entry.Key()), maphash.Bytes(seed, entry.Reply)
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.dropped == nil {
		n.dropped = map[uint64]uint64{}
	}
	if len(n.dropped) < mostDropped {
		n.dropped[key] = reply
	}
}

// Cached holds a result that was fetched again against what was dropped.
func (n *Drops) Cached(key, reply []byte) {
	h := maphash.Bytes(seed, key)
	n.mu.Lock()
	was, ok := n.dropped[h]
	delete(n.dropped, h)
	n.mu.Unlock()
	if !ok {
		return
	}
	same := was == maphash.Bytes(seed, reply) // which may be long: nobody is to wait for it
	n.mu.Lock()
	defer n.mu.Unlock()
	if same {
		n.same++
	} else {
		n.changed++
	}
}

// Counts gives how many results that writes had dropped were other ones when they were fetched again, and how many were
// the same: to drop those was not needed.
func (n *Drops) Counts() (changed, same uint64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.changed, n.same
}
