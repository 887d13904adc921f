package mysql

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A server is the same as long as it has not been started anew, however slow the machine is and however its clock goes.
func TestWhenAServerBegan(t *testing.T) {
	var s starting
	start := time.Date(2026, 11, 5, 8, 0, 0, 0, time.UTC)
	at := func(after, slow time.Duration, goes float64) string { // how its clock goes, compared with the larder's
		uptime := time.Duration(float64(after) * goes).Truncate(time.Second)
		s.reads(start.Add(after), start.Add(after+slow), uptime)
		return s.of("uid")
	}
	assert.Empty(t, s.of("uid"), "nothing is known")
	first := at(10*time.Second, time.Millisecond, 1)
	assert.Equal(t, "uid since 2026-11-05T08:00:00Z", first)
	for i := range 500 {
		assert.Equal(t, first, at(time.Minute+time.Duration(i)*777*time.Millisecond, time.Millisecond, 1))
	}
	assert.Equal(t, first, at(time.Hour, 20*time.Second, 1), "the machine stood still meanwhile")
	assert.Equal(t, first, at(time.Hour+time.Minute, time.Millisecond, 1))
	for hours := range 24 * 60 { // two months
		assert.Equal(t, first, at(time.Duration(2+hours)*time.Hour, time.Millisecond, 1.00005), "a clock that gains four seconds a day")
	}
	s.reads(start.Add(time.Hour*2000), start.Add(time.Hour*2000+time.Millisecond), 5*time.Second)
	assert.NotEqual(t, first, s.of("uid"), "it was started anew")
	assert.Equal(t, s.of("uid"), s.last())

	s = starting{}
	s.reads(start.Add(time.Minute), start.Add(90*time.Second), time.Minute)
	slow := s.of("uid")
	assert.Equal(t, slow, at(2*time.Minute, time.Millisecond, 1), "it was met first while the machine stood still")
	s.reads(start.Add(3*time.Minute), start.Add(3*time.Minute), time.Second)
	assert.NotEqual(t, slow, s.of("uid"))
}
