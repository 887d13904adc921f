package mysql

// The protocol writes numbers and the lengths of texts in as many bytes as they need. Source: "Data Types" of the protocol.

// Number reads a number of one to nine bytes. It is false for what is none, or does not end within b.
func Number(b []byte) (n uint64, rest []byte, ok bool) {
	if len(b) == 0 {
		return 0, nil, false
	}
	size := map[byte]int{0xfc: 2, 0xfd: 3, 0xfe: 8}[b[0]]
	switch {
	case b[0] < 0xfb:
		return uint64(b[0]), b[1:], true
	case size == 0 || len(b) <= size:
		return 0, nil, false
	}
	for i := size; i > 0; i-- {
		n = n<<8 | uint64(b[i])
	}
	return n, b[1+size:], true
}

// Counted reads a text with its length before it.
func Counted(b []byte) (text, rest []byte, ok bool) {
	n, rest, ok := Number(b)
	if !ok || n > uint64(len(rest)) {
		return nil, nil, false
	}
	return rest[:n], rest[n:], true
}
