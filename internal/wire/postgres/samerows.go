package postgres

import (
	"bytes"
	"encoding/binary"
)

// SameRows says whether two replies that were kept, or could have been, hold the same rows, in whatever order: a query that names
// none may be answered in any.
func SameRows(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	count := map[string]int{}
	eachMessage(a, func(m []byte) { count[string(m)]++ })
	eachMessage(b, func(m []byte) { count[string(m)]-- })
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}

// eachMessage calls f with every whole message in a kept reply; what is left over in the end is one, too.
func eachMessage(reply []byte, f func([]byte)) {
	for len(reply) >= headerLen {
		n := int(binary.BigEndian.Uint32(reply[1:])) + 1
		if n < headerLen || n > len(reply) {
			break
		}
		f(reply[:n])
		reply = reply[n:]
	}
	f(reply)
}
