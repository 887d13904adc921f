package ledger

import (
	"math"
	"math/bits"
	"sync/atomic"
	"time"
)

// Distribution counts durations from 1 µs to 137 s in buckets an eighth of a power of two wide, so that a percentile is
// right within an eighth. It is written here because histograms at hand are not safe for many writers without a lock.
// The zero value is ready, and small: most patterns are seen a few times only.
type Distribution struct {
	count   atomic.Uint64
	sum     atomic.Int64 // in microseconds
	few     [few]atomic.Uint32
	buckets atomic.Pointer[[8 * 25]atomic.Uint32]
}

// few is how many durations are held one by one, before there are buckets.
const few = 4

// Add counts one duration.
func (d *Distribution) Add(t time.Duration) {
	us := max(t.Microseconds(), 0)
	d.sum.Add(us)
	if n := d.count.Add(1); n <= few {
		d.few[n-1].Store(uint32(min(us, math.MaxUint32-1)) + 1)
		return
	}
	d.big()[bucket(t)].Add(1)
}

// Count is how many durations were counted.
func (d *Distribution) Count() uint64 { return d.count.Load() }

// Mean is the mean of the durations, 0 if there are none.
func (d *Distribution) Mean() time.Duration {
	n := d.count.Load()
	if n == 0 {
		return 0
	}
	return time.Duration(d.sum.Load()/int64(n)) * time.Microsecond
}

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

// Merge adds what was counted elsewhere.
func (d *Distribution) Merge(o *Distribution) {
	n := o.count.Load()
	if n == 0 {
		return
	}
	d.count.Add(n)
	d.sum.Add(o.sum.Load())
	b := d.big()
	for i := range o.few {
		if us := o.few[i].Load(); us > 0 {
			b[bucket(time.Duration(us-1)*time.Microsecond)].Add(1)
		}
	}
	if ob := o.buckets.Load(); ob != nil {
		for i := range ob {
			b[i].Add(ob[i].Load())
		}
	}
}

func (d *Distribution) big() *[8 * 25]atomic.Uint32 {
	b := d.buckets.Load()
	if b == nil {
		b = new([8 * 25]atomic.Uint32)
		if !d.buckets.CompareAndSwap(nil, b) {
			b = d.buckets.Load()
		}
	}
	return b
}

// Bucket is one bucket that is not empty: Count durations from From up to To.
type Bucket struct {
	From, To time.Duration
	Count    uint32
}

// Buckets gives the buckets that are not empty, shortest first.
func (d *Distribution) Buckets() []Bucket { return d.times().buckets() }

// Percentile gives the duration that the share p, from 0 to 1, of all durations did not exceed; 0 if there are none.
func (d *Distribution) Percentile(p float64) time.Duration { return percentile(d.Buckets(), p) }

// times counts the durations by bucket.
func (d *Distribution) times() (t Times) {
	for i := range d.few {
		if us := d.few[i].Load(); us > 0 {
			t[bucket(time.Duration(us-1)*time.Microsecond)]++
		}
	}
	if b := d.buckets.Load(); b != nil {
		for i := range b {
			t[i] += b[i].Load()
		}
	}
	return t
}

// Times are durations counted by bucket at one moment.
type Times [8 * 25]uint32

// Since gives those that came after an earlier moment.
func (t Times) Since(before Times) Times {
	for i := range t {
		t[i] -= min(before[i], t[i])
	}
	return t
}

// Percentile gives the duration that the share p, from 0 to 1, of them did not exceed; 0 if there are none.
func (t Times) Percentile(p float64) time.Duration { return percentile(t.buckets(), p) }

func (t Times) buckets() (out []Bucket) {
	for i, n := range t {
		if n > 0 {
			out = append(out, Bucket{micro(lowest(i)), micro(lowest(i + 1)), n})
		}
	}
	return out
}

func percentile(buckets []Bucket, p float64) time.Duration {
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
