package daemon

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/state"
)

// What is credited to a change is measured over whole minutes in which it alone was in force.
func TestWhatCameTrueOfEachChange(t *testing.T) {
	at := func(clock string) time.Time {
		when, err := time.Parse("2006-01-02 15:04:05", "2027-03-0"+clock)
		if err != nil {
			panic(err)
		}
		return when
	}
	for name, c := range map[string]struct {
		changes []string // the latest first
		now     string
		want    []string
	}{
		"too soon":                   {[]string{"1 10:00:20"}, "1 10:59:59", nil},
		"an hour":                    {[]string{"1 10:00:20"}, "1 11:00:20", []string{"0 hour 10:01 11:00"}},
		"begun on the minute":        {[]string{"1 10:00:00"}, "1 11:00:00", []string{"0 hour 10:00 11:00"}},
		"a day":                      {[]string{"1 10:00:20"}, "2 10:00:20", []string{"0 hour 10:01 11:00", "0 day 10:01 10:00"}},
		"changed within the hour":    {[]string{"1 10:30:50", "1 10:00:20"}, "1 10:31:00", []string{"1 hour 10:01 10:30 the next change"}},
		"changed within the minute":  {[]string{"1 10:00:50", "1 10:00:20"}, "1 10:01:00", []string{"1 hour 10:01 10:00 the next change"}},
		"across the end of a minute": {[]string{"1 10:01:10", "1 10:00:50"}, "1 10:02:00", []string{"1 hour 10:01 10:01 the next change"}},
		"changed within the day":     {[]string{"1 15:30:10", "1 10:00:20"}, "1 15:31:00", []string{"1 hour 10:01 11:00", "1 day 10:01 15:30 the next change"}},
		"at the very hour":           {[]string{"1 11:00:20", "1 10:00:20"}, "1 11:01:00", []string{"1 hour 10:01 11:00"}},
		"three changes": {
			[]string{"1 10:20:00", "1 10:10:00", "1 10:00:00"}, "1 10:21:00",
			[]string{"1 hour 10:10 10:20 the next change", "2 hour 10:00 10:10 the next change"},
		},
		"long ago": {[]string{"5 10:00:00", "1 10:00:00", "1 09:00:00"}, "5 10:00:30", []string{"1 hour 10:00 11:00", "1 day 10:00 10:00"}},
	} {
		t.Run(name, func(t *testing.T) {
			var history []state.Entry
			for i, when := range c.changes {
				history = append(history, state.Entry{ID: int64(i), At: at(when)})
			}
			var got []string
			for _, x := range outcomes(history, at(c.now)) {
				what := map[bool]string{false: "hour", true: "day"}[x.day]
				text := fmt.Sprintf("%d %s %s %s", x.entry.ID, what, x.from.Format("15:04"), x.to.Format("15:04"))
				if x.until != "" {
					text += " " + x.until
				}
				got = append(got, text)
			}
			assert.Equal(t, c.want, got)
			for i := range history {
				history[i].Hour, history[i].Day = "{}", "{}"
			}
			assert.Empty(t, outcomes(history, at(c.now)), "once each")
		})
	}
}
