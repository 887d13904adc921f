package engine

import "sync/atomic"

// Room is memory that many share: who needs some takes it first, or does without.
type Room struct{ limit, used atomic.Int64 }

// Take takes so many bytes, if there are as many left.
func (r *Room) Take(n int64) bool {
	if r.used.Add(n) > r.limit.Load() {
		r.used.Add(-n)
		return false
	}
	return true
}

// Give gives back what was taken.
func (r *Room) Give(n int64) { r.used.Add(-n) }

// Used is how many bytes are taken.
func (r *Room) Used() int64 { return r.used.Load() }

// Limit is how many bytes there are.
func (r *Room) Limit() int64 { return r.limit.Load() }

// DefaultOverhead is the limit in bytes for everything that is no result, unless Options say otherwise.
const DefaultOverhead = 256 << 20

// overhead is the memory for everything that is no kept result. Each part has a share of its own, so that a flood of
// one kind leaves room for the others. What finds no room is done without: statements of patterns that are not
// remembered are read each time and counted in sum, texts are read again, inputs are not followed, and what a session
// has prepared or asks passes.
type overhead struct {
	patterns, texts Room
	sessions        Room
}

// The shares, in sixteenths. The rest is for what waits to be collected: without room for that, collecting takes the
// time of those who are answered.
const (
	sharePatterns = 5
	shareTexts    = 1
	shareSessions = 2
	shareInputs   = 1
	shareTraces   = 1
)

func (o *overhead) divide(all int64) {
	o.patterns.limit.Store(all * sharePatterns / 16)
	o.texts.limit.Store(all * shareTexts / 16)
	o.sessions.limit.Store(all * shareSessions / 16)
}

// Overhead says what the memory is used for that is no kept result, in bytes.
type Overhead struct {
	// Limit is for all of it.
	Limit int64
	// Patterns are what is known of statement patterns; Texts those that come again byte for byte; Sessions what
	// sessions have prepared, what they send and what they are being sent, beyond the small buffers each has; and
	// Inputs the samples that foretell what keeping would bring.
	Patterns, Texts, Sessions, Inputs Part
}

// Part is one part of the overhead.
type Part struct{ Used, Limit int64 }

// Overhead gives what is used at present.
func (e *Engine) Overhead() Overhead {
	part := func(r *Room) Part { return Part{r.Used(), r.Limit()} }
	inputs, limit := e.Inputs.Used()
	return Overhead{
		e.opts.Overhead,
		part(&e.overhead.patterns),
		part(&e.overhead.texts),
		part(&e.overhead.sessions),
		Part{inputs, limit},
	}
}

// growth is by how much a copy's part of a room grows, in bytes; the first is not counted.
const growth = 32 << 10

// Grow takes what a copy of so many bytes lacks of the room, of which it has taken some. It is false if there is none.
func (r *Room) Grow(taken *int64, need int) bool {
	for int64(need) > *taken+growth {
		if !r.Take(growth) {
			return false
		}
		*taken += growth
	}
	return true
}

// Shrink gives back what a copy has taken.
func (r *Room) Shrink(taken *int64) {
	if *taken > 0 { // mostly it is nothing, and the room is everybody's
		r.Give(*taken)
		*taken = 0
	}
}

// SessionRoom is what sessions share for what they prepare, send and are sent.
func (e *Engine) SessionRoom() *Room { return &e.overhead.sessions }
