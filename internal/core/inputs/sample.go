package inputs

import (
	"cmp"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Ladder are the lifetimes for which hits are foretold; the last, zero, is no limit.
var Ladder = [...]time.Duration{time.Second, 5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, time.Hour, 0}

// steps is the number of lifetimes.
const steps = len(Ladder)

// The bounds of what is followed.
const (
	inputsEach = 8192    // of one pattern
	inputsAll  = 1 << 17 // of all together
	// forgotten is how long an input is not asked before its place is given away.
	forgotten = 10 * time.Minute
	// halving is how often counts are halved, so that they tell of the last half hour or so.
	halving = 10 * time.Minute
	// resultPause is the shortest time between two results of one pattern that are compared: it bounds what that costs.
	resultPause = 20 * time.Millisecond
)

// sample follows some of a pattern's inputs in time, and counts for each what a larder would have made of it that kept
// its results for each of the lifetimes. Inputs are chosen by a hash of their key, so that one that is followed is
// followed at every call; when they are too many, only half of the hashes remain chosen. Source of the method:
// spatially hashed sampling, Waldspurger, Park, Garthwaite, Ahmad, "Efficient MRC Construction with SHARDS", FAST 2015.
type sample struct {
	mu     sync.Mutex
	room   *atomic.Int64 // for inputs, in all samples together
	shift  atomic.Uint32 // an input is followed if so many bits of its hash are zero
	inputs map[uint64]*input
	gone   bool   // its places were given away, and none is to be taken again
	past   counts // of chosen inputs whose place was given away

	// hot are the inputs asked most, as known when there were too many to follow all: they are followed whatever their
	// hash.
	hot     atomic.Pointer[map[uint64]bool]
	popular popular

	skipped atomic.Uint64 // calls of chosen inputs that were left out
	all     float64       // calls of all inputs up to since, halved as everything is
	since   uint64        // the pattern's calls that are in all

	trace trace

	began, halved, comparedAt time.Time
	used                      atomic.Int64 // when it was last seen to be of use, in seconds
}

// counts are what is counted of one input. They are no whole numbers, since they are halved.
type counts struct {
	calls, repeats float32
	hits, aged     [steps]float32 // aged are the hits if writes dropped nothing

	compared, changed, unseen float32 // unseen: changed with no write in between that the larder saw
	stayed                    [steps]float32
}

// input is one that is followed. Times are in hundredths of a second since the sample began.
type input struct {
	counts
	seen            uint32
	fetched, before [steps]uint32 // the imagined fetch for each lifetime, and how often what it reads had changed then
	agedFetch       [steps]uint32

	traced uint32 // the place of its last record in the trace, from 1; 0 for none

	result, resultChanges uint64
	resultNew             uint32 // when the result was first found so
}

// Tick is the unit of time of what is followed.
const Tick = 10 * time.Millisecond

func (s *sample) ticks(now time.Time) uint32 {
	return uint32(now.Sub(s.began)/Tick) + 1 // 0 stands for never
}

func within(now, at uint32, ttl time.Duration) bool {
	return at != 0 && (ttl == 0 || now-at < uint32(ttl/Tick))
}

// more takes calls that came right behind one that was followed: whatever the lifetime, they would have been hits.
func (s *sample) more(hash uint64, calls float32) {
	if !s.chosen(hash) {
		return
	}
	if !s.mu.TryLock() {
		s.skipped.Add(uint64(calls))
		return
	}
	defer s.mu.Unlock()
	in := s.inputs[hash]
	if in == nil {
		return
	}
	in.calls += calls
	in.repeats += calls
	if in.traced != 0 {
		s.trace.list[in.traced-1].Calls += calls
	}
	for i := range Ladder {
		in.hits[i] += calls
		in.aged[i] += calls
	}
}

// follow takes one call, whose input and changes are in asked. It says whether the result is to be compared with the
// last. A call that would have to wait for another is left out.
func (s *sample) follow(asked Asked, now time.Time) (compare bool) {
	hash, changes := asked.Input, asked.Changes
	if !s.chosen(hash) {
		return false
	}
	if !s.mu.TryLock() {
		s.skipped.Add(1)
		return false
	}
	defer s.mu.Unlock()
	if s.gone {
		return false
	}
	if s.inputs == nil {
		s.inputs, s.began, s.halved = map[uint64]*input{}, now, now
	}
	in := s.inputs[hash]
	if in == nil {
		if in = s.place(hash, now); in == nil {
			return false
		}
	} else {
		in.repeats++
	}
	in.calls++
	at := s.ticks(now)
	for i, ttl := range Ladder {
		if within(at, in.fetched[i], ttl) && in.before[i] == changes {
			in.hits[i]++
		} else {
			in.fetched[i], in.before[i] = at, changes
		}
		if within(at, in.agedFetch[i], ttl) {
			in.aged[i]++
		} else {
			in.agedFetch[i] = at
		}
	}
	in.seen = at
	asked.At, asked.Calls = at, 1
	s.trace.add(in, asked, s.inputs, uint32(Horizon/Tick), s.isHot)
	if now.Sub(s.comparedAt) < resultPause {
		return false
	}
	s.comparedAt = now
	return true
}

// chosen says whether an input is followed.
func (s *sample) chosen(hash uint64) bool {
	return hash&(1<<s.shift.Load()-1) == 0 || s.isHot(hash)
}

func (s *sample) isHot(hash uint64) bool {
	hot := s.hot.Load()
	return hot != nil && (*hot)[hash]
}

// mostHot bounds the inputs that are followed whatever their hash, and hotShare is the share of calls that makes one
// so: left to chance, one such input would decide over what is foretold.
const (
	mostHot  = 256
	hotShare = 0.0005
)

// findHot looks which inputs are hot.
func (s *sample) findHot() {
	if hot := s.popular.hot(); hot != nil {
		s.hot.Store(&hot)
		return
	}
	// Too few calls for that: all inputs are still followed, and tell it themselves.
	type asked struct {
		hash  uint64
		calls float32
	}
	var list []asked
	var all float32
	for h, in := range s.inputs {
		list, all = append(list, asked{h, in.calls}), all+in.calls
	}
	slices.SortFunc(list, func(a, b asked) int { return cmp.Compare(b.calls, a.calls) })
	hot := map[uint64]bool{}
	for _, x := range list[:min(len(list), mostHot)] {
		if x.calls >= hotShare*all {
			hot[x.hash] = true
		}
	}
	s.hot.Store(&hot)
}

// place makes room for one more input, or gives nil if there is none, or if it is not chosen any more.
func (s *sample) place(hash uint64, now time.Time) *input {
	if len(s.inputs) >= inputsEach {
		s.forget(now)
	}
	for len(s.inputs) >= inputsEach && s.shift.Load() < 40 {
		if s.shift.Load() == 0 {
			s.findHot()
		}
		s.shift.Add(1)
		s.past.scale(0.5) // half of them would not have been chosen
		s.leave()
	}
	if !s.chosen(hash) {
		return nil
	}
	if s.room.Add(-1) < 0 {
		s.room.Add(1)
		return nil
	}
	in := &input{}
	s.inputs[hash] = in
	return in
}

// leave follows only what is still chosen.
func (s *sample) leave() {
	for h := range s.inputs {
		if !s.chosen(h) {
			delete(s.inputs, h)
			s.room.Add(1)
		}
	}
	s.trace.narrow(s.shift.Load(), s.inputs, s.isHot)
}

// forget gives away the places of inputs that have not been asked for long.
func (s *sample) forget(now time.Time) {
	at := s.ticks(now)
	for h, in := range s.inputs {
		if !within(at, in.seen, forgotten) {
			s.past.add(&in.counts)
			delete(s.inputs, h)
			s.room.Add(1)
		}
	}
}

// age is told from time to time how many calls of the pattern there were.
func (s *sample) age(calls uint64, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.inputs == nil {
		return
	}
	s.trace.mark(s.ticks(now), calls, uint32(Horizon/Tick))
	if s.shift.Load() > 0 && s.popular.due() {
		s.findHot()
		s.leave()
	}
	if now.Sub(s.halved) < halving {
		return
	}
	s.halved = now
	s.all, s.since = (s.all+float64(calls-s.since))/2, calls
	s.skipped.Store(s.skipped.Load() / 2)
	s.past.scale(0.5)
	for _, in := range s.inputs {
		in.scale(0.5)
	}
	s.forget(now)
	if n := s.shift.Load(); n > 0 && len(s.inputs) < inputsEach/4 { // there is room for more of them again
		s.past.scale(2)
		s.shift.Store(n - 1)
	}
}

// clear gives everything away, for good.
func (s *sample) clear() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.room.Add(int64(len(s.inputs)))
	s.trace.clear()
	s.inputs, s.gone = nil, true
}

func (c *counts) scale(f float32) {
	for _, x := range []*float32{&c.calls, &c.repeats, &c.compared, &c.changed, &c.unseen} {
		*x *= f
	}
	for i := range Ladder {
		c.hits[i] *= f
		c.aged[i] *= f
		c.stayed[i] *= f
	}
}

func (c *counts) add(o *counts) {
	c.calls += o.calls
	c.repeats += o.repeats
	c.compared += o.compared
	c.changed += o.changed
	c.unseen += o.unseen
	for i := range Ladder {
		c.hits[i] += o.hits[i]
		c.aged[i] += o.aged[i]
		c.stayed[i] += o.stayed[i]
	}
}

// result takes the hash of a result that was to be compared, and how often what it reads had changed before it was
// fetched; and whether a change may still be told.
func (s *sample) result(hash, result, changes uint64, told bool, now time.Time) {
	if !s.mu.TryLock() {
		return
	}
	defer s.mu.Unlock()
	in := s.inputs[hash]
	if in == nil {
		return
	}
	at := s.ticks(now)
	if in.resultNew != 0 {
		in.compared++
		if in.result == result {
			in.resultChanges = changes
			return
		}
		in.changed++
		if in.resultChanges == changes && !told {
			in.unseen++
		}
		for i, ttl := range Ladder {
			if within(at, in.resultNew, ttl) {
				in.stayed[i]++
				break
			}
		}
	}
	in.result, in.resultChanges, in.resultNew = result, changes, at
}

// Outlook is what can be foretold of a pattern from the inputs that were followed.
type Outlook struct {
	// Followed is for how long inputs were followed, and Calls how many of theirs were counted.
	Followed time.Duration
	Calls    float64
	// Inputs estimates how many different inputs are in use, and Sampled is how many of them were followed.
	Inputs  float64
	Sampled int
	// Repeats is the share of calls whose input had been asked before.
	Repeats float64
	// Hits is the share of calls that would be answered from memory at each lifetime of Ladder, with writes dropping
	// results; Error is half of its interval of 95%. Aged is the same if writes dropped nothing.
	Hits, Error, Aged [steps]float64
	// Live estimates how many results would be kept at each lifetime.
	Live [steps]float64
	// Half is the share of inputs that half of the calls ask for: small if calls gather on few inputs.
	Half float64
	// Compared is how often a result was compared with the last of its input, Changed how often it was another, and
	// Unseen how often it was another though no write was seen. Stayed counts, for those that changed, how long they
	// had stayed equal: at most so long as the step of Ladder.
	Compared, Changed, Unseen float64
	Stayed                    [steps]float64
}

// hottest sums the inputs asked most of those that were chosen by their hash, which a tenth of their calls went to.
func (s *sample) hottest() (sum counts) {
	var list []*input
	var all float32
	for h, in := range s.inputs {
		if !s.isHot(h) {
			list, all = append(list, in), all+in.calls
		}
	}
	slices.SortFunc(list, func(a, b *input) int { return cmp.Compare(b.calls, a.calls) })
	for _, in := range list {
		if sum.calls >= all/10 {
			break
		}
		sum.add(&in.counts)
	}
	return sum
}

func (s *sample) outlook(calls uint64, now time.Time) (o Outlook) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.inputs == nil {
		return o
	}
	o.Followed = now.Sub(s.began)
	rest := s.past
	var hot counts
	times := float64(uint64(1) << s.shift.Load())
	at := s.ticks(now)
	var each []weighed
	for h, in := range s.inputs {
		w := times
		if s.isHot(h) {
			w = 1
			hot.add(&in.counts)
		} else {
			rest.add(&in.counts)
		}
		o.Inputs += w
		each = append(each, weighed{float64(in.calls), w})
		for i, ttl := range Ladder {
			if within(at, in.fetched[i], ttl) {
				o.Live[i] += w
			}
		}
	}
	sum := hot
	sum.add(&rest)
	o.Calls, o.Sampled = float64(sum.calls), len(s.inputs)
	if o.Calls == 0 {
		return o
	}
	// More calls than were to be expected went to inputs that are not followed, or fewer: those of the inputs that are
	// asked most. They are taken to be hits as often as those of the inputs asked most that are followed. Source: the
	// same, "SHARDS-adj".
	whole := float64(hot.calls) + times*float64(rest.calls)
	var adjust float64
	if s.shift.Load() > 0 {
		adjust = max(s.all+float64(calls-s.since)-times*float64(s.skipped.Load())-whole, -times*float64(rest.calls)/2)
	}
	most := s.hottest()
	share := func(hot, rest, most, of float32) float64 {
		return min(max((float64(hot)+times*float64(rest)+adjust*float64(most/max(of, 1)))/(whole+adjust), 0), 1)
	}
	o.Repeats = share(hot.repeats, rest.repeats, most.repeats, most.calls)
	for i := range Ladder {
		o.Hits[i], o.Aged[i] = share(hot.hits[i], rest.hits[i], most.hits[i], most.calls), share(hot.aged[i], rest.aged[i], most.aged[i], most.calls)
		o.Stayed[i] = float64(sum.stayed[i])
		if s.shift.Load() == 0 { // all inputs are followed: only calls are few
			o.Error[i] = 1.96 * math.Sqrt(o.Hits[i]*(1-o.Hits[i])/o.Calls)
			continue
		}
		var squares float64 // of a ratio's deviations: inputs are what was drawn, not calls
		for h, in := range s.inputs {
			if !s.isHot(h) {
				d := times * (float64(in.hits[i]) - o.Hits[i]*float64(in.calls))
				squares += d * d
			}
		}
		o.Error[i] = 1.96 * math.Sqrt(squares) / (whole + adjust)
	}
	o.Compared, o.Changed, o.Unseen = float64(sum.compared), float64(sum.changed), float64(sum.unseen)
	slices.SortFunc(each, func(a, b weighed) int { return cmp.Compare(b.calls, a.calls) })
	var all, half, inputs float64
	for _, x := range each {
		all += x.calls * x.stands
	}
	for _, x := range each {
		if half < all/2 {
			inputs += x.stands
			o.Half = inputs / o.Inputs
		}
		half += x.calls * x.stands
	}
	return o
}

// weighed is an input's calls, and how many inputs it stands for.
type weighed struct{ calls, stands float64 }
