package forecast

import (
	"math"

	"github.com/maypok86/otter/v2"

	"jollylarder/internal/core/rules"
)

// memory is the imagined memory: it lets in and pushes out as the real one does, since it is the same library that
// decides. A result that stands for many takes the room of all of them.
type memory struct {
	limit  float64
	common *room
	own    map[string]*room // of rules that have a share to themselves
	bytes  float64
	most   float64
	full   bool
}

// room is the memory of one rule, or of all that have none of their own.
type room struct {
	cache *otter.Cache[key, *kept]
}

// unit is what memory is weighed in, in bytes: weights have 32 bits.
const unit = 64

func newMemory(limit int64, patterns []Pattern) (*memory, error) {
	m := &memory{limit: float64(limit), own: map[string]*room{}}
	left := m.limit
	for _, p := range patterns {
		for _, r := range p.Rules {
			if r.MemoryShare == 0 || m.own[r.Name] != nil {
				continue
			}
			x, err := m.room(r.MemoryShare * m.limit)
			if err != nil {
				return nil, err
			}
			m.own[r.Name] = x
			left -= r.MemoryShare * m.limit
		}
	}
	var err error
	m.common, err = m.room(left)
	return m, err
}

func (m *memory) room(limit float64) (*room, error) {
	o := &otter.Options[key, *kept]{Executor: func(f func()) { f() }}
	o.OnAtomicDeletion = func(e otter.DeletionEvent[key, *kept]) {
		x := e.Value
		m.bytes -= x.bytes
		x.of.memory -= x.bytes
		m.full = m.full || e.Cause == otter.CauseOverflow
	}
	if limit > 0 {
		o.MaximumWeight = uint64(math.Ceil(limit / unit))
		o.Weigher = func(_ key, x *kept) uint32 { return uint32(min(math.Ceil(x.bytes/unit), math.MaxUint32)) }
	}
	c, err := otter.New(o)
	return &room{c}, err
}

// in gives where results of a rule are kept.
func (m *memory) in(r *rules.Rule) *room {
	if x := m.own[r.Name]; x != nil {
		return x
	}
	return m.common
}

// mostTouches bounds how often one record counts as used: beyond that the library counts no further.
const mostTouches = 15

// get gives what is kept under a key, asked for so many times.
func (r *room) get(k key, calls float64) *kept {
	x, _ := r.cache.GetIfPresent(k)
	for range int(min(calls, mostTouches)) - 1 {
		r.cache.GetIfPresent(k)
	}
	return x
}

func (m *memory) put(r *room, x *kept) {
	m.bytes += x.bytes
	x.of.memory += x.bytes
	r.cache.Set(x.key, x)
	m.most = max(m.most, m.bytes)
}
