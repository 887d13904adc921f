package inputs

import (
	"slices"
	"sync/atomic"
	"time"
)

// Asked is one call, or several right behind each other, with an input that is followed.
type Asked struct {
	// Input is the hash of what was asked.
	Input uint64
	// At is when, in Ticks since the trace began.
	At uint32
	// Changes is how often what it reads had changed by then.
	Changes uint32
	Calls   float32
	// Class is who asked: an index for Book.Classes.
	Class uint16
	// Blocked is set if it could not have been answered from memory whatever the rules are.
	Blocked bool
}

// The bounds of traces.
const (
	traceEach = 1 << 16 // of one pattern
	tracesAll = 1 << 20 // of all patterns together: 24 MiB
	traceStep = 256     // by which a trace grows
	// Horizon is for how long calls are remembered, as far as there is room.
	Horizon = 2 * time.Hour
	// Calls with one input are put together if they come within so many ticks; more, where there is little room.
	finestGrain, coarsestGrain = 25, 400
	// fewInputs is how many inputs a trace is to have at least, before its grain is made coarser.
	fewInputs = 128
	// markPause is how far the marks are apart.
	markPause = uint32(30 * time.Second / Tick)
)

// trace is the calls of a sample's inputs, the oldest first. When it is full it follows fewer inputs, then less
// exactly, and then for a shorter time.
type trace struct {
	list  []Asked
	room  *atomic.Int64 // in all traces together
	shift uint32        // an input is in it if so many bits of its hash are zero
	grain uint32
	marks []mark
	cut   bool // there were calls before the first one, which are not known any more
}

// mark is how many calls of all inputs there had been at some time.
type mark struct {
	at    uint32
	calls uint64
}

func (t *trace) chosen(hash uint64) bool { return hash&(1<<t.shift-1) == 0 }

// add takes one call; in is its input, which remembers the place of its last record.
func (t *trace) add(in *input, a Asked, inputs map[uint64]*input, horizon uint32, hot func(uint64) bool) {
	if t.grain == 0 {
		t.grain = finestGrain
	}
	if !t.chosen(a.Input) && !hot(a.Input) {
		return
	}
	if i := int(in.traced) - 1; i >= 0 {
		if last := &t.list[i]; a.At-last.At < t.grain && last.Class == a.Class && last.Changes == a.Changes &&
			last.Blocked == a.Blocked {
			last.Calls += a.Calls
			return
		}
	}
	if len(t.list) == cap(t.list) && !t.grow() {
		t.shrink(a.At, horizon, hot)
		for _, in := range inputs {
			in.traced = 0
		}
		if !t.chosen(a.Input) && !hot(a.Input) || len(t.list) == cap(t.list) {
			return
		}
	}
	t.list = append(t.list, a)
	in.traced = uint32(len(t.list))
}

// grow makes room for more records.
func (t *trace) grow() bool {
	if cap(t.list)+traceStep > traceEach {
		return false
	}
	if t.room.Add(-traceStep) < 0 {
		t.room.Add(traceStep)
		return false
	}
	longer := make([]Asked, len(t.list), cap(t.list)+traceStep)
	copy(longer, t.list)
	t.list = longer
	return true
}

// shrink makes room among the records.
func (t *trace) shrink(now, horizon uint32, hot func(uint64) bool) {
	if now > horizon {
		t.list = slices.DeleteFunc(t.list, func(a Asked) bool { return a.At < now-horizon })
		t.cut = true
	}
	for len(t.list) > cap(t.list)*3/4 {
		inputs := map[uint64]bool{}
		for _, a := range t.list {
			if !hot(a.Input) {
				inputs[a.Input] = true
			}
		}
		switch {
		case len(inputs) > fewInputs && t.shift < 40:
			t.shift++
			t.list = slices.DeleteFunc(t.list, func(a Asked) bool { return !t.chosen(a.Input) && !hot(a.Input) })
		case t.grain < coarsestGrain:
			t.grain *= 2
			t.coarsen()
		default:
			t.list = slices.Delete(t.list, 0, len(t.list)/4)
			t.cut = true
		}
	}
}

// narrow leaves only the inputs of which so many bits of the hash are zero, since others are followed no more.
func (t *trace) narrow(shift uint32, inputs map[uint64]*input, hot func(uint64) bool) {
	t.shift = max(t.shift, shift)
	t.list = slices.DeleteFunc(t.list, func(a Asked) bool { return !t.chosen(a.Input) && !hot(a.Input) })
	for _, in := range inputs {
		in.traced = 0
	}
}

// coarsen puts records together that are no further apart than the grain.
func (t *trace) coarsen() {
	last := map[uint64]int{}
	out := t.list[:0]
	for _, a := range t.list {
		if i, ok := last[a.Input]; ok {
			if l := &out[i]; a.At-l.At < t.grain && l.Class == a.Class && l.Changes == a.Changes &&
				l.Blocked == a.Blocked {
				l.Calls += a.Calls
				continue
			}
		}
		last[a.Input] = len(out)
		out = append(out, a)
	}
	t.list = out
}

// mark remembers how many calls there have been.
func (t *trace) mark(at uint32, calls uint64, horizon uint32) {
	if n := len(t.marks); n > 0 && at-t.marks[n-1].at < markPause {
		return
	}
	t.marks = append(t.marks, mark{at, calls})
	if at > horizon {
		t.marks = slices.DeleteFunc(t.marks, func(m mark) bool { return m.at < at-horizon })
	}
}

// clear gives the room back.
func (t *trace) clear() {
	if t.room != nil {
		t.room.Add(int64(cap(t.list)))
	}
	t.list, t.marks = nil, nil
}

// Trace is the calls that were remembered of a pattern.
type Trace struct {
	// Asked are the calls, the oldest first, of a share of the inputs: 1 in Inputs of them, and all that are Hot, which
	// are those asked most.
	Asked  []Asked
	Inputs float64
	Hot    map[uint64]bool
	// Calls is how many calls there were of all inputs meanwhile, and Span how long that was.
	Calls float64
	Span  time.Duration
	// Whole is set when the pattern was not asked before the first of the calls, or so seldom that no input was followed.
	Whole bool
	// Now is the present, in Ticks as in Asked, and Grain how far apart calls are that were put together.
	Now   uint32
	Grain time.Duration
}

// Trace gives the calls that were remembered of the last while, at most so long.
func (p *Pattern) Trace(now time.Time, longest time.Duration) (out Trace) {
	s := p.sample.Load()
	if s == nil {
		return out
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.trace.list) == 0 {
		return out
	}
	at := s.ticks(now)
	from := s.trace.list[0].At
	if ticks := uint32(longest / Tick); at > ticks {
		from = max(from, at-ticks)
	}
	i, _ := slices.BinarySearchFunc(
		s.trace.list,
		from,
		func(a Asked, t uint32) int { return int(int64(a.At) - int64(t)) },
	)
	// A record may have been put together with later ones, so that the list is in order of when they began.
	out = Trace{Asked: slices.Clone(s.trace.list[i:]), Inputs: float64(uint64(1) << s.trace.shift), Now: at,
		Span: time.Duration(at-from) * Tick, Grain: time.Duration(s.trace.grain) * Tick, Whole: i == 0 && !s.trace.cut}
	if hot := s.hot.Load(); hot != nil {
		out.Hot = *hot
	}
	for _, a := range out.Asked {
		out.Calls += float64(a.Calls) * out.Stands(a.Input)
	}
	if out.Inputs > 1 { // or else all of them were remembered
		for _, m := range s.trace.marks {
			if m.at >= from && at > m.at {
				out.Calls = float64(p.calls()-m.calls) * float64(at-from) / float64(at-m.at)
				break
			}
		}
	}
	return out
}

// Stands is how many inputs one of those in the trace stands for.
func (t *Trace) Stands(input uint64) float64 {
	if t.Hot[input] {
		return 1
	}
	return t.Inputs
}
