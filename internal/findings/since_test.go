package findings

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/state"
)

// What counts since the last change of the rules are the whole minutes after it: not those in which others were in force.
func TestSinceTheLastChange(t *testing.T) {
	began := time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		entries []state.Entry
		from    time.Time
		known   bool
	}{
		"no history":                 {nil, began, false},
		"as found at the start":      {[]state.Entry{{Kind: "start", At: began}}, began, false},
		"of a larder before":         {[]state.Entry{{Kind: "apply", At: began.Add(-time.Hour)}}, began, false},
		"within a minute":            {[]state.Entry{{Kind: "apply", At: began.Add(90 * time.Second)}}, began.Add(2 * time.Minute), true},
		"at the beginning of one":    {[]state.Entry{{Kind: "apply", At: began.Add(3 * time.Minute)}}, began.Add(3 * time.Minute), true},
		"the last of several counts": {[]state.Entry{{Kind: "apply", At: began.Add(90 * time.Second)}, {Kind: "undo", At: began.Add(10*time.Minute + time.Second)}}, began.Add(11 * time.Minute), true},
	} {
		st := state.Open("", began)
		for _, e := range c.entries {
			st.Add(e)
		}
		from, known := sinceChange(st, began)
		assert.Equal(t, c.known, known, name)
		assert.Equal(t, c.from, from, name)
		st.Close()
	}
}
