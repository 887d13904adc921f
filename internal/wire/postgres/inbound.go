package postgres

import "sync"

// Buffers begin small, since most connections are idle most of the time. One that was filled by a single read is
// exchanged for a large one until the connection is at rest again.
const (
	smallBuffer = 4 << 10 // of a client: what it asks is mostly short
	smallReply  = 8 << 10 // of the origin
	largeBuffer = 64 << 10
)

var largeBuffers = sync.Pool{New: func() any { b := make([]byte, largeBuffer); return &b }}

// inbound is a client's bytes: those held back, [start, pos), and those not looked at yet, [pos, end).
type inbound struct {
	buf             []byte
	start, pos, end int
	want            int     // how many bytes from pos on are needed before anything can be done
	small           []byte  // the buffer at rest
	large           *[]byte // from the pool, when buf is it
	filled          bool    // the last read took all the room there was
}

// unread gives the bytes that have arrived and were not looked at.
func (in *inbound) unread() []byte { return in.buf[in.pos:in.end] }

// held gives the bytes held back.
func (in *inbound) held() []byte { return in.buf[in.start:in.pos] }

// take gives the bytes held back, for the last time: they are valid until the next read.
func (in *inbound) take() []byte {
	b := in.held()
	in.start = in.pos
	return b
}

// space gives room to read to. What is held may move.
func (in *inbound) space() []byte {
	if in.start == in.end {
		in.start, in.pos, in.end = 0, 0, 0
		if len(in.buf) > smallBuffer && !in.filled {
			in.shrink()
		}
	}
	switch size := in.pos + max(in.want, headerLen) - in.start; {
	case in.start+size > len(in.buf):
		in.grow(max(size, in.end-in.start+1))
	case in.end == len(in.buf):
		in.grow(in.end - in.start + 1)
	case in.filled && len(in.buf) < largeBuffer:
		in.grow(largeBuffer)
	}
	return in.buf[in.end:]
}

// arrived takes note of what was read to space.
func (in *inbound) arrived(n int) {
	in.end += n
	in.filled = in.end == len(in.buf)
}

// shrink lets go of a large buffer, which must be empty.
func (in *inbound) shrink() {
	if in.large != nil {
		largeBuffers.Put(in.large)
		in.large = nil
	}
	in.buf = in.small
}

// grow makes room for size bytes from start on.
func (in *inbound) grow(size int) {
	buf, large := in.buf, (*[]byte)(nil)
	switch {
	case size <= len(buf):
		large = in.large
	case size <= smallBuffer:
		if in.small == nil {
			in.small = make([]byte, smallBuffer)
		}
		buf = in.small
	case size <= largeBuffer:
		large = largeBuffers.Get().(*[]byte)
		buf = *large
	default:
		n := largeBuffer
		for n < size {
			n *= 2
		}
		buf = make([]byte, n)
	}
	copy(buf, in.buf[in.start:in.end])
	if in.large != nil && large != in.large {
		largeBuffers.Put(in.large)
	}
	in.buf, in.large = buf, large
	in.pos, in.end, in.start = in.pos-in.start, in.end-in.start, 0
}
