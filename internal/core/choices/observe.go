package choices

import (
	"slices"
	"time"

	"jollylarder/internal/core/ledger"
)

// state is a choice with what it is judged by, or a pattern that may become one.
type state struct {
	Choice
	counting bool        // at is known
	at       ledger.Sums // what had been counted at the last change
	atTime   time.Time
	told     bool // what came of the last change was told
	used     time.Time
	marks    []mark // of the last hour, the latest last
	want     time.Duration
	agreed   int
}

// mark is what had been counted at a moment.
type mark struct {
	at    time.Time
	total ledger.Sums
}

// since gives what came since the last change.
func (s *state) since(total ledger.Sums, now time.Time) Rate {
	return rate(total.Minus(s.at), now.Sub(s.atTime))
}

// rate gives what came a minute of the calls that were cached; those of callers for whom the rule does not hold are not
// among them.
func rate(sums ledger.Sums, over time.Duration) Rate {
	m := over.Minutes()
	return Rate{Minutes: m, Calls: float64(sums.After().Calls) / m, Hits: float64(sums.Count[ledger.Hit]) / m, Saved: time.Duration(float64(sums.Saved) / m)}
}

func (s *state) lastUse() time.Time {
	if s.used.After(s.Changed) {
		return s.used
	}
	return s.Changed
}

// observe takes what was counted in the last minute.
func (d *decision) observe(s *state, p *Pattern) {
	if !s.counting || p.Total.Calls() < s.at.Calls() { // the larder has started, or the pattern was forgotten and came again
		s.counting, s.at, s.atTime, s.marks = true, p.Total, d.now, nil
	}
	if n := len(s.marks); n == 0 || p.Total.Calls() > s.marks[n-1].total.Calls() {
		s.used = d.now
	}
	s.marks = append(s.marks, mark{d.now, p.Total})
	s.thin(d.now)
	if !s.told && d.now.Sub(s.Changed) >= worthOver {
		d.tell(s)
	}
}

// thin leaves of the marks those of the last minutes, and fewer of the last hour.
func (s *state) thin(now time.Time) {
	for len(s.marks) > 1 && now.Sub(s.marks[1].at) >= worthOver {
		s.marks = slices.Delete(s.marks, 0, 1)
	}
	for i := len(s.marks) - 2; i > 0; i-- {
		if now.Sub(s.marks[i].at) > smooth && s.marks[i+1].at.Sub(s.marks[i-1].at) <= sparse {
			s.marks = slices.Delete(s.marks, i, i+1)
		}
	}
}

// tell says what came of the last change.
func (d *decision) tell(s *state) {
	if s.told = true; s.counting && len(s.marks) > 0 {
		if last := s.marks[len(s.marks)-1]; last.at.After(s.atTime) {
			d.outcomes = append(d.outcomes, Outcome{d.rule.Name, s.Pattern, s.Changed, s.since(last.total, last.at)})
		}
	}
}

// lately gives what came in the last while, and over how long that was: less if the last change was later, or the larder
// started later.
func (s *state) lately(while time.Duration) (ledger.Sums, time.Duration) {
	n := len(s.marks)
	if n == 0 {
		return ledger.Sums{}, 0
	}
	last, first := s.marks[n-1], mark{s.atTime, s.at}
	for _, m := range s.marks {
		if m.at.After(first.at) && last.at.Sub(m.at) >= while {
			first = m
		}
	}
	return last.total.Minus(first.total), last.at.Sub(first.at)
}
