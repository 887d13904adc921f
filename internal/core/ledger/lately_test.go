package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/reason"
)

// What passed long ago is not told of the last hour, and what passed since is, whatever was before.
func TestWhyCallsPassedLately(t *testing.T) {
	now := time.Unix(1_000_000, 0)
	l := New(now)
	p := l.NewPattern()
	record := func(n int, outcome Outcome, why reason.Code) {
		for range n {
			p.Record(&Record{Outcome: outcome, Reason: reason.Of(why)})
		}
	}
	record(7, Bypass, reason.NoRule)
	assert.Equal(t, []ReasonCount{{reason.Of(reason.NoRule), 7}}, p.Lately(now).Bypassed, "since it was first asked")
	p.tick(now)
	for range 30 {
		now = now.Add(LatelyStep)
		record(2, Hit, reason.None)
		record(1, Bypass, reason.OwnWrite)
		p.tick(now)
	}
	lately := p.Lately(now)
	assert.Equal(t, now.Add(-LatelySpan), lately.Since)
	assert.Equal(t, []ReasonCount{{reason.Of(reason.OwnWrite), 4}}, lately.Bypassed)
	assert.Equal(t, uint64(8), lately.Hits)
	assert.Equal(t, []ReasonCount{{reason.Of(reason.OwnWrite), 30}, {reason.Of(reason.NoRule), 7}}, p.Reasons())
	for range 30 { // nobody asks any more
		now = now.Add(LatelyStep)
		p.tick(now)
	}
	assert.Empty(t, p.Lately(now).Bypassed)
	assert.Zero(t, p.Lately(now).Calls)
	assert.LessOrEqual(t, len(p.lately.marks), int(LatelySpan/LatelyStep)+2)
}
