package inputs

import (
	"cmp"
	"slices"
	"sync"
)

// popular finds the inputs that are asked most of all that are asked, from a share of the calls. Source of the method:
// Manku, Motwani, "Approximate Frequency Counts over Data Streams", VLDB 2002 (lossy counting).
type popular struct {
	mu    sync.Mutex
	count map[uint64]saw
	least float64 // how often an input may have been seen that is not among them
	all   float64
	asOf  float64 // all, when hot inputs were last found
}

// saw is how often an input was seen, and how often at most before that.
type saw struct{ calls, before float64 }

const (
	// popularEach is how many inputs are counted at a time at least, and twice that at most.
	popularEach = 2048
	// enoughSeen is how many calls must have been seen for the popular ones to be known.
	enoughSeen = 500
	// hotAgain is by how many times more calls must have been seen until the hot inputs are looked for again.
	hotAgain = 4
)

// add counts a call, or several. One that would have to wait for another is left out.
func (p *popular) add(hash uint64, calls float64) {
	if !p.mu.TryLock() {
		return
	}
	defer p.mu.Unlock()
	p.all += calls
	have, ok := p.count[hash]
	if !ok {
		if p.count == nil {
			p.count = map[uint64]saw{}
		}
		if len(p.count) >= 2*popularEach {
			p.thin()
		}
		have.before = p.least
	}
	have.calls += calls
	p.count[hash] = have
}

// thin takes out the half that was seen least.
func (p *popular) thin() {
	list := make([]float64, 0, len(p.count))
	for _, x := range p.count {
		list = append(list, x.calls+x.before)
	}
	slices.Sort(list)
	p.least = list[len(list)/2]
	for h, x := range p.count {
		if x.calls+x.before <= p.least {
			delete(p.count, h)
		}
	}
}

// due says whether so much more is known than when it was last asked that the hot inputs should be looked for again.
func (p *popular) due() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all < enoughSeen || p.all < hotAgain*p.asOf {
		return false
	}
	p.asOf = p.all
	return true
}

// hot gives the inputs that the share of calls went to that makes one hot, or nil if too little is known.
func (p *popular) hot() map[uint64]bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all < enoughSeen {
		return nil
	}
	var list []uint64
	for h, x := range p.count {
		if x.calls >= hotShare*p.all && x.calls >= fewestSeen {
			list = append(list, h)
		}
	}
	slices.SortFunc(list, func(a, b uint64) int {
		return cmp.Or(cmp.Compare(p.count[b].calls, p.count[a].calls), cmp.Compare(a, b))
	})
	out := map[uint64]bool{}
	for _, h := range list[:min(len(list), mostHot)] {
		out[h] = true
	}
	return out
}

// fewestSeen is how often an input must have been seen to count as one of the hot ones.
const fewestSeen = 3
