package engine

import (
	"time"

	"jollylarder/internal/core/store"
)

// AgeBand is how many of the kept results are at most so old, and older than those of the band before. Unused are those
// that have not been used yet. Bytes are what they take.
type AgeBand struct {
	UpTo               time.Duration // 0 for any age
	Results, Unused    float64
	Bytes, UnusedBytes float64
}

// ageBands are the bounds of the bands.
var ageBands = []time.Duration{
	time.Second,
	10 * time.Second,
	time.Minute,
	10 * time.Minute,
	time.Hour,
	24 * time.Hour,
	0,
}

// mostLookedAt bounds how many results are looked at for that: they come in no order, so that some stand for all.
const mostLookedAt = 20_000

// Ages says how old the kept results are.
func (e *Engine) Ages(now time.Time) []AgeBand {
	out := make([]AgeBand, len(ageBands))
	for i, d := range ageBands {
		out[i].UpTo = d
	}
	seen := 0
	e.store.All(func(x *store.Entry) bool {
		age := now.Sub(x.Fetched)
		for i := range out {
			b := &out[i]
			if b.UpTo > 0 && age > b.UpTo {
				continue
			}
			b.Results++
			b.Bytes += float64(x.Size())
			if x.Uses.Load() == 0 {
				b.Unused++
				b.UnusedBytes += float64(x.Size())
			}
			break
		}
		seen++
		return seen < mostLookedAt
	})
	if seen == mostLookedAt {
		scale := float64(e.store.Len()) / mostLookedAt
		for i := range out {
			b := &out[i]
			b.Results, b.Unused, b.Bytes, b.UnusedBytes = b.Results*scale, b.Unused*scale, b.Bytes*scale, b.UnusedBytes*scale
		}
	}
	return out
}
