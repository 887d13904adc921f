package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/control"
)

func of(length time.Duration, saved, waited float64, hits uint64, sample *control.Way) *Report {
	r := &Report{To: time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)}
	r.From = r.To.Add(-length)
	r.Proof.Sums = control.Sums{Hits: hits, Bypasses: 1, Saved: saved, Waited: waited}
	r.Proof.Saved = control.ThreeWays{Fetches: saved, Sample: sample}
	return r
}

// The first line can be repeated by people who were not there, and says how sure it is.
func TestHeadline(t *testing.T) {
	for want, r := range map[string]*Report{
		"In the last 24 h clients waited 32.2% less: 91.0 s saved of 4.7 min; 23,694 statements never reached the database. Control samples agree: 90.0 s ± 4.00 s.":                                of(24*time.Hour, 91_000, 192_000, 23_694, &control.Way{Saved: 90_000, Error: 4_000, Covers: 1, Like: 91_000}),
		"In the last 30 days clients waited 50.0% less: 1.00 s saved of 2.00 s; 7 statements never reached the database. There are too few control samples to check this.":                          of(30*24*time.Hour, 1_000, 1_000, 7, nil),
		"In the last 5 min caching cost clients 1.00 s: 50.0% more than the 2.00 s that they would have waited. Control samples differ: 3.00 s ± 0.50 s, where this says -1.00 s of the same hits.": of(5*time.Minute, -1_000, 3_000, 7, &control.Way{Saved: 3_000, Error: 500, Covers: 1, Like: -1_000}),
		"No statements ran in this period.": {},
	} {
		assert.Equal(t, want, r.Headline())
	}
}

// What the table of changes has room for are those of which a forecast and the actual figures can be compared.
func TestChangesThatCanBeComparedComeFirst(t *testing.T) {
	r := &Report{}
	for i := range 6 {
		e := control.Entry{Why: string(rune('a' + i)), Forecast: &control.Forecast{}}
		if i >= 4 {
			e.Hour = &control.Measured{OfAll: 0.5, Minutes: 60}
		}
		r.Changes = append(r.Changes, e)
	}
	var shown []string
	for _, row := range r.predicted(3)[1:] {
		shown = append(shown, row[1])
	}
	assert.Equal(t, []string{"e", "f", "a"}, shown)
}
