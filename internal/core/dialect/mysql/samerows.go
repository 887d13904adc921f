package mysql

import (
	"bytes"

	"jollylarder/internal/core/dialect"
)

// headerSize is how many bytes the header of a packet has: the length of what follows, and its number.
const headerSize = 4

// SameRows says whether two replies that were kept, or could have been, hold the same rows, in whatever order: a query
// that names none may be answered in any. What a server says of its state is not compared.
func SameRows(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	count := map[string]int{}
	eachPacket(a, func(p []byte) { count[rounded(p)]++ })
	eachPacket(b, func(p []byte) { count[rounded(p)]-- })
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}

// rounded gives a packet as it is compared: long numbers are rounded if it is a row of texts.
func rounded(p []byte) string {
	var out []byte
	for rest := p; len(rest) > 0; {
		n, size := 0, 1
		switch c := rest[0]; {
		case c == 0xfb: // NULL
		case c < 0xfb:
			n = int(c)
		case c == 0xfc && len(rest) > 2:
			n, size = int(rest[1])|int(rest[2])<<8, 3
		default:
			return string(p)
		}
		if len(rest) < size+n {
			return string(p)
		}
		value := dialect.Rounded(rest[size : size+n])
		if len(value) == n {
			out = append(out, rest[:size]...)
		} else {
			out = append(out, byte(len(value)))
		}
		out = append(out, value...)
		rest = rest[size+n:]
	}
	return string(out)
}

// eachPacket calls f with what is in every whole packet of a kept reply but the marks; what is left over in the end is
// one, too.
func eachPacket(reply []byte, f func([]byte)) {
	for len(reply) > headerSize {
		n := headerSize + (int(reply[0]) | int(reply[1])<<8 | int(reply[2])<<16)
		if n > len(reply) {
			break
		}
		if p := reply[headerSize:n]; len(p) == 0 || p[0] != 0xfe || len(p) > 8 {
			f(p)
		}
		reply = reply[n:]
	}
	if len(reply) > 0 {
		f(reply)
	}
}
