package mysql

import (
	"bytes"
	"encoding/binary"
	"testing"

	dialect "jollylarder/internal/core/dialect/mysql"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// seen is a packet as a test remembers it.
type seen struct {
	number byte
	length int
	start  string
}

func framed(f *framer, pieces ...[]byte) (out []seen) {
	for _, b := range pieces {
		for len(b) > 0 {
			n, ended := f.next(b)
			b = b[n:]
			if ended != nil {
				out = append(out, seen{ended.number, ended.length, string(ended.start)})
			}
		}
	}
	return out
}

// However a stream is cut, its packets are found with their beginnings, and those that are wanted whole are whole.
func TestPacketsAreFoundHoweverTheyAreCut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stream []byte
		var want []seen
		for range rapid.IntRange(0, 12).Draw(t, "packets") {
			body := rapid.SliceOfN(rapid.Byte(), 0, 90).Draw(t, "body")
			number := rapid.Byte().Draw(t, "number")
			stream = append(stream, packet(number, body)...)
			start := body
			if len(body) > 0 && body[0] != 7 {
				start = body[:min(len(body), shown)]
			}
			want = append(want, seen{number, len(body), string(start)})
		}
		var pieces [][]byte
		for rest := stream; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
			pieces, rest = append(pieces, rest[:n]), rest[n:]
		}
		f := &framer{keep: func(first byte, length int) int {
			if first == 7 {
				return length
			}
			return 0
		}}
		got := framed(f, pieces...)
		for i, x := range got { // what has come in one piece is there with all of it
			if len(x.start) == x.length && len(want[i].start) == shown {
				got[i].start = x.start[:shown]
			}
		}
		assert.Equal(t, want, got)
		assert.True(t, f.between())
	})
}

// A packet of the longest length goes on in the next, even if that is empty.
func TestPacketsThatGoOn(t *testing.T) {
	long := append([]byte{0xff, 0xff, 0xff, 4}, bytes.Repeat([]byte{'a'}, fullPacket)...)
	f := &framer{}
	assert.Empty(t, framed(f, long))
	assert.False(t, f.between())
	assert.Equal(t, []seen{{4, fullPacket, "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"}}, framed(f, packet(5, nil)))
	assert.True(t, f.between())
	assert.Equal(t, []seen{{4, fullPacket + 3, "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"}, {0, 1, "\x0e"}}, framed(f, long, packet(5, []byte("bcd")), packet(0, []byte{0x0e})))
}

// appendNumber writes one.
func appendNumber(b []byte, n uint64) []byte {
	switch {
	case n < 0xfb:
		return append(b, byte(n))
	case n < 1<<16:
		return binary.LittleEndian.AppendUint16(append(b, 0xfc), uint16(n))
	case n < 1<<24:
		return append(b, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(b, 0xfe), n)
}

func TestNumbers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Uint64().Draw(t, "n") >> rapid.IntRange(0, 63).Draw(t, "shift")
		b := appendNumber(nil, n)
		got, rest, ok := dialect.Number(append(bytes.Clone(b), 'x'))
		require.True(t, ok)
		assert.Equal(t, n, got)
		assert.Equal(t, "x", string(rest))
		for i := range b {
			_, _, ok := dialect.Number(b[:i])
			assert.False(t, ok, "cut off")
		}
	})
	for _, none := range []byte{0xfb, 0xff} {
		_, _, ok := dialect.Number([]byte{none, 1, 2, 3, 4, 5, 6, 7, 8, 9})
		assert.False(t, ok)
	}
}

// Greetings are read as servers write them, and written as they were read, but for what is hidden.
func TestGreetings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := &greeting{
			version: rapid.StringMatching(`[0-9.a-zA-Z-]{1,20}`).Draw(t, "version"), thread: rapid.Uint32().Draw(t, "thread"),
			caps: rapid.Uint32().Draw(t, "caps") | capSecure | capPluginAuth | capProtocol41, charset: rapid.Byte().Draw(t, "charset"),
			status: rapid.Uint16().Draw(t, "status"), plugin: "mysql_native_password",
			nonce: append(rapid.SliceOfN(rapid.ByteRange(1, 255), 20, 20).Draw(t, "nonce"), 0),
		}
		if g.caps&capMySQL == 0 {
			g.ext = rapid.Uint32().Draw(t, "ext")
		}
		got, err := parseGreeting(g.bytes())
		require.NoError(t, err)
		assert.Equal(t, g, got)
		tls := rapid.Bool().Draw(t, "tls")
		offered := got.offered(tls)
		assert.Zero(t, offered.caps&hidden)
		assert.Zero(t, offered.ext&hiddenExt)
		assert.Equal(t, tls, offered.caps&capTLS != 0)
		assert.Equal(t, g.caps&^(hidden|capTLS), offered.caps&^capTLS)
	})
}

func FuzzGreeting(f *testing.F) {
	f.Add((&greeting{version: "10.11.1", caps: capSecure | capPluginAuth, nonce: make([]byte, 21), plugin: "x"}).bytes())
	f.Add([]byte{10, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if g, err := parseGreeting(b); err == nil {
			_, err = parseGreeting(g.offered(true).bytes())
			require.NoError(t, err)
		}
	})
}

func FuzzIntroduction(f *testing.F) {
	head := make([]byte, introFixed)
	head[1] = capProtocol41 >> 8
	f.Add(append(head, "ines\x00\x00"...))
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := parseIntroduction(b)
		if err != nil {
			assert.ErrorIs(t, err, errProtocol)
			return
		}
		sent := i.toOrigin(true)
		assert.Equal(t, b[introFixed:], sent[introFixed:], "all that follows is the client's own")
		again, err := parseIntroduction(sent)
		require.NoError(t, err)
		assert.Zero(t, again.caps&hidden)
		assert.Equal(t, i.user, again.user)
	})
}

// Whatever the two sides send, in whatever order, following it comes to an end and never to rest while it is lost.
func FuzzConversation(f *testing.F) {
	f.Add([]byte{0, comQuery, 1, 1, 0, 0, 0, 2, 0, 0, 0}, uint8(0))
	f.Add(append([]byte{23 | 0x40, 0, comQuery, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 14, 1, 0, 0, 0, 2, 0x40, 0, 0, 0, 5, 1, 3, 2}, "db"...), uint8(2))
	f.Add([]byte{0, comChangeUser, 0, 0, 0, 1, 0xfe, 0, 0, 2, 0}, uint8(1))
	f.Fuzz(func(t *testing.T, b []byte, flags uint8) {
		c := conversation{withoutEOF: flags&1 != 0, tracks: flags&2 != 0}
		for len(b) > 2 {
			n := min(int(b[0])%40, len(b)-2)
			fr := frame{number: b[1], length: n, start: b[2 : 2+min(n, shown)]}
			if b[0]&0x80 != 0 {
				fr.length += fullPacket
			}
			if b[0]&0x40 != 0 {
				c.fromClient(&fr)
			} else {
				c.fromOrigin(&fr)
			}
			b = b[2+n:]
			if c.lost != "" {
				assert.False(t, c.atRest())
			}
		}
	})
}

// What is skipped as rows is whole packets, none of which ends a reply, and the packet behind them is none that could be
// skipped too.
func TestRowsAreSkipped(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stream []byte
		for range rapid.IntRange(0, 10).Draw(t, "packets") {
			body := rapid.SliceOfN(rapid.SampledFrom([]byte{0, 1, 3, 0xfb, 0xfd, 0xfe, 0xff}), 0, 9).Draw(t, "body")
			stream = append(stream, packet(rapid.Byte().Draw(t, "number"), body)...)
		}
		stream = stream[:rapid.IntRange(0, len(stream)).Draw(t, "cut")]
		n, count := rows(stream)
		f := &framer{}
		skipped := framed(f, stream[:n])
		assert.Len(t, skipped, count)
		for _, x := range skipped {
			assert.NotEmpty(t, x.start)
			assert.Less(t, x.start[0], byte(markEOF))
		}
		assert.True(t, f.between(), "whole packets")
		if rest := framed(&framer{}, stream[n:]); len(rest) > 0 {
			assert.True(t, rest[0].start == "" || rest[0].start[0] >= markEOF, "%q", rest[0].start)
		}
	})
}
