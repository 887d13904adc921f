package mysql

import (
	"encoding/binary"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
)

// Which ways of writing a value are known, and which of them are the same one.
func TestValues(t *testing.T) {
	hash := func(kind freshness.Type, written string) (uint64, bool) {
		v, ok := values.Read(dialect.Written{Bytes: []byte(written)}, kind)
		return v.Hash(), ok
	}
	for _, same := range []struct {
		kind freshness.Type
		all  []string
	}{
		{freshness.Integer, []string{"5", "05", "0005"}}, {freshness.Integer, []string{"0", "-0", "00"}}, {freshness.Integer, []string{"-7", "-07"}},
		{freshness.Text, []string{"quay", "QUAY", "Quay  "}}, {freshness.Text, []string{"", " ", "   "}},
	} {
		first, _ := hash(same.kind, same.all[0])
		for _, w := range same.all {
			h, ok := hash(same.kind, w)
			assert.True(t, ok && h == first, "%q", w)
		}
	}
	for kind, list := range map[freshness.Type][]string{
		freshness.Integer: {"", "-", "+5", " 5", "5 ", "5.0", "5e0", "0x5", "5abc", "1234567890123456", "--5", "٣"},
		freshness.Text:    {"é", "a\tb", "a\nb", "a\x00", "\x7f", strings.Repeat("x", longestText+1)},
		freshness.Date:    {"2026-12-01"},
	} {
		for _, w := range list {
			_, ok := hash(kind, w)
			assert.False(t, ok, "%q", w)
		}
	}
	a, _ := hash(freshness.Text, "quay")
	b, _ := hash(freshness.Text, " quay")
	assert.NotEqual(t, a, b, "blanks before count")
}

func TestUnquote(t *testing.T) {
	for token, want := range map[string]string{`'quay'`: "quay", `"quay"`: "quay", `'it''s'`: "it's", `"a""b"`: `a"b`, `'a"b'`: `a"b`, `''`: ""} {
		got, ok := values.Unquote([]byte(token))
		assert.True(t, ok && string(got) == want, token)
	}
	for _, token := range []string{`n'x'`, `'a\'b'`, `'a\n'`, `x'45'`, `'`, `"x'`, ``, `5`} {
		_, ok := values.Unquote([]byte(token))
		assert.False(t, ok, token)
	}
}

// A parameter is told by its type: whole numbers, texts that may be of anything, and what is neither. NULL is any value.
func TestArguments(t *testing.T) {
	types := []byte{typeLong, 0, typeVarString, 0, typeDouble, 0, typeString, 0, typeLongLong, 0x80}
	bound := []byte{1 << 3}
	bound = binary.LittleEndian.AppendUint32(bound, 7)
	bound = append(append(bound, 2), "ab"...)
	bound = append(bound, make([]byte, 8)...)
	bound = binary.LittleEndian.AppendUint64(bound, 9)
	a, ok := values.Argument(types, bound, 1)
	assert.True(t, ok && a.Type == freshness.Integer && string(a.Bytes) == "7")
	a, ok = values.Argument(types, bound, 2)
	assert.True(t, ok && a.Type == freshness.NoType && !a.Other && string(a.Bytes) == "ab")
	a, ok = values.Argument(types, bound, 3)
	assert.True(t, ok && a.Other)
	_, ok = values.Argument(types, bound, 4)
	assert.False(t, ok, "NULL")
	a, ok = values.Argument(types, bound, 5)
	assert.True(t, ok && string(a.Bytes) == "9")
	for _, n := range []int{-1, 0, 6} {
		_, ok = values.Argument(types, bound, n)
		assert.False(t, ok, n)
	}
	_, ok = values.Argument(nil, bound, 1)
	assert.False(t, ok, "whose types are not known")
	_, ok = values.Argument(types, bound[:3], 1)
	assert.False(t, ok)
}
