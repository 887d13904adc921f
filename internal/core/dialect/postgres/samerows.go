package postgres

import (
	"bytes"
	"encoding/binary"
	"strconv"
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

// Of numbers with as many digits as a float8 has, the last are not compared: a sum of such rests on the order in which
// rows are read.
const (
	allDigits  = 15
	sureDigits = 13
)

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
		if longNumber(value) {
			if f, err := strconv.ParseFloat(string(value), 64); err == nil {
				value = strconv.AppendFloat(nil, f, 'e', sureDigits-1, 64)
			}
		}
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(value))), value...)
	}
	return string(out)
}

// longNumber says whether a value is a number with a point and as many digits as a float8 has.
func longNumber(value []byte) bool {
	digits, point := 0, false
	for i, c := range value {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c == '.':
			point = true
		case c == '-' && i == 0, c == 'e', c == '+', c == '-':
		default:
			return false
		}
	}
	return point && digits >= allDigits
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
