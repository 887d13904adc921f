package ledger

import (
	"math/bits"
	"sync/atomic"
	"time"
)

// Distribution counts durations from 1 µs to 137 s in buckets an eighth of a power of two wide, so that a percentile
// is right within an eighth. It is written here because histograms at hand are not safe for many writers without a lock.
// The zero value is ready.
type Distribution struct {
	buckets [8 * 25]atomic.Uint32
}

// Add counts one duration.
func (d *Distribution) Add(t time.Duration) { d.buckets[bucket(t)].Add(1) }

func bucket(t time.Duration) int {
	us := uint64(max(t.Microseconds(), 0))
	if us < 8 {
		return int(us)
	}
	power := bits.Len64(us) - 4 // us>>power is 8 to 15
	i := (power+1)*8 + int(us>>power) - 8
	return min(i, 8*25-1)
}

// lowest is the lower bound of a bucket, in microseconds.
func lowest(i int) float64 {
	if i < 8 {
		return float64(i)
	}
	power := i/8 - 1
	return float64(uint64(8+i%8) << power)
}

// Bucket is one bucket that is not empty: Count durations from From up to To.
type Bucket struct {
	From, To time.Duration
	Count    uint32
}

// Buckets gives the buckets that are not empty, shortest first.
func (d *Distribution) Buckets() []Bucket {
	var out []Bucket
	for i := range d.buckets {
		if n := d.buckets[i].Load(); n > 0 {
			out = append(out, Bucket{micro(lowest(i)), micro(lowest(i + 1)), n})
		}
	}
	return out
}

// Percentile gives the duration that the share p, from 0 to 1, of all durations did not exceed; 0 if there are none.
func (d *Distribution) Percentile(p float64) time.Duration {
	buckets := d.Buckets()
	var all float64
	for _, b := range buckets {
		all += float64(b.Count)
	}
	want := p * all
	for _, b := range buckets {
		if n := float64(b.Count); want <= n {
			return b.From + time.Duration(float64(b.To-b.From)*want/n)
		}
		want -= float64(b.Count)
	}
	return 0
}

func micro(us float64) time.Duration { return time.Duration(us * float64(time.Microsecond)) }
