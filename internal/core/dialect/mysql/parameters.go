package mysql

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
)

// The types of parameters. Source: enum_field_types.
const (
	typeDecimal    = 0x00
	typeTiny       = 0x01
	typeShort      = 0x02
	typeLong       = 0x03
	typeFloat      = 0x04
	typeDouble     = 0x05
	typeNull       = 0x06
	typeTimestamp  = 0x07
	typeLongLong   = 0x08
	typeInt24      = 0x09
	typeDate       = 0x0a
	typeTime       = 0x0b
	typeDateTime   = 0x0c
	typeYear       = 0x0d
	typeVarchar    = 0x0f
	typeBit        = 0x10
	typeJSON       = 0xf5
	typeNewDecimal = 0xf6
	typeVarString  = 0xfd
	typeString     = 0xfe
)

// Parameter is one that a prepared statement is run with.
type Parameter struct {
	// Value is it as a text; nil for NULL.
	Value []byte
	// Type is its type's name.
	Type string
}

// typeNames are those of parameters' types.
var typeNames = map[byte]string{
	typeDecimal: "decimal", typeTiny: "tinyint", typeShort: "smallint", typeLong: "int", typeFloat: "float", typeDouble: "double",
	typeNull: "null", typeTimestamp: "timestamp", typeLongLong: "bigint", typeInt24: "mediumint", typeDate: "date", typeTime: "time",
	typeDateTime: "datetime", typeYear: "year", typeVarchar: "varchar", typeBit: "bit", typeJSON: "json", typeNewDecimal: "decimal",
	0xf7: "enum", 0xf8: "set", 0xf9: "tinyblob", 0xfa: "mediumblob", 0xfb: "longblob", 0xfc: "blob", typeVarString: "varchar", typeString: "char", 0xff: "geometry",
}

// Parameters reads what a prepared statement is run with: types has two bytes for each, and bound the bits of those that
// are NULL, and the values. It gives what comes before what is not understood.
func Parameters(types, bound []byte) (out []Parameter) {
	n := len(types) / 2
	nulls := (n + 7) / 8
	if len(bound) < nulls {
		return nil
	}
	rest := bound[nulls:]
	for i := range n {
		kind, unsigned := types[2*i], types[2*i+1]&0x80 != 0
		p := Parameter{Type: typeNames[kind]}
		if bound[i/8]>>(i%8)&1 == 0 && kind != typeNull {
			var ok bool
			if p.Value, rest, ok = value(kind, unsigned, rest); !ok {
				return out
			}
		}
		out = append(out, p)
	}
	return out
}

// value reads one value, as a text.
func value(kind byte, unsigned bool, b []byte) (text, rest []byte, ok bool) {
	size := map[byte]int{typeTiny: 1, typeShort: 2, typeYear: 2, typeLong: 4, typeInt24: 4, typeFloat: 4, typeLongLong: 8, typeDouble: 8}[kind]
	switch {
	case len(b) < size:
		return nil, nil, false
	case kind == typeFloat:
		return strconv.AppendFloat(nil, float64(math.Float32frombits(binary.LittleEndian.Uint32(b))), 'g', -1, 32), b[4:], true
	case kind == typeDouble:
		return strconv.AppendFloat(nil, math.Float64frombits(binary.LittleEndian.Uint64(b)), 'g', -1, 64), b[8:], true
	case size > 0:
		var padded [8]byte
		copy(padded[:], b[:size])
		n := binary.LittleEndian.Uint64(padded[:])
		if unsigned {
			return strconv.AppendUint(nil, n, 10), b[size:], true
		}
		shift := 64 - 8*size
		return strconv.AppendInt(nil, int64(n<<shift)>>shift, 10), b[size:], true
	}
	switch kind {
	case typeDate, typeDateTime, typeTimestamp, typeTime:
		if len(b) == 0 || len(b)-1 < int(b[0]) {
			return nil, nil, false
		}
		text, ok = moment(kind, b[1:1+b[0]])
		return text, b[1+b[0]:], ok
	}
	return Counted(b)
}

// moment reads a date or a time, of which what is zero at its end is left out.
func moment(kind byte, b []byte) (text []byte, ok bool) {
	n := len(b)
	var all [12]byte
	copy(all[:], b)
	if kind == typeTime {
		if n != 0 && n != 8 && n != 12 {
			return nil, false
		}
		if all[0] != 0 {
			text = append(text, '-')
		}
		hours := uint64(binary.LittleEndian.Uint32(all[1:]))*24 + uint64(all[5])
		text = fmt.Appendf(text, "%02d:%02d:%02d", hours, all[6], all[7])
		if n == 12 {
			text = fmt.Appendf(text, ".%06d", binary.LittleEndian.Uint32(all[8:]))
		}
		return text, true
	}
	if n != 0 && n != 4 && n != 7 && n != 11 {
		return nil, false
	}
	text = fmt.Appendf(text, "%04d-%02d-%02d", binary.LittleEndian.Uint16(all[:]), all[2], all[3])
	if kind != typeDate || n > 4 {
		text = fmt.Appendf(text, " %02d:%02d:%02d", all[4], all[5], all[6])
	}
	if n == 11 {
		text = fmt.Appendf(text, ".%06d", binary.LittleEndian.Uint32(all[7:]))
	}
	return text, true
}
