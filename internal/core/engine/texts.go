package engine

import (
	"hash/maphash"
	"sync/atomic"
)

// texts remembers statements by the bytes they came as, so that one that comes again byte for byte is not read again.
// A statement is remembered when it comes for the second time: one that never comes again costs no memory. What shares
// a place with another takes turns with it.
type texts struct {
	room   *Room
	places [1 << 12]struct {
		seen atomic.Uint64 // the hash of what was read last without being remembered
		text atomic.Pointer[text]
	}
}

type text struct {
	sql string
	st  Statement
}

// longestText is the length in bytes of the longest statement that is remembered: texts take at most twice that for
// each of their places.
const longestText = 2 << 10

// get gives the statement that was read from exactly these bytes, if it is remembered, and the place for it.
func (t *texts) get(sql []byte) (st *Statement, hash uint64) {
	hash = maphash.Bytes(seed, sql)
	if x := t.places[hash%uint64(len(t.places))].text.Load(); x != nil && x.sql == string(sql) &&
		!x.st.Pattern.merged.Load() {
		return &x.st, hash
	}
	return nil, hash
}

// put takes a statement that was just read.
func (t *texts) put(sql []byte, hash uint64, st Statement) {
	if len(sql) > longestText || st.Pattern.passing {
		return
	}
	p := &t.places[hash%uint64(len(t.places))]
	if p.seen.Swap(hash) != hash {
		return
	}
	if !t.room.Take(textBytes(len(sql))) {
		return
	}
	st = st.Clone()
	st.shared = true
	if old := p.text.Swap(&text{string(sql), st}); old != nil {
		t.room.Give(textBytes(len(old.sql)))
	}
}

// textBytes is what one of so many bytes takes: its own bytes, those as they are compared and as they were written, and what
// else a statement has.
func textBytes(n int) int64 { return int64(4*n + 300) }
