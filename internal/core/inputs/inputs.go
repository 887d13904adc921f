// Package inputs follows what is asked with a pattern in time: which inputs come again, what a larder would have made
// of them for each of some lifetimes, and when they were asked, so that hits can be foretold. It follows some inputs of
// each pattern, within a bound for all of them.
package inputs

import (
	"math"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"
)

// Book is what is followed of all patterns. Make it with New.
type Book struct {
	inputs, asked int64        // the limits
	room          atomic.Int64 // for inputs that are followed
	traces        atomic.Int64 // for records of their calls
	classes       classes

	mu       sync.Mutex
	followed map[*Pattern]struct{} // those of which inputs are followed
	aged     time.Time
}

// New makes a book.
func New() *Book {
	b := &Book{followed: map[*Pattern]struct{}{}}
	b.Limit(math.MaxInt64, math.MaxInt64)
	return b
}

// inputBytes and askedBytes are what an input that is followed takes, and a call of a trace.
const (
	inputBytes = 200
	askedBytes = int64(unsafe.Sizeof(Asked{}))
)

// Limit bounds the memory for inputs that are followed, and for traces of their calls, in bytes. It is to be called
// before anything is followed.
func (b *Book) Limit(inputs, traces int64) {
	b.inputs, b.asked = min(inputs/inputBytes, inputsAll), min(traces/askedBytes, tracesAll)
	b.room.Store(b.inputs)
	b.traces.Store(b.asked)
}

// Used gives how many bytes inputs and traces take, and may take.
func (b *Book) Used() (used, limit int64) {
	return (b.inputs-b.room.Load())*inputBytes + (b.asked-b.traces.Load())*askedBytes, b.inputs*inputBytes + b.asked*askedBytes
}

// ageEvery is how often it is looked which inputs are still asked.
const ageEvery = 5 * time.Second

// Tick forgets inputs that are not asked any more. It is to be called about once a second.
func (b *Book) Tick(now time.Time) {
	if now.Sub(b.aged) < ageEvery {
		return
	}
	b.aged = now
	b.mu.Lock()
	defer b.mu.Unlock()
	for p := range b.followed {
		if !p.age(now) {
			delete(b.followed, p)
		}
	}
}

// Pattern is the inputs of one pattern. Make it with Book.Pattern.
type Pattern struct {
	book    *Book
	calls   func() uint64
	sample  atomic.Pointer[sample]
	counted uint64 // the calls when it was last looked at; only Tick touches it
}

// Pattern makes a pattern, of whose inputs none is followed yet. Calls says how many calls there have been.
func (b *Book) Pattern(calls func() uint64) *Pattern { return &Pattern{book: b, calls: calls} }

// followedFrom is at which call of a pattern its inputs begin to be followed: most patterns of a careless application
// are seen once.
const followedFrom = 3

// fewCalls is after how many calls at most a pattern's inputs begin to be followed for the first time: several sessions may
// come to ask it at once. After more they were followed before, and given up.
const fewCalls = 100

// Follow takes one call, of which Input, Changes, Class and Blocked are set. It says whether the hash of the result is
// to be handed to Compare.
func (p *Pattern) Follow(asked Asked, now time.Time) (compare bool) {
	s := p.sample.Load()
	if s == nil {
		calls := p.calls()
		if calls < followedFrom-1 {
			return false
		}
		s = p.begin(calls)
	}
	return s.follow(asked, now)
}

// Popular takes some of all calls, whatever their input: it is how the inputs asked most are found.
func (p *Pattern) Popular(hash uint64, calls float64) {
	if s := p.sample.Load(); s != nil && s.shift.Load() > 0 { // or else all are followed
		s.popular.add(hash, calls)
	}
}

// FollowMore takes further calls with an input that was followed in the same Tick, with no change in between.
func (p *Pattern) FollowMore(hash uint64, calls uint32) {
	if s := p.sample.Load(); s != nil {
		s.more(hash, float32(calls))
	}
}

// Follows says whether an input is one of those that are followed, or may become one.
func (p *Pattern) Follows(hash uint64) bool {
	s := p.sample.Load()
	return s == nil || s.chosen(hash)
}

// Compare takes the hash of a result that was asked for by Follow. Told is set when a change that explains that it is
// another may still be told.
func (p *Pattern) Compare(hash, result, changes uint64, told bool, now time.Time) {
	if s := p.sample.Load(); s != nil {
		s.result(hash, result, changes, told, now)
	}
}

// Outlook gives what can be foretold of the pattern; it is zero where no inputs were followed.
func (p *Pattern) Outlook(now time.Time) Outlook {
	if s := p.sample.Load(); s != nil {
		return s.outlook(p.calls(), now)
	}
	return Outlook{}
}

// begin begins to follow inputs.
func (p *Pattern) begin(calls uint64) *sample {
	b := p.book
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := p.sample.Load(); s != nil {
		return s
	}
	s := &sample{room: &b.room, since: calls, trace: trace{room: &b.traces, cut: calls > fewCalls}}
	p.sample.Store(s)
	b.followed[p] = struct{}{}
	return s
}

// age gives away the places of the pattern's inputs when it has long not been asked, and says whether any is followed.
// It is called with the book locked.
func (p *Pattern) age(now time.Time) (followed bool) {
	s := p.sample.Load()
	if s == nil {
		return false
	}
	calls := p.calls()
	s.age(calls, now)
	if calls != p.counted {
		p.counted = calls
		s.used.Store(now.Unix())
	} else if used := s.used.Load(); used != 0 && now.Unix()-used > int64(3*forgotten/time.Second) {
		p.sample.Store(nil)
		s.clear()
		return false
	}
	return true
}

// Forget follows no input of the pattern any more, until it is asked again.
func (p *Pattern) Forget() {
	p.book.mu.Lock()
	defer p.book.mu.Unlock()
	delete(p.book.followed, p)
	if s := p.sample.Swap(nil); s != nil {
		s.clear()
	}
}
