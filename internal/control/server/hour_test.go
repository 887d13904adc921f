package server

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

// The last hour has sixty minutes whatever is remembered of them, each where it belongs.
func TestTheLastHour(t *testing.T) {
	now := time.Date(2027, 3, 1, 8, 30, 40, 0, time.UTC)
	st := state.Open("", now)
	defer st.Close()
	sums := func(calls uint64) ledger.Sums { return ledger.Sums{Count: [4]uint64{calls - 1, 1}, Saved: time.Second} }
	for ago, calls := range map[int]uint64{1: 7, 3: 9, 60: 11, 61: 13} {
		at := now.Truncate(time.Minute).Add(-time.Duration(ago) * time.Minute)
		st.AddRollups([]state.Rollup{{At: at, Minutes: 1}, {At: at, Kind: state.Pattern, Name: "bado-kife-ruma", Text: "select $", Minutes: 1, Sums: sums(calls)}, {At: at, Kind: state.Rule, Name: "bado-kife-ruma", Minutes: 1, Sums: sums(99)}}, at)
	}
	hour := lastHour(st, state.Pattern, "bado-kife-ruma", now, findings.Step)
	assert.Len(t, hour, 60)
	for i, s := range hour {
		assert.Equal(t, now.Truncate(time.Minute).Add(time.Duration(i-60)*time.Minute).Unix(), s.At.Unix())
		assert.Equal(t, map[int]uint64{59: 7, 57: 9, 0: 11}[i], s.Calls, "minute %d", i)
	}
	assert.Equal(t, 1000.0, hour[59].Saved)
	assert.Equal(t, uint64(6), hour[59].Hits)
}
