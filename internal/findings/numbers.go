// Package findings says of a larder what people are told: advice on patterns, what was spared and how that is known,
// and what is promised at this moment. It gives it in the types of the API.
package findings

import (
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
)

// Milliseconds gives a length as the API has it.
func Milliseconds(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

// Sums makes the API's view of what was counted.
func Sums(s ledger.Sums) control.Sums {
	return control.Sums{
		Hits: s.Count[ledger.Hit], Misses: s.Count[ledger.Miss], Bypasses: s.Count[ledger.Bypass], Writes: s.Count[ledger.Write],
		Waited: Milliseconds(
			s.AllWaited(),
		), Hit: Milliseconds(s.Waited[ledger.Hit]), Saved: Milliseconds(s.Saved), Cacheable: Milliseconds(s.Cacheable),
		Own: Milliseconds(
			s.Own,
		), Follow: Milliseconds(s.Followed), Samples: s.Samples.Count, SampleTook: s.Samples.Took, SampleSquares: s.Samples.Squares,
	}
}

// AllSums is Sums of a list.
func AllSums(list []ledger.Sums) []control.Sums {
	out := make([]control.Sums, len(list))
	for i, s := range list {
		out[i] = Sums(s)
	}
	return out
}

// Distribution makes the API's view of how long statements took, with its buckets if whole is set; it is nil if there
// were none.
func Distribution(d *ledger.Distribution, whole bool) *control.Distribution {
	b := d.Buckets()
	if len(b) == 0 {
		return nil
	}
	out := &control.Distribution{
		P50: Milliseconds(d.Percentile(0.5)),
		P90: Milliseconds(d.Percentile(0.9)),
		P99: Milliseconds(d.Percentile(0.99)),
	}
	if whole {
		for _, x := range b {
			out.Buckets = append(
				out.Buckets,
				control.Bucket{From: Milliseconds(x.From), To: Milliseconds(x.To), Count: uint64(x.Count)},
			)
		}
	}
	return out
}
