package mysql

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// result gives the packets of a result with some columns and rows.
func result(columns, rows int, withoutEOF bool, state byte) (out []byte) {
	number := byte(0)
	put := func(body string) {
		number++
		out = append(out, packet(number, []byte(body))...)
	}
	put(string(rune(columns)))
	for range columns {
		put("\x03def\x00\x01t")
	}
	if !withoutEOF {
		put("\xfe\x00\x00" + string(rune(state)) + "\x00")
	}
	for range rows {
		put("\x01a")
	}
	if withoutEOF {
		put("\xfe\x00\x00" + string(rune(state)) + "\x00\x00\x00")
	} else {
		put("\xfe\x00\x00" + string(rune(state)) + "\x00")
	}
	return out
}

// A reply that was fetched in a transaction is given to a session outside of one as that would have got it, and the other
// way round.
func TestRepliesInTheStateOfTheirSession(t *testing.T) {
	const inside, outside = statusAutocommit | statusInTransaction, statusAutocommit
	for _, withoutEOF := range []bool{false, true} {
		for _, size := range [][2]int{{1, 0}, {1, 1}, {3, 2}, {100, 3}} {
			s := &session{conversation: conversation{withoutEOF: withoutEOF}}
			fetched := result(size[0], size[1], withoutEOF, inside)
			x := &command{results: 1}
			x.gathering = gathering{gathers: true, withRows: true, reply: fetched}
			kept := s.storable(x)
			assert.Equal(t, result(size[0], size[1], withoutEOF, outside), kept)
			assert.Equal(t, result(size[0], size[1], withoutEOF, inside), fetched, "what was gathered is left as it is")
			assert.Equal(t, kept, s.inState(kept))
			s.status = inside
			assert.Equal(t, fetched, s.inState(kept))
			assert.Equal(t, result(size[0], size[1], withoutEOF, outside), kept, "what is kept is left as it is")
		}
	}
}

// What is no plain result is not kept.
func TestWhatIsNotKept(t *testing.T) {
	s := &session{}
	for name, change := range map[string]func(*command){
		"a failure": func(x *command) { x.failed = true }, "warnings": func(x *command) { x.warned = true }, "several results": func(x *command) { x.results = 2 },
		"an OK": func(x *command) { x.withRows = false }, "a cursor": func(x *command) { x.status = statusCursor }, "more results": func(x *command) { x.status = statusMoreResults },
		"a change of state": func(x *command) { x.status = statusStateChanged }, "other columns": func(x *command) { x.status = statusMetadata },
		"output parameters": func(x *command) { x.status = statusOutParameters }, "what is cut off": func(x *command) { x.reply = x.reply[:len(x.reply)-2] },
		"what was not gathered": func(x *command) { x.gathers = false },
	} {
		x := &command{results: 1, status: statusAutocommit}
		x.gathering = gathering{gathers: true, withRows: true, reply: result(2, 2, false, statusAutocommit)}
		assert.NotNil(t, s.storable(x))
		change(x)
		assert.Nil(t, s.storable(x), name)
	}
}

// Where a change of the session's state is none, the reply is kept without it, and without what it says of it.
func TestRepliesWithAChangeThatIsNone(t *testing.T) {
	for _, more := range []string{"", "\x00", "\x00\x0a\x01\x08\x07harbour", strings.Repeat("\x00", 300)} {
		s := &session{conversation: conversation{withoutEOF: true}}
		fetched := result(2, 3, true, statusAutocommit)
		end := fetched[len(fetched)-newMark:]
		changed := append([]byte{markEOF, 0, 0, statusAutocommit, statusStateChanged >> 8, 0, 0}, more...)
		x := &command{results: 1, status: statusAutocommit | statusStateChanged}
		x.gathering = gathering{gathers: true, withRows: true, last: len(changed), reply: append(bytes.Clone(fetched[:len(fetched)-newMark]), packet(end[3], changed)...)}
		assert.Nil(t, s.storable(x), "it may be one")
		x.enters = true
		assert.Equal(t, fetched, s.storable(x), "%q", more)
		x.last = len(x.reply)
		assert.Nil(t, s.storable(x), "more than there is")
		x.last = 6
		assert.Nil(t, s.storable(x), "less than an OK has")
	}
	s := &session{}
	x := &command{results: 1, status: statusAutocommit | statusStateChanged}
	x.gathering = gathering{gathers: true, withRows: true, enters: true, reply: result(2, 3, false, statusAutocommit)}
	x.reply[len(x.reply)-1] = statusStateChanged >> 8
	assert.Equal(t, result(2, 3, false, statusAutocommit), s.storable(x))
}

// Whatever a server sends, finding its marks reads nothing that is not there.
func FuzzMarks(f *testing.F) {
	f.Add(result(2, 1, false, 2), false)
	f.Add(result(2, 1, true, 2), true)
	f.Add([]byte{1, 0, 0, 1, 0xfb, 5, 0, 0, 2, 0xfe, 0, 0, 2, 0}, false)
	f.Fuzz(func(t *testing.T, reply []byte, withoutEOF bool) {
		at, ok := marks(reply, withoutEOF)
		for _, i := range at {
			if ok && i > 0 && i+2 > len(reply) {
				t.Fatalf("%d of %d", i, len(reply))
			}
		}
	})
}
