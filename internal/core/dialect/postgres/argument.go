package postgres

import (
	"encoding/binary"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
)

// argumentTypes are the types of parameters by the server's numbers, as far as values of them are told apart. Source:
// pg_type.dat.
var argumentTypes = map[uint32]dialect.Argument{
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

// Argument reads one bound value, numbered from 1: types are those of a Parse message, from their count on, and bound
// is a Bind message from the count of its formats on. It is false if there is none.
func Argument(types, bound []byte, number int) (p dialect.Argument, ok bool) {
	oid := uint32(0)
	if number < 1 {
		return p, false
	}
	if len(types) >= 2 {
		if n := int(binary.BigEndian.Uint16(types)); number <= n && len(types) >= 2+4*number {
			oid = binary.BigEndian.Uint32(types[2+4*(number-1):])
		}
	}
	p, known := argumentTypes[oid]
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
			p.Bytes = rest[:size]
			return p, true
		}
		rest = rest[size:]
	}
}
