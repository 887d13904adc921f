package postgres

import (
	"bytes"
	"encoding/binary"

	"jollylarder/internal/core/dialect"
)

// elements splits an array of one dimension as PostgreSQL sends it, binary or as text, into so many elements at most.
// It is false for any other, and for one with elements that are null, quoted, or may mean something else. Source:
// array_recv and array_in in the server's arrayfuncs.c.
func elements(w dialect.Written, most int) (out [][]byte, ok bool) {
	b := w.Bytes
	if !w.Binary {
		return textElements(b, most)
	}
	if len(b) < 12 {
		return nil, false
	}
	dimensions, nulls := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
	if dimensions == 0 {
		return nil, true
	}
	if dimensions != 1 || nulls != 0 || len(b) < 20 {
		return nil, false
	}
	n := binary.BigEndian.Uint32(b[12:])
	if n > uint32(most) {
		return nil, false
	}
	b = b[20:]
	for range n {
		if len(b) < 4 {
			return nil, false
		}
		size := binary.BigEndian.Uint32(b)
		if uint64(size) > uint64(len(b)-4) {
			return nil, false
		}
		out = append(out, b[4:4+size])
		b = b[4+size:]
	}
	return out, len(b) == 0
}

func textElements(b []byte, most int) (out [][]byte, ok bool) {
	if len(b) < 2 || b[0] != '{' || b[len(b)-1] != '}' {
		return nil, false
	}
	b = b[1 : len(b)-1]
	if len(b) == 0 {
		return nil, true
	}
	for _, c := range b {
		plain := c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '-' || c == '_' || c == '.' || c == ','
		if !plain {
			return nil, false
		}
	}
	for e := range bytes.SplitSeq(b, []byte(",")) {
		if len(e) == 0 || bytes.EqualFold(e, []byte("null")) || len(out) == most {
			return nil, false
		}
		out = append(out, e)
	}
	return out, true
}
