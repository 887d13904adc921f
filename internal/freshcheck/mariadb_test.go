package freshcheck

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// packets gives bodies as packets, of which the first has the number 1.
func packets(bodies ...string) (out []byte) {
	for i, b := range bodies {
		out = append(append(out, byte(len(b)), byte(len(b)>>8), 0, byte(i+1)), b...)
	}
	return out
}

// A reply has come when its last packet has, whatever pieces it comes in.
func TestRepliesAreCountedAtTheirEnds(t *testing.T) {
	const (
		ok, more       = "\x00\x01\x00\x02\x00\x00\x00", "\x00\x00\x00\x0a\x00\x00\x00"
		failed         = "\xff\x48\x04#HY000no"
		columns, row   = "\x02", "\x011\x012"
		end, endOfMore = "\xfe\x00\x00\x02\x00", "\xfe\x00\x00\x0a\x00"
		challenge      = "\xfemysql_native_password\x0012345678901234567890\x00"
		prepared       = "\x00\x01\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00"
	)
	for _, c := range []struct {
		reply []byte
		ends  int
	}{
		{packets(ok), 1}, {packets(failed), 1}, {packets(more, ok), 1}, {packets(more), 0}, {packets(columns, "a", "b", end, row, row, end), 1}, {packets(columns, "a", "b", end, row, failed), 1},
		{packets(columns, "a", "b", end, row), 0}, {packets(columns, "a", "b", end, row, endOfMore, ok), 1}, {packets(challenge), 0}, {packets(challenge, ok), 1}, {packets(prepared, "column", end), 1},
		{append(packets(ok), packets(failed)...), 2}, {packets(columns, "\xff", "\x00", end, end), 1},
	} {
		rapid.Check(t, func(t *rapid.T) {
			counts, ends := MariaDB.replies(), 0
			for rest := c.reply; len(rest) > 0; {
				n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
				ends += counts(rest[:n])
				rest = rest[n:]
			}
			assert.Equal(t, c.ends, ends, "%q", c.reply)
		})
	}
}

// The values of a statement are bound where it has some, and stand where they stood.
func TestValuesAreBound(t *testing.T) {
	assert.Equal(t, []byte{1, 0, 0, 0, 0, 1, 0, 0, 0}, execution(1, nil, true, true))
	assert.Equal(t, []byte("\x01\x00\x00\x00\x00\x01\x00\x00\x00\x00\x01\x08\x00\xfd\x00\x07\x00\x00\x00\x00\x00\x00\x00\x02ab"), execution(1, []string{"7", "'ab'"}, true, true))
	assert.Equal(t, []byte("\x01\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x017\x02ab"), execution(1, []string{"7", "'ab'"}, false, false))
}
