package mysql

// shown is how many bytes of a packet's beginning are looked at: enough for the state that a reply ends with.
const shown = 32

// frame is one packet, joined with those that go on with it.
type frame struct {
	number byte   // of its first packet
	length int    // of what follows the header, in bytes
	start  []byte // what it begins with: at least shown bytes, or all of it if it has fewer or is kept whole
}

// whole says whether all of it is there.
func (f *frame) whole() bool { return len(f.start) == f.length }

// first gives its first byte, or 0 for an empty one; ok is false for that.
func (f *frame) first() (b byte, ok bool) {
	if len(f.start) == 0 {
		return 0, false
	}
	return f.start[0], true
}

// framer finds the packets in a stream of bytes that comes in pieces.
type framer struct {
	frame
	head [headerSize]byte
	have int  // bytes of the header that have come
	left int  // bytes of the packet still to come
	goes bool // the last one was full, so that the next belongs to it
	// keep gives how many bytes are kept of a packet that comes in pieces, by its first byte and the length in its header,
	// if that is more than is shown; nil means no more.
	keep  func(first byte, length int) int
	most  int
	space [shown]byte
}

// between says whether the next byte begins a packet that does not belong to the one before.
func (f *framer) between() bool { return f.have == 0 && !f.goes }

// next takes bytes up to the end of a packet, or of b. It gives how many those are, and the packet if it has ended; that
// holds until the next call.
func (f *framer) next(b []byte) (n int, ended *frame) {
	for {
		if f.have < headerSize {
			if n == len(b) {
				return n, nil
			}
			if f.between() {
				f.frame, f.most = frame{start: f.space[:0]}, shown
			}
			took := copy(f.head[f.have:], b[n:])
			f.have += took
			if n += took; f.have < headerSize {
				return n, nil
			}
			size := int(f.head[0]) | int(f.head[1])<<8 | int(f.head[2])<<16
			if !f.goes {
				f.number = f.head[3]
			}
			f.left, f.goes = size, size == fullPacket
			f.length += size
			if f.length == size && !f.goes && size <= len(b)-n { // it has come in one piece
				f.start, f.left, f.have = b[n:n+size:n+size], 0, 0
				return n + size, &f.frame
			}
		}
		took := min(f.left, len(b)-n)
		f.see(b[n : n+took])
		f.left -= took
		if n += took; f.left > 0 {
			return n, nil
		}
		f.have = 0
		if !f.goes {
			return n, &f.frame
		}
	}
}

// rows gives how many bytes of b are whole packets that can be nothing but rows: neither a mark nor an error, nor so long
// that they go on; and how many these are. It is called between two packets.
func rows(b []byte) (n, count int) {
	for len(b)-n > headerSize {
		size := int(b[n]) | int(b[n+1])<<8 | int(b[n+2])<<16
		end := n + headerSize + size
		if first := b[n+headerSize]; first >= markEOF || size == 0 || size == fullPacket || end > len(b) {
			return n, count
		}
		n, count = end, count+1
	}
	return n, count
}

// see keeps what a packet begins with.
func (f *framer) see(b []byte) {
	if len(f.start) == 0 && len(b) > 0 && f.keep != nil {
		f.most = max(f.most, f.keep(b[0], f.length))
	}
	if room := f.most - len(f.start); room > 0 {
		f.start = append(f.start, b[:min(room, len(b))]...)
	}
}
