package freshness

import (
	"bytes"
	"encoding/binary"
	"hash/maphash"
	"strconv"
	"time"
	"unicode/utf8"
)

// Type is how values of a pinned column are compared. For each there is one way of writing a value, so that two are
// equal to the server if and only if their bytes are.
type Type uint8

// The types.
const (
	NoType  Type = iota // values are not told apart
	Integer             // of any size
	Text                // compared by its bytes
	UUID
	Date
)

var seed = maphash.MakeSeed()

// Hash gives the hash of a value as it is written in SQL or sent as text, without quotes. It is false for a way of
// writing that is not known to be the only one of its value; such a value may be any.
func (t Type) Hash(value []byte) (hash uint64, ok bool) {
	switch t {
	case Integer:
		n, ok := integer(value)
		return hashInteger(n), ok
	case Text:
		return hashText(value), ascii(value)
	case UUID:
		var u [16]byte
		ok := uuid(value, &u)
		return maphash.Bytes(seed, u[:]), ok
	case Date:
		return maphash.Bytes(seed, value), date(value)
	}
	return 0, false
}

// HashUTF8 is Hash for a value that is known to be encoded in UTF-8.
func (t Type) HashUTF8(value []byte) (hash uint64, ok bool) {
	if t == Text {
		return hashText(value), utf8.Valid(value)
	}
	return t.Hash(value)
}

// HashBinary is Hash for a value in the binary format of PostgreSQL's protocol.
func (t Type) HashBinary(value []byte, utf8 bool) (hash uint64, ok bool) {
	switch t {
	case Integer:
		switch len(value) {
		case 2:
			return hashInteger(int64(int16(binary.BigEndian.Uint16(value)))), true
		case 4:
			return hashInteger(int64(int32(binary.BigEndian.Uint32(value)))), true
		case 8:
			return hashInteger(int64(binary.BigEndian.Uint64(value))), true
		}
	case Text:
		if utf8 {
			return t.HashUTF8(value)
		}
		return t.Hash(value)
	case UUID:
		return maphash.Bytes(seed, value), len(value) == 16
	case Date: // days since the year 2000
		if len(value) != 4 {
			return 0, false
		}
		day := firstDay.AddDate(0, 0, int(int32(binary.BigEndian.Uint32(value))))
		if y := day.Year(); y < 1 || y > 9999 { // or infinity
			return 0, false
		}
		return maphash.String(seed, day.Format(time.DateOnly)), true
	}
	return 0, false
}

// hashText leaves blanks at the end aside: where a column is limited in length, those beyond are cut off what is put
// into it.
func hashText(value []byte) uint64 { return maphash.Bytes(seed, bytes.TrimRight(value, " ")) }

var firstDay = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

func hashInteger(n int64) uint64 {
	return Together(uint64(n), 0x5851f42d4c957f2d)
}

// integer reads a whole number that is written with digits alone, and perhaps a minus sign.
func integer(b []byte) (int64, bool) {
	digits := b
	if len(b) > 0 && b[0] == '-' {
		digits = b[1:]
	}
	if len(digits) == 0 || len(digits) > 19 {
		return 0, false
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, false
		}
	}
	n, err := strconv.ParseInt(string(b), 10, 64)
	return n, err == nil
}

func ascii(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// uuid reads the server's own way of writing, with digits of either case.
func uuid(b []byte, into *[16]byte) bool {
	if len(b) != 36 {
		return false
	}
	n := 0
	for i, c := range b {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return false
			}
			continue
		}
		d := byte(0)
		switch {
		case c >= '0' && c <= '9':
			d = c - '0'
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			d = c | 0x20 - 'a' + 10
		default:
			return false
		}
		into[n/2] |= d << (4 * (1 - n%2))
		n++
	}
	return true
}

// date reads yyyy-mm-dd, which every setting of the server's reads alike.
func date(b []byte) bool {
	if len(b) != 10 || b[4] != '-' || b[7] != '-' {
		return false
	}
	for i, c := range b {
		if i != 4 && i != 7 && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}
