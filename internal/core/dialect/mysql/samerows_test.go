package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// reply gives the packets of a result.
func reply(bodies ...string) (out []byte) {
	for i, b := range bodies {
		out = append(append(out, byte(len(b)), 0, 0, byte(i+1)), b...)
	}
	return out
}

func TestSameRows(t *testing.T) {
	const column, mark, inTransaction = "\x03def", "\xfe\x00\x00\x02\x00", "\xfe\x00\x00\x03\x00"
	rows := func(list ...string) []byte {
		return reply(append(append([]string{"\x01", column, mark}, list...), mark)...)
	}
	a := rows("\x01a", "\x01b", "\x01b")
	assert.True(t, SameRows(a, rows("\x01b", "\x01a", "\x01b")), "in whatever order")
	assert.True(t, SameRows(a, reply("\x01", column, mark, "\x01a", "\x01b", "\x01b", inTransaction)), "whatever the state is")
	assert.False(t, SameRows(a, rows("\x01a", "\x01b")))
	assert.False(t, SameRows(a, rows("\x01a", "\x01a", "\x01b")))
	assert.False(t, SameRows(a, reply("\x01", "\x03dex", mark, "\x01a", "\x01b", "\x01b", mark)), "columns count")
	assert.True(t, SameRows(rows("\x130.30000000000000004"), rows("\x140.300000000000000041")), "a sum rests on the order of what is added")
	assert.False(t, SameRows(rows("\x030.3"), rows("\x030.4")))
	assert.True(t, SameRows(rows("\xfb\x01x"), rows("\xfb\x01x")))
	assert.False(t, SameRows(rows("\xfb"), rows("\x00")), "NULL is not the empty text")
	assert.False(t, SameRows(a, a[:len(a)-3]), "what is cut off is not the same")
}
