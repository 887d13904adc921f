package engine

import (
	"math"
	"sync/atomic"

	"jollylarder/internal/core/rules"
)

// sampling counts would-be hits, to tell which of them are control samples: by the session's lane, so that sessions do
// not wait for each other.
type sampling [16]struct {
	atomic.Uint64
	_ [56]byte
}

// samples says whether a would-be hit is one that the origin is asked for all the same.
func (s *Session) samples(rule *rules.Rule) bool {
	share := rule.Sample()
	if share <= 0 || s.Own {
		return false
	}
	n := float64(s.e.sampling[int(s.lane)%len(s.e.sampling)].Add(1))
	return math.Floor(n*share) != math.Floor((n-1)*share)
}
