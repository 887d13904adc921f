package postgres

import (
	"io"
	"net"
)

// inbound is a client's bytes: those held back, [start, pos), and those not looked at yet, [pos, end).
type inbound struct {
	conn            net.Conn
	buf             []byte
	start, pos, end int
}

// unread gives the bytes that have arrived and were not looked at.
func (in *inbound) unread() []byte { return in.buf[in.pos:in.end] }

// held gives the bytes held back.
func (in *inbound) held() []byte { return in.buf[in.start:in.pos] }

// take gives the bytes held back, for the last time: they are valid until the next need.
func (in *inbound) take() []byte {
	b := in.held()
	in.start = in.pos
	return b
}

// need reads until at least n unread bytes are there. What was held back may move.
func (in *inbound) need(n int) error {
	for in.end-in.pos < n {
		if in.start == in.end {
			in.start, in.pos, in.end = 0, 0, 0
			if len(in.buf) > 4*mostHeld {
				in.buf = nil // a rare long message must not be paid for ever after
			}
		}
		if want := in.pos + n; want > len(in.buf) {
			in.grow(want - in.start)
		}
		m, err := in.conn.Read(in.buf[in.end:])
		in.end += m
		if in.end-in.pos >= n {
			return nil
		}
		if err == io.EOF && in.end > in.pos {
			return io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// grow makes room for size bytes from start on.
func (in *inbound) grow(size int) {
	buf := in.buf
	if size > len(buf) {
		n := max(len(buf), 8<<10)
		for n < size {
			n *= 2
		}
		buf = make([]byte, n)
	}
	copy(buf, in.buf[in.start:in.end])
	in.buf, in.pos, in.end, in.start = buf, in.pos-in.start, in.end-in.start, 0
}
