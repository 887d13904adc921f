package postgres

import (
	"encoding/binary"
	"fmt"
	"unicode/utf8"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
)

// parameterTypes are the types of parameters by the server's numbers, as far as values of them are told apart. Source:
// pg_type.dat.
var parameterTypes = map[uint32]engine.Parameter{
	0: {}, 705: {}, // not declared
	20: {Type: freshness.Integer}, 21: {Type: freshness.Integer}, 23: {Type: freshness.Integer},
	25: {
		Type: freshness.Text,
	}, 1043: {Type: freshness.Text}, 2950: {Type: freshness.UUID}, 1082: {Type: freshness.Date},
	1005: {
		Type:  freshness.Integer,
		Array: true,
	}, 1007: {Type: freshness.Integer, Array: true}, 1016: {Type: freshness.Integer, Array: true},
	1009: {
		Type:  freshness.Text,
		Array: true,
	}, 1015: {Type: freshness.Text, Array: true}, 2951: {Type: freshness.UUID, Array: true},
}

// Parameter reads one bound value, numbered from 1: types are those of a Parse message, from their count on, and bound
// is a Bind message from the count of its formats on. It is false if there is none.
func Parameter(types, bound []byte, number int) (p engine.Parameter, ok bool) {
	oid := uint32(0)
	if number < 1 {
		return p, false
	}
	if len(types) >= 2 {
		if n := int(binary.BigEndian.Uint16(types)); number <= n && len(types) >= 2+4*number {
			oid = binary.BigEndian.Uint32(types[2+4*(number-1):])
		}
	}
	p, known := parameterTypes[oid]
	p.Other = !known
	if len(bound) < 2 {
		return p, false
	}
	n := int(binary.BigEndian.Uint16(bound))
	if len(bound) < 2+2*n+2 {
		return p, false
	}
	formats := bound[2 : 2+2*n]
	rest := bound[2+2*n:]
	count := int(binary.BigEndian.Uint16(rest))
	rest = rest[2:]
	if number > count {
		return p, false
	}
	switch {
	case n == 1:
		p.Binary = binary.BigEndian.Uint16(formats) == 1
	case n >= number:
		p.Binary = binary.BigEndian.Uint16(formats[2*(number-1):]) == 1
	}
	for i := 1; ; i++ {
		if len(rest) < 4 {
			return p, false
		}
		size := int32(binary.BigEndian.Uint32(rest))
		rest = rest[4:]
		if size < 0 {
			if i == number {
				p.Null = true
				return p, true
			}
			continue
		}
		if int(size) > len(rest) {
			return p, false
		}
		if i == number {
			p.Value = rest[:size]
			return p, true
		}
		rest = rest[size:]
	}
}

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
