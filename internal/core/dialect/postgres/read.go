package postgres

import (
	"bytes"
	"encoding/binary"
	"time"
	"unicode/utf8"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
)

// read reads a value that is compared as t, as it is written in SQL without quotes, or sent as text or in binary form.
func read(w dialect.Written, t freshness.Type) (v freshness.Value, ok bool) {
	if w.Binary {
		return readBinary(w, t)
	}
	switch t {
	case freshness.Integer:
		n, ok := dialect.Whole(w.Bytes, 19)
		return freshness.IntegerValue(n), ok
	case freshness.Text:
		return freshness.TextValue(w.Bytes), ascii(w.Bytes) || w.UTF8 && utf8.Valid(w.Bytes)
	case freshness.UUID:
		u, ok := uuid(w.Bytes)
		return freshness.UUIDValue(u), ok
	case freshness.Date:
		return freshness.DateValue(w.Bytes), date(w.Bytes)
	}
	return v, false
}

// readBinary reads the binary format of the protocol. Source: int2recv, int4recv, int8recv, textrecv, uuid_recv and
// date_recv in the server.
func readBinary(w dialect.Written, t freshness.Type) (v freshness.Value, ok bool) {
	b := w.Bytes
	switch t {
	case freshness.Integer:
		switch len(b) {
		case 2:
			return freshness.IntegerValue(int64(int16(binary.BigEndian.Uint16(b)))), true
		case 4:
			return freshness.IntegerValue(int64(int32(binary.BigEndian.Uint32(b)))), true
		case 8:
			return freshness.IntegerValue(int64(binary.BigEndian.Uint64(b))), true
		}
	case freshness.Text:
		return read(dialect.Written{Bytes: b, UTF8: w.UTF8}, t)
	case freshness.UUID:
		return freshness.UUIDValue(b), len(b) == 16
	case freshness.Date: // days since the year 2000
		if len(b) != 4 {
			return v, false
		}
		day := firstDay.AddDate(0, 0, int(int32(binary.BigEndian.Uint32(b))))
		if y := day.Year(); y < 1 || y > 9999 { // or infinity
			return v, false
		}
		return freshness.DateValue(day.AppendFormat(nil, time.DateOnly)), true
	}
	return v, false
}

var firstDay = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// unquote gives a text between plain quotes.
func unquote(token []byte) ([]byte, bool) {
	n := len(token)
	if n < 2 || token[0] != '\'' || token[n-1] != '\'' {
		return nil, false
	}
	return bytes.ReplaceAll(token[1:n-1], []byte("''"), []byte("'")), true
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
func uuid(b []byte) (into []byte, ok bool) {
	if len(b) != 36 {
		return nil, false
	}
	into = make([]byte, 16)
	n := 0
	for i, c := range b {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return nil, false
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
			return nil, false
		}
		into[n/2] |= d << (4 * (1 - n%2))
		n++
	}
	return into, true
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
