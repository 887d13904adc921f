package postgres

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
)

// frame appends a message of a type.
func frame(to []byte, kind byte, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32(append(to, kind), uint32(len(body)+4)), body...)
}

// row gives a DataRow message of texts.
func row(values ...string) []byte {
	b := binary.BigEndian.AppendUint16(nil, uint16(len(values)))
	for _, v := range values {
		b = append(binary.BigEndian.AppendUint32(b, uint32(len(v))), v...)
	}
	return frame(nil, 'D', b)
}

// Rows are compared in any order, and long numbers but for their last digits.
func TestTheSameRows(t *testing.T) {
	join := func(rows ...[]byte) (out []byte) {
		for _, r := range rows {
			out = append(out, r...)
		}
		return out
	}
	for _, c := range []struct {
		a, b []byte
		same bool
	}{
		{join(row("1"), row("2")), join(row("2"), row("1")), true},
		{join(row("1"), row("1")), join(row("1")), false},
		{row("0.30000000000000004"), row("0.30000000000000001"), true},
		{row("0.30000000000000004"), row("0.30000000001"), false},
		{row("12345678901234567"), row("12345678901234568"), false},
		{row("12.5"), row("12.6"), false},
		{row("1.2345678901234567e+20"), row("1.2345678901234568e+20"), true},
		{row("2026.01.01.000000000000000"), row("2026.01.01.000000000000001"), false},
	} {
		assert.Equal(t, c.same, SameRows(c.a, c.b), "%q and %q", c.a, c.b)
	}
}

// Whatever bytes a reply holds, it is the same as itself, and rounding keeps to its bounds.
func FuzzSameRows(f *testing.F) {
	f.Add(row("1.2345678901234567", "x"), row("2"))
	f.Add([]byte("D\x00\x00\x00\x0a\x00\x01\xff\xff\xff\xff"), []byte("D"))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		assert.True(t, SameRows(a, a))
		assert.Equal(t, SameRows(a, b), SameRows(b, a))
	})
}
