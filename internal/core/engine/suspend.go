package engine

import (
	"sync"
	"sync/atomic"

	"jollylarder/internal/core/rules"
)

// suspensions are the rules that were suspended, since one of their answers was found to be old.
type suspensions struct {
	mu   sync.Mutex
	list []suspension
	now  atomic.Pointer[map[*rules.Rule]bool] // those of the rules in force
}

// suspension is a rule that was paused by a stale catch. It stays so, whatever else changes, until it was paused in the
// rules themselves and is not any more: then somebody has looked at it.
type suspension struct {
	rule  rules.Rule
	filed bool // the rules have said that it is paused
}

// apply works out which rules of a set are suspended. It is called with mu held.
func (x *suspensions) apply(set *rules.Set, more ...*rules.Rule) {
	paused := map[*rules.Rule]bool{}
	for _, r := range more {
		paused[r] = true
	}
	left := x.list[:0]
	for _, s := range x.list {
		lifted := false
		for i := range set.List() {
			r := &set.List()[i]
			if !r.SameAs(&s.rule) {
				continue
			}
			lifted = s.filed && !r.Paused
			s.filed = s.filed || r.Paused
			paused[r] = !lifted
		}
		if !lifted {
			left = append(left, s)
		}
	}
	x.list = left
	x.now.Store(&paused)
}

// resume has the suspensions hold for another set of rules.
func (x *suspensions) resume(set *rules.Set) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.apply(set)
}

// Suspend has a rule in force keep nothing any more, since one of its answers was found to be old. It stays so until it
// was paused in the rules and is not any more.
func (e *Engine) Suspend(r *rules.Rule) {
	r = r.Whole() // nothing else that was chosen within it is to be trusted either
	x := &e.suspensions
	x.mu.Lock()
	defer x.mu.Unlock()
	x.list = append(x.list, suspension{rule: *r})
	x.apply(e.Rules(), r)
}

// Caches says whether any rule in force keeps results at present: one that is not paused, by a person or by a stale
// catch.
func (e *Engine) Caches() bool {
	set := e.Rules()
	list := set.List()
	for i := range list {
		r := &list[i]
		if (r.Caches() || !r.Paused && set.Chosen(r) > 0) && !e.Suspended(r) {
			return true
		}
	}
	return false
}

// Suspended says whether a rule in force was paused by a stale catch.
func (e *Engine) Suspended(r *rules.Rule) bool {
	p := e.suspensions.now.Load()
	return p != nil && (*p)[r.Whole()]
}
