package server

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

// changed is a larder whose rules came into force some time ago.
type changed struct {
	*bare
	book changedBook
}

func (c *changed) Book() Book { return &c.book }

type changedBook struct {
	Book
	sums ledger.Sums
	ago  time.Duration
}

func (b *changedBook) Since() (ledger.Sums, uint64, time.Duration) { return b.sums, 30, b.ago }

// What came true of a change is given for a minute, and not for its first moment: of that, a minute's worth is chance.
func TestWhatCameTrueTakesAWhile(t *testing.T) {
	l := &changed{bare: withPatterns(t, 1)}
	l.book.sums = ledger.Sums{Count: [4]uint64{90, 10, 20, 0}, Saved: 6 * time.Second}
	s := &server{l: l}
	for _, ago := range []time.Duration{0, time.Second, 9 * time.Second} {
		l.book.ago = ago
		assert.Nil(t, s.since(), ago)
	}
	l.book.ago = 30 * time.Second
	m := s.since()
	require.NotNil(t, m)
	assert.Equal(t, 0, m.Minutes)
	assert.InDelta(t, 240, m.Calls, 1e-9)
	assert.InDelta(t, 0.75, m.OfAll, 1e-9)
	assert.InDelta(t, 12_000, m.Saved, 1e-9, "milliseconds in a minute")
	assert.InDelta(t, 1, m.Origin, 1e-9, "in a second")
	assert.InDelta(t, 60, m.Drops, 1e-9)
	l.book.ago = 3 * time.Minute
	assert.Equal(t, 3, s.since().Minutes)
}
