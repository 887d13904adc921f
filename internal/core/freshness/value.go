package freshness

import (
	"bytes"
	"hash/maphash"
)

// Type is how values of a pinned column are compared. Values of one type are equal to the server if and only if they
// are the same Value.
type Type uint8

// The types.
const (
	NoType  Type = iota // values are not told apart
	Integer             // of any size
	Text                // compared by its bytes
	UUID
	Date
)

// Value is a value, in the one form that all ways of writing it have in common. Its zero value is none.
type Value struct {
	t      Type
	number int64
	text   []byte // of the caller's memory
}

var seed = maphash.MakeSeed()

// IntegerValue gives that of a whole number.
func IntegerValue(n int64) Value { return Value{t: Integer, number: n} }

// TextValue gives that of a text. Blanks at the end are left aside: where a column is limited in length, those beyond
// are cut off what is put into it. The text is not copied.
func TextValue(text []byte) Value { return Value{t: Text, text: bytes.TrimRight(text, " ")} }

// UUIDValue gives that of the 16 bytes of a UUID, which are not copied.
func UUIDValue(u []byte) Value { return Value{t: UUID, text: u} }

// DateValue gives that of a day, which is written yyyy-mm-dd. The text is not copied.
func DateValue(day []byte) Value { return Value{t: Date, text: day} }

// Integer gives the whole number that it is, if it is one.
func (v Value) Integer() (n int64, is bool) { return v.number, v.t == Integer }

// Long gives the bytes of a text.
func (v Value) Long() int { return len(v.text) }

// Hash gives the hash by which the value's counter is found. It holds within one run of the program.
func (v Value) Hash() uint64 {
	if v.t == Integer {
		return Together(uint64(v.number), 0x5851f42d4c957f2d)
	}
	return maphash.Bytes(seed, v.text)
}
