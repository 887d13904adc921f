package engine

import (
	"encoding/binary"
	"sync"
)

// identities gives each beginning of keys, that of all sessions of a user with the same settings, a number: it is some
// 200 bytes long, and every result's key would hold it. A number is never given twice.
type identities struct {
	mu      sync.RWMutex
	last    uint64
	numbers map[string]uint64
	whole   map[uint64]string
}

// mostIdentities bounds those that are remembered. Beyond it they are numbered anew: results that sessions of before keep
// are theirs alone then.
const mostIdentities = 1 << 14

// number appends the number of a beginning to a key.
func (x *identities) number(key, beginning []byte) []byte {
	x.mu.RLock()
	n := x.numbers[string(beginning)]
	x.mu.RUnlock()
	if n == 0 {
		n = x.add(beginning)
	}
	return binary.AppendUvarint(key, n)
}

func (x *identities) add(beginning []byte) uint64 {
	x.mu.Lock()
	defer x.mu.Unlock()
	if n := x.numbers[string(beginning)]; n != 0 {
		return n
	}
	if x.numbers == nil || len(x.numbers) >= mostIdentities {
		x.numbers, x.whole = map[string]uint64{}, map[uint64]string{}
	}
	x.last++
	x.numbers[string(beginning)], x.whole[x.last] = x.last, string(beginning)
	return x.last
}

// spell gives a key with its beginning spelled out, as it is outside of this process; it is false if that is not
// remembered any more.
func (x *identities) spell(key string) (string, bool) {
	n, used := binary.Uvarint([]byte(key[:min(len(key), binary.MaxVarintLen64)]))
	if used <= 0 {
		return "", false
	}
	x.mu.RLock()
	defer x.mu.RUnlock()
	beginning, ok := x.whole[n]
	return beginning + key[used:], ok
}

// short gives a key that is spelled out, whose beginning takes so many bytes, as results are kept under it; it is false
// if no result can be.
func (x *identities) short(key string, beginning int) ([]byte, bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	n, ok := x.numbers[key[:beginning]]
	return append(binary.AppendUvarint(nil, n), key[beginning:]...), ok
}
