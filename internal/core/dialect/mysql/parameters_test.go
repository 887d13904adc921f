package mysql

import (
	"encoding/binary"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each type of parameter is told as a text, whatever stands before and behind it.
func TestParameters(t *testing.T) {
	var types, values []byte
	add := func(kind byte, unsigned bool, value ...byte) {
		types = append(types, kind, map[bool]byte{true: 0x80}[unsigned])
		values = append(values, value...)
	}
	eight := func(n uint64) []byte { return binary.LittleEndian.AppendUint64(nil, n) }
	add(typeTiny, false, 0xff)
	add(typeTiny, true, 0xff)
	add(typeShort, false, 0xfe, 0xff)
	add(typeLong, true, 0xff, 0xff, 0xff, 0xff)
	add(typeLongLong, false, eight(1<<63)...)
	add(typeLongLong, true, eight(math.MaxUint64)...)
	add(typeFloat, false, binary.LittleEndian.AppendUint32(nil, math.Float32bits(1.5))...)
	add(typeDouble, false, eight(math.Float64bits(-0.1))...)
	add(typeString, false, append([]byte{4}, "quay"...)...)
	add(typeNewDecimal, false, append([]byte{4}, "1.50"...)...)
	add(typeNull, false)
	add(typeLong, false) // its bit is set
	add(typeDate, false, 4, 0xe9, 7, 12, 31)
	add(typeDateTime, false, 0)
	add(typeDateTime, false, 7, 0xe9, 7, 12, 31, 23, 59, 58)
	add(typeTimestamp, false, 11, 0xe9, 7, 12, 31, 23, 59, 58, 1, 0, 0, 0)
	add(typeTime, false, 0)
	add(typeTime, false, 8, 1, 2, 0, 0, 0, 3, 4, 5)
	add(typeTime, false, 12, 0, 0, 0, 0, 0, 3, 4, 5, 6, 0, 0, 0)
	nulls := []byte{0, 1 << 3, 0}
	var got []string
	for _, p := range Parameters(types, append(nulls, values...)) {
		text := "NULL"
		if p.Value != nil {
			text = string(p.Value)
		}
		got = append(got, p.Type+" "+text)
	}
	assert.Equal(t, []string{
		"tinyint -1", "tinyint 255", "smallint -2", "int 4294967295", "bigint -9223372036854775808", "bigint 18446744073709551615", "float 1.5", "double -0.1",
		"char quay", "decimal 1.50", "null NULL", "int NULL", "date 2025-12-31", "datetime 0000-00-00 00:00:00", "datetime 2025-12-31 23:59:58",
		"timestamp 2025-12-31 23:59:58.000001", "time 00:00:00", "time -51:04:05", "time 03:04:05.000006",
	}, got)
	assert.Len(t, Parameters(types, append(nulls, values[:9]...)), 4, "what comes before the end of what is there")
	assert.Empty(t, Parameters(types, nil))
}

func FuzzParameters(f *testing.F) {
	f.Add([]byte{typeLong, 0, typeString, 0, typeTime, 0}, []byte{0, 1, 0, 0, 0, 2, 'a', 'b', 0})
	f.Fuzz(func(t *testing.T, types, bound []byte) {
		assert.LessOrEqual(t, len(Parameters(types, bound)), len(types)/2)
	})
}
