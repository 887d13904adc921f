package engine

import (
	"hash/maphash"
	"sync"

	"jollylarder/internal/core/store"
)

// needless finds out how many of the dropped results had really changed: those that are fetched again are held against what was dropped.
type needless struct {
	mu            sync.Mutex
	dropped       map[uint64]uint64 // the hash of its key to that of its reply
	changed, same uint64
}

// mostDropped bounds the dropped results that are remembered until they are fetched again.
const mostDropped = 1 << 16

func (n *needless) drop(entry *store.Entry) {
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

func (n *needless) keep(key, reply []byte) {
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

// Needless gives how many results that writes had dropped were other ones when they were fetched again, and how many were the same: to drop those
// was not needed.
func (e *Engine) Needless() (changed, same uint64) {
	e.needless.mu.Lock()
	defer e.needless.mu.Unlock()
	return e.needless.changed, e.needless.same
}
