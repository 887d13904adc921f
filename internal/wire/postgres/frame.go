package postgres

import (
	"encoding/binary"

	"github.com/jackc/pgx/v5/pgproto3"
)

// A message of protocol 3 is a type byte, a length of four bytes that counts itself and the body, and the body. Only
// the few messages that matter here are read; everything else is relayed as it came.

const headerLen = 5

// frame appends a message of parts that are bytes already: what goes on the way of a statement, and what a client sent
// and is sent again.
func frame(dst []byte, kind byte, body ...[]byte) []byte {
	n := 4
	for _, b := range body {
		n += len(b)
	}
	dst = append(dst, kind)
	dst = binary.BigEndian.AppendUint32(dst, uint32(n))
	for _, b := range body {
		dst = append(dst, b...)
	}
	return dst
}

// encoded appends messages of the larder's own. None is longer than the protocol allows.
func encoded(dst []byte, list ...pgproto3.Message) []byte {
	for _, m := range list {
		var err error
		if dst, err = m.Encode(dst); err != nil {
			panic(err)
		}
	}
	return dst
}

// cstring cuts a string that ends in a zero byte off the front; ok is false if there is none.
func cstring(b []byte) (s, rest []byte, ok bool) {
	for i, c := range b {
		if c == 0 {
			return b[:i], b[i+1:], true
		}
	}
	return nil, nil, false
}

// fatal makes an error message of this program's own for the client. Where says what should be changed, if anything.
func fatal(code, message, hint string) []byte {
	return encoded(
		nil,
		&pgproto3.ErrorResponse{
			Severity:            "FATAL",
			SeverityUnlocalized: "FATAL",
			Code:                code,
			Message:             message,
			Hint:                hint,
		},
	)
}

// textRow reads a DataRow's body as texts; a null is an empty text.
func textRow(body []byte) ([]string, bool) {
	if len(body) < 2 {
		return nil, false
	}
	n := int(binary.BigEndian.Uint16(body))
	body = body[2:]
	row := make([]string, n)
	for i := range row {
		if len(body) < 4 {
			return nil, false
		}
		l := int(int32(binary.BigEndian.Uint32(body)))
		body = body[4:]
		if l < 0 {
			continue
		}
		if len(body) < l {
			return nil, false
		}
		row[i], body = string(body[:l]), body[l:]
	}
	return row, true
}
