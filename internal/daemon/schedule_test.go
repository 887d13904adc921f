package daemon

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Whatever the moments at which a schedule is run, each job is done when it is due and not before, and it is said when the next will be.
func TestSchedules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now := time.Unix(1_800_000_000, 0)
		var s schedule
		var done [][]time.Time
		for i := range rapid.IntRange(1, 4).Draw(t, "jobs") {
			done = append(done, nil)
			s = append(s, &job{every: time.Duration(rapid.IntRange(1, 50).Draw(t, "every")) * time.Second, do: func(at time.Time) { done[i] = append(done[i], at) }})
		}
		next := s.run(now)
		for range 30 {
			before := make([]int, len(done))
			for i := range done {
				before[i] = len(done[i])
			}
			now = now.Add(time.Duration(rapid.IntRange(0, 60).Draw(t, "later")) * time.Second)
			due := !now.Before(next)
			next = s.run(now)
			any := false
			for i, list := range done {
				any = any || len(list) > before[i]
				if n := len(list); n > 1 {
					assert.GreaterOrEqual(t, list[n-1].Sub(list[n-2]), s[i].every)
				}
				assert.Less(t, now.Sub(list[len(list)-1]), s[i].every, "none is late")
			}
			assert.Equal(t, due, any)
			assert.True(t, next.After(now))
		}
	})
}
