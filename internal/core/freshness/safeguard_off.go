//go:build safeguards

package freshness

import "sync/atomic"

var off atomic.Uint64

// Off says whether a safeguard is switched off.
func Off(s Safeguard) bool { return off.Load()&uint64(s) != 0 }

// SwitchOff switches a safeguard off, until what it gives is called.
func SwitchOff(s Safeguard) (back func()) {
	off.Or(uint64(s))
	return func() { off.And(^uint64(s)) }
}
