package mysql

import (
	"encoding/binary"
	"fmt"
	"time"

	"jollylarder/internal/core/engine"
)

// reportOf gives the columns and values of the answer to who asks what became of the last statement.
func reportOf(last engine.Report) (columns, values []string) {
	columns = []string{"outcome", "reason", "pattern", "took_ms", "age_ms", "saved_ms"}
	if last.Pattern == "" {
		return columns, make([]string, len(columns))
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.3f", float64(d)/float64(time.Millisecond)) }
	return columns, []string{last.Outcome.String(), last.Reason.String(), string(last.Pattern), ms(last.Took), ms(last.Age), ms(last.Saved)}
}

// report is the answer to who asks what became of the last statement.
func (s *session) report() []byte {
	columns, values := reportOf(s.eng.Last())
	number := byte(1)
	put := func(out, body []byte) []byte {
		out = append(out, packet(number, body)...)
		number++
		return out
	}
	out := put(nil, []byte{byte(len(columns))})
	for _, c := range columns {
		body := append([]byte("\x03def\x00\x00\x00"), byte(len(c)))
		body = append(append(body, c...), 0)
		if s.login.extensions()&extTypes != 0 {
			body = append(body, 0)
		}
		body = append(body, 0x0c, 45, 0) // utf8mb4
		body = binary.LittleEndian.AppendUint32(body, 1<<10)
		out = put(out, append(body, 0xfd, 0, 0, 0, 0, 0))
	}
	state := binary.LittleEndian.AppendUint16(nil, s.status&^(statusStateChanged|statusMoreResults|statusCursor))
	if !s.withoutEOF {
		out = put(out, append([]byte{markEOF, 0, 0}, state...))
	}
	var row []byte
	for _, v := range values {
		row = append(append(row, lengthOf(len(v))...), v...)
	}
	out = put(out, row)
	if s.withoutEOF {
		return put(out, append(append([]byte{markEOF, 0, 0}, state...), 0, 0))
	}
	return put(out, append([]byte{markEOF, 0, 0}, state...))
}

// lengthOf gives the length of a text of less than 64 KiB, as the protocol writes it.
func lengthOf(n int) []byte {
	if n < 0xfb {
		return []byte{byte(n)}
	}
	return []byte{0xfc, byte(n), byte(n >> 8)}
}
