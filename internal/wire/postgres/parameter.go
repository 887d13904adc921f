package postgres

import (
	"encoding/binary"
	"fmt"
	"unicode/utf8"
)

// Parameters gives all bound values of a Bind message as they were sent, nil for null, whether each is in binary form,
// and the types that a Parse message declared, which may be fewer. Of a message that is cut short it gives what there
// is.
func Parameters(types, bound []byte) (values [][]byte, isBinary []bool, declared []uint32) {
	for n := 0; 2+4*(n+1) <= len(types) && n < int(binary.BigEndian.Uint16(types)); n++ {
		declared = append(declared, binary.BigEndian.Uint32(types[2+4*n:]))
	}
	b := bound
	take := func(n int) []byte {
		if n < 0 || n > len(b) {
			b = nil
			return nil
		}
		part := b[:n]
		b = b[n:]
		return part
	}
	count := func() int {
		if part := take(2); part != nil {
			return int(binary.BigEndian.Uint16(part))
		}
		return 0
	}
	formats := make([]int, min(count(), len(b)/2))
	for i := range formats {
		formats[i] = count()
	}
	for i := range min(count(), len(b)) {
		part := take(4)
		if part == nil {
			break
		}
		inBinary := len(formats) == 1 && formats[0] == 1 || i < len(formats) && formats[i] == 1
		n := int(int32(binary.BigEndian.Uint32(part)))
		var value []byte
		if n >= 0 {
			if value = take(n); value == nil && n > 0 {
				break
			}
			value = append([]byte{}, value...)
		}
		values, isBinary = append(values, value), append(isBinary, inBinary && n >= 0)
	}
	return values, isBinary, declared
}

// Values gives the bound values of a Bind message as texts, for people: what came as text as it is, the rest in
// hexadecimal.
func Values(b []byte) (out []string) {
	values, isBinary, _ := Parameters(nil, b)
	for i, value := range values {
		n := len(value)
		switch {
		case value == nil:
			out = append(out, "null")
		case isBinary[i] && (n == 2 || n == 4 || n == 8):
			var v int64
			for j, c := range value {
				if v = v<<8 | int64(c); j == 0 {
					v = int64(int8(c))
				}
			}
			out = append(out, fmt.Sprintf("%d (binary)", v))
		case isBinary[i] && !utf8.Valid(value):
			out = append(out, fmt.Sprintf("%x (binary)", value))
		default:
			out = append(out, string(value))
		}
	}
	return out
}
