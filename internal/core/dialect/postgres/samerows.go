package postgres

import (
	"bytes"
	"encoding/binary"

	"jollylarder/internal/core/dialect"
)

// headerLen is how many bytes the type and length of a message take.
const headerLen = 5

// SameRows says whether two replies that were kept, or could have been, hold the same rows, in whatever order: a query
// that names none may be answered in any.
func SameRows(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	count := map[string]int{}
	eachMessage(a, func(m []byte) { count[rounded(m)]++ })
	eachMessage(b, func(m []byte) { count[rounded(m)]-- })
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}

// rounded gives a message as text, with long numbers in it rounded if it is a row of texts.
func rounded(m []byte) string {
	if len(m) < headerLen+2 || m[0] != 'D' {
		return string(m)
	}
	out := append([]byte(nil), m[:headerLen+2]...)
	for rest := m[headerLen+2:]; len(rest) > 0; {
		if len(rest) < 4 {
			return string(m)
		}
		n := int(int32(binary.BigEndian.Uint32(rest)))
		if n < 0 {
			out, rest = append(out, rest[:4]...), rest[4:]
			continue
		}
		if len(rest) < 4+n {
			return string(m)
		}
		value := rest[4 : 4+n]
		rest = rest[4+n:]
		value = dialect.Rounded(value)
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(value))), value...)
	}
	return string(out)
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
