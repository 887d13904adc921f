package postgres

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
)

func written(text string) dialect.Written { return dialect.Written{Bytes: []byte(text)} }

// hash gives that of a value, or 0 where it may be any.
func hash(w dialect.Written, t freshness.Type) uint64 {
	v, ok := Dialect.Values.Read(w, t)
	if !ok {
		return 0
	}
	return v.Hash()
}

// Whatever way a number is written or sent in, it is one value, and no other is the same.
func TestNumbersAreOneValueInEveryForm(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, other := rapid.Int64().Draw(t, "n"), rapid.Int64().Draw(t, "other")
		text := hash(written(fmt.Sprint(n)), freshness.Integer)
		assert.NotZero(t, text)
		for _, size := range []int{8, 4, 2} {
			if size == 4 && int64(int32(n)) != n || size == 2 && int64(int16(n)) != n {
				continue
			}
			b := binary.BigEndian.AppendUint64(nil, uint64(n))[8-size:]
			assert.Equal(t, text, hash(dialect.Written{Bytes: b, Binary: true}, freshness.Integer))
		}
		if n != other {
			assert.NotEqual(t, text, hash(written(fmt.Sprint(other)), freshness.Integer))
		}
	})
	for _, any := range []string{"", "-", "+1", " 1", "1.0", "1e3", "0x1", "1_000", "9223372036854775808", "99999999999999999999"} {
		assert.Zero(t, hash(written(any), freshness.Integer), "%q may be any number", any)
	}
	assert.Equal(t, hash(written("7"), freshness.Integer), hash(written("007"), freshness.Integer))
	assert.Zero(t, hash(dialect.Written{Bytes: []byte{1, 2, 3}, Binary: true}, freshness.Integer))
}

func TestTextsAndDays(t *testing.T) {
	assert.Equal(t, hash(written("pier"), freshness.Text), hash(written("pier  "), freshness.Text), "a limited length may cut blanks off")
	assert.NotEqual(t, hash(written("pier"), freshness.Text), hash(written("Pier"), freshness.Text))
	assert.Zero(t, hash(written("Hånes"), freshness.Text), "of another encoding it may be anything")
	assert.NotZero(t, hash(dialect.Written{Bytes: []byte("Hånes"), UTF8: true}, freshness.Text))
	assert.Zero(t, hash(dialect.Written{Bytes: []byte{'a', 0xff}, UTF8: true}, freshness.Text))
	assert.Equal(t, hash(written("pier"), freshness.Text), hash(dialect.Written{Bytes: []byte("pier"), Binary: true}, freshness.Text))

	const id = "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"
	raw, err := hex.DecodeString("a0eebc999c0b4ef8bb6d6bb9bd380a11")
	assert.NoError(t, err)
	assert.Equal(t, hash(written(id), freshness.UUID), hash(dialect.Written{Bytes: raw, Binary: true}, freshness.UUID))
	assert.Equal(t, hash(written(id), freshness.UUID), hash(written("A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11"), freshness.UUID))
	for _, any := range []string{"", "{" + id + "}", id[:35] + "g", "a0eebc999c0b4ef8bb6d6bb9bd380a11"} {
		assert.Zero(t, hash(written(any), freshness.UUID), any)
	}

	day := binary.BigEndian.AppendUint32(nil, uint32(time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC).Sub(firstDay).Hours()/24))
	assert.Equal(t, hash(written("2027-03-01"), freshness.Date), hash(dialect.Written{Bytes: day, Binary: true}, freshness.Date))
	for _, any := range []string{"1.3.2027", "2027-3-1", "today", "2027-03-01 00:00", "infinity"} {
		assert.Zero(t, hash(written(any), freshness.Date), any)
	}
	assert.Zero(t, hash(dialect.Written{Bytes: []byte{0x7f, 0xff, 0xff, 0xff}, Binary: true}, freshness.Date), "infinity")
	assert.Zero(t, hash(written("1"), freshness.NoType))
}

func TestUnquoting(t *testing.T) {
	for token, want := range map[string]string{"'a'": "a", "'it''s'": "it's", "''": "", "E'a'": "?", "$$a$$": "?", "'": "?", "1": "?"} {
		got, ok := Dialect.Values.Unquote([]byte(token))
		if !ok {
			got = []byte("?")
		}
		assert.Equal(t, want, string(got), token)
	}
}

// bind gives the parts of a Parse and a Bind message that a Request has.
func bind(types []uint32, binaries []int16, values ...[]byte) (declared, bound []byte) {
	declared = binary.BigEndian.AppendUint16(nil, uint16(len(types)))
	for _, t := range types {
		declared = binary.BigEndian.AppendUint32(declared, t)
	}
	bound = binary.BigEndian.AppendUint16(nil, uint16(len(binaries)))
	for _, f := range binaries {
		bound = binary.BigEndian.AppendUint16(bound, uint16(f))
	}
	bound = binary.BigEndian.AppendUint16(bound, uint16(len(values)))
	for _, v := range values {
		if v == nil {
			bound = append(bound, 0xff, 0xff, 0xff, 0xff)
			continue
		}
		bound = append(binary.BigEndian.AppendUint32(bound, uint32(len(v))), v...)
	}
	return declared, binary.BigEndian.AppendUint16(bound, 0)
}

func TestArguments(t *testing.T) {
	types, bound := bind([]uint32{23, 0, 1007, 1700}, []int16{1, 0, 0, 0}, []byte{0, 0, 0, 7}, []byte("pier"), nil, []byte("1.5"))
	for number, want := range map[int]dialect.Argument{
		1: {Written: dialect.Written{Bytes: []byte{0, 0, 0, 7}, Binary: true}, Type: freshness.Integer},
		2: {Written: written("pier")},
		3: {Null: true, Type: freshness.Integer, Array: true},
		4: {Written: written("1.5"), Other: true},
	} {
		got, ok := Argument(types, bound, number)
		assert.True(t, ok)
		assert.Equal(t, want, got, number)
	}
	for _, none := range []int{-1, 0, 5} {
		_, ok := Argument(types, bound, none)
		assert.False(t, ok, none)
	}
	_, one := bind(nil, []int16{1}, []byte{0, 0, 0, 1}, []byte{0, 0, 0, 2})
	got, ok := Argument(nil, one, 2)
	assert.True(t, ok)
	assert.True(t, got.Binary, "one format is that of all")
}

func TestElements(t *testing.T) {
	split := func(w dialect.Written) string {
		list, ok := Dialect.Values.Elements(w, 3)
		if !ok {
			return "?"
		}
		return fmt.Sprintf("%s", slices.Clone(list))
	}
	for text, want := range map[string]string{
		"{}": "[]", "{1,2}": "[1 2]", "{a-b,c_d.e}": "[a-b c_d.e]", "{1,2,3,4}": "?", `{"a"}`: "?", "{null}": "?", "{{1}}": "?", "{1,}": "?", "1": "?",
	} {
		assert.Equal(t, want, split(written(text)), text)
	}
	binaryArray := func(dimensions, nulls uint32, values ...string) dialect.Written {
		b := binary.BigEndian.AppendUint32(nil, dimensions)
		b = binary.BigEndian.AppendUint32(b, nulls)
		b = binary.BigEndian.AppendUint32(b, 25)
		b = binary.BigEndian.AppendUint32(b, uint32(len(values)))
		b = binary.BigEndian.AppendUint32(b, 1)
		for _, v := range values {
			b = append(binary.BigEndian.AppendUint32(b, uint32(len(v))), v...)
		}
		return dialect.Written{Bytes: b, Binary: true}
	}
	assert.Equal(t, "[a b]", split(binaryArray(1, 0, "a", "b")))
	assert.Equal(t, "?", split(binaryArray(1, 1, "a")))
	assert.Equal(t, "?", split(binaryArray(2, 0, "a")))
	cut := binaryArray(1, 0, "abc")
	cut.Bytes = cut.Bytes[:len(cut.Bytes)-1]
	assert.Equal(t, "?", split(cut))
}

func FuzzArgument(f *testing.F) {
	f.Add([]byte("\x00\x01\x00\x00\x00\x17"), []byte("\x00\x01\x00\x01\x00\x01\x00\x00\x00\x04\x00\x00\x00\x05\x00\x00"), 1)
	f.Add([]byte("\x00\x00"), []byte("\x00\x00\x00\x02\xff\xff\xff\xff\x00\x00\x00\x01x"), 2)
	f.Fuzz(func(t *testing.T, types, bound []byte, n int) {
		p, ok := Argument(types, bound, n)
		if ok && !p.Null && len(p.Bytes) > len(bound) {
			t.Fatal(p)
		}
		for _, as := range []freshness.Type{freshness.Integer, freshness.Text, freshness.UUID, freshness.Date} {
			hash(p.Written, as)
			if list, ok := Dialect.Values.Elements(p.Written, 16); ok {
				assert.LessOrEqual(t, len(list), 16)
			}
		}
	})
}
