package postgres

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/store"
)

// Whatever goes around a kept reply, the answer is those messages in their order, and the kept bytes stay as they are.
func TestAnAnswerInEveryForm(t *testing.T) {
	reply := append(frame(nil, 'T', []byte{0, 0}), frame(nil, 'C', []byte("SELECT 0\x00"))...)
	e := &store.Entry{Reply: append(append(bytes.Clone(lead), reply...), trail...)}
	kept := bytes.Clone(e.Reply)
	for _, state := range []engine.TxState{engine.Idle, engine.InBlock} {
		for i := range 16 {
			f := form{bind: i&1 > 0, parse: i&2 > 0, close: i&4 > 0, ready: i&8 > 0}
			if f.parse && !f.bind {
				continue // no client is answered so
			}
			var want []byte
			for _, x := range []struct {
				is bool
				b  []byte
			}{{f.parse, parseComplete}, {f.bind, bindComplete}, {true, reply}, {f.close, closeComplete}, {f.ready, readyFor[state]}} {
				if x.is {
					want = append(want, x.b...)
				}
			}
			got, _ := serve(nil, e, f, state)
			assert.Equal(t, want, got, "%+v", f)
			assert.Equal(t, kept, e.Reply)
		}
	}
}

// In whatever pieces bytes arrive, and whatever is held back of them, they are given in their order, and a buffer is no
// larger than what was held and wanted called for.
func TestBytesArriveInAnyPieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sent := make([]byte, rapid.IntRange(1, 300_000).Draw(t, "bytes"))
		for i := range sent {
			sent[i] = byte(i * 7 / 5)
		}
		var in inbound
		var taken []byte
		most := largeBuffer
		for at := 0; len(taken) < len(sent); {
			in.want = min(rapid.IntRange(0, 100_000).Draw(t, "want"), len(sent)-len(taken)-len(in.held()))
			most = max(most, len(in.held())+len(in.unread())+in.want+headerLen)
			space := in.space()
			require.NotEmpty(t, space)
			n := copy(space, sent[at:])
			n = min(n, rapid.IntRange(1, 70_000).Draw(t, "piece"))
			at += n
			in.arrived(n)
			in.pos += min(rapid.IntRange(0, 70_000).Draw(t, "looked at"), len(in.unread()))
			require.LessOrEqual(t, len(in.buf), 2*most)
			if rapid.Bool().Draw(t, "taken") || at == len(sent) {
				if at == len(sent) {
					in.pos = in.end
				}
				taken = append(taken, in.take()...)
			}
		}
		require.True(t, bytes.Equal(sent, taken))
	})
}
