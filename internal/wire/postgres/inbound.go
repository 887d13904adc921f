package postgres

import (
	"io"
	"net"
	"sync"
)

// Buffers begin small, since most connections are idle most of the time. One that was filled by a single read is
// exchanged for a large one until the connection is at rest again.
const (
	smallBuffer = 8 << 10
	largeBuffer = 64 << 10
)

var largeBuffers = sync.Pool{New: func() any { b := make([]byte, largeBuffer); return &b }}

// inbound is a client's bytes: those held back, [start, pos), and those not looked at yet, [pos, end).
type inbound struct {
	conn            net.Conn
	buf             []byte
	start, pos, end int
	small           []byte  // the buffer at rest
	large           *[]byte // from the pool, when buf is it
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
			if len(in.buf) > smallBuffer && n <= headerLen {
				in.shrink() // a rare long message must not be paid for ever after
			}
		}
		if want := in.pos + n; want > len(in.buf) {
			in.grow(want - in.start)
		}
		m, err := in.conn.Read(in.buf[in.end:])
		in.end += m
		if in.end == len(in.buf) && len(in.buf) < largeBuffer {
			in.grow(largeBuffer)
		}
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

// shrink lets go of a large buffer, which must be empty, unless it was filled by the last read and so may be again.
func (in *inbound) shrink() {
	if in.large != nil {
		largeBuffers.Put(in.large)
		in.large = nil
	}
	in.buf = in.small
}

// grow makes room for size bytes from start on.
func (in *inbound) grow(size int) {
	buf := in.buf
	switch {
	case size <= len(buf):
	case in.small == nil && size <= smallBuffer:
		in.small = make([]byte, smallBuffer)
		buf = in.small
	case size <= largeBuffer && in.large == nil:
		in.large = largeBuffers.Get().(*[]byte)
		buf = *in.large
	default:
		n := largeBuffer
		for n < size {
			n *= 2
		}
		buf = make([]byte, n)
	}
	copy(buf, in.buf[in.start:in.end])
	if in.large != nil && len(buf) > largeBuffer {
		largeBuffers.Put(in.large)
		in.large = nil
	}
	in.buf, in.pos, in.end, in.start = buf, in.pos-in.start, in.end-in.start, 0
}
