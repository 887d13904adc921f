package feed

import "sync"

// Unseen are transactions of which a stream has told, and which not everybody may see yet: a server writes to its log
// first, may then wait for its replicas, and shows what was written at the end. It is safe for concurrent use.
type Unseen[K any] struct {
	mu   sync.Mutex
	list []unseen[K]
}

type unseen[K any] struct {
	key     K
	visible func()
}

// Add adds one, and what is to be called when everybody sees it.
func (u *Unseen[K]) Add(key K, visible func()) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.list = append(u.list, unseen[K]{key, visible})
}

// Shown takes out those that everybody sees, and says whether any is left.
func (u *Unseen[K]) Shown(is func(K) bool) (left bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	var still []unseen[K]
	for _, x := range u.list {
		if is(x.key) {
			x.visible()
		} else {
			still = append(still, x)
		}
	}
	u.list = still
	return len(still) > 0
}

// All takes out all, of which nothing more will be learnt.
func (u *Unseen[K]) All() { u.Shown(func(K) bool { return true }) }

// Any says whether there are any.
func (u *Unseen[K]) Any() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return len(u.list) > 0
}
