// Package choices holds what the larder decides of its own within the bounds of advised rules: which patterns are
// cached and for how long, when that is changed, and when it is taken back because it does not pay.
package choices

import (
	"cmp"
	"slices"
	"time"

	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Every is how often decisions are made.
const Every = 30 * time.Second

// Pause is the shortest time between two changes of one pattern within one rule. Only what is not safe is changed
// sooner.
const Pause = 10 * time.Minute

// What decisions go by.
const (
	enoughCalls = 12          // followed calls, to foretell anything
	enoughTime  = time.Minute // of following, to foretell minutes
	leastHits   = 0.10        // of calls, for a pattern to be chosen
	nearlyAll   = 0.99        // of the most hits, that the TTL chosen must bring
	gain        = 0.01        // of calls, by which more must be hits for a longer TTL
	asMany      = 0.997       // of the hits, that a shorter TTL must bring

	costly      = 3 * time.Minute  // in which a choice costs more than it saves, for it to be withdrawn
	costlyCalls = 20               // calls in that time
	worthOver   = time.Hour        // over which a choice must be worth its while
	lowered     = 0.5              // the part of what a rule asks for that suffices to stay chosen
	unused      = 24 * time.Hour   // without a call, after which a choice is withdrawn
	longestRest = 4 * time.Hour    // after a withdrawal, at most
	settled     = 2 * time.Hour    // for which a choice stays, for earlier withdrawals to be forgotten
	smooth      = 5 * time.Minute  // over which calls are counted to foretell savings
	sparse      = 10 * time.Minute // apart are the marks before that
	atOnce      = 2                // times what a rule asks for that a pattern must save that was seen for a minute alone
	again       = 2                // times what a rule asks for that a pattern must save that was withdrawn lately
	steady      = 2                // decisions in a row that must agree on another TTL
	crowd       = 16               // times the room that may be chosen: the results used most stay, whatever else is chosen
	crowded     = 1.5              // times that, from which on choices are withdrawn for lack of room
)

// Pattern is one pattern within an advised rule, as it is observed.
type Pattern struct {
	Seen advice.Seen
	ID   statement.ID
	Text string
	// Share is the part of its calls, from 0 to 1, that are those of callers for whom the rule holds.
	Share float64
	// Total is what was counted of it since the larder started.
	Total ledger.Sums
	// Elsewhere is set when the rule does not decide for it any more: another does, or it does not match.
	Elsewhere bool
}

// Rate is what a choice brings, a minute.
type Rate struct {
	// Minutes is over how many it was measured; 0 for what is foretold.
	Minutes float64
	// Calls and Hits are a minute's, and Saved the waiting avoided in it.
	Calls, Hits float64
	Saved       time.Duration
	// Memory is how many bytes the results take; it is only foretold.
	Memory float64
}

// The kinds of changes.
const (
	Chosen     = "chosen"
	Lengthened = "lengthened"
	Shortened  = "shortened"
	Withdrawn  = "withdrawn"
)

// Change is one decision.
type Change struct {
	At      time.Time
	Rule    string
	Pattern statement.ID
	Text    string
	Kind    string
	// Before and After are the TTLs; 0 where it was not chosen.
	Before, After time.Duration
	// Why is a sentence.
	Why string
	// Forecast is what the choice brings by what is foretold; it is zero for a withdrawal.
	Forecast Rate
}

// Outcome is what came of a decision, until the next one or for an hour.
type Outcome struct {
	Rule    string
	Pattern statement.ID
	// At is when it was made.
	At     time.Time
	Actual Rate
}

// Choice is a pattern that is chosen, or was and rests.
type Choice struct {
	Rule    string
	Pattern statement.ID
	// TTL is the TTL chosen; it is 0 for one that rests.
	TTL time.Duration
	// Since is when it was chosen, and Changed when it was last changed or withdrawn.
	Since, Changed time.Time
	// Withdrawals is how often it was withdrawn before, in a row.
	Withdrawals int
	// Forecast is what was foretold at the last change.
	Forecast Rate
}

// Resting says until when a pattern that was withdrawn is not chosen again.
func (c *Choice) Resting() time.Time {
	rest := Pause
	for i := 1; i < c.Withdrawals && rest < longestRest; i++ {
		rest *= 2
	}
	return c.Changed.Add(min(rest, longestRest))
}

// Chooser makes the decisions. Make it with New. It is not safe for concurrent use.
type Chooser struct {
	of map[string]map[statement.ID]*state
}

// New makes a chooser that has chosen nothing, or goes on with what was chosen before.
func New(before ...Choice) *Chooser {
	c := &Chooser{of: map[string]map[statement.ID]*state{}}
	for _, b := range before {
		c.list(b.Rule)[b.Pattern] = &state{Choice: b, told: true}
	}
	return c
}

func (c *Chooser) list(rule string) map[statement.ID]*state {
	list := c.of[rule]
	if list == nil {
		list = map[statement.ID]*state{}
		c.of[rule] = list
	}
	return list
}

// Clone gives a chooser that decides from here on by itself, with all that was observed.
func (c *Chooser) Clone() *Chooser {
	out := New()
	for rule, list := range c.of {
		for id, s := range list {
			own := *s
			own.marks = slices.Clone(s.marks)
			out.list(rule)[id] = &own
		}
	}
	return out
}

// All gives what is chosen and what rests, in order of rule and pattern.
func (c *Chooser) All() (out []Choice) {
	for _, list := range c.of {
		for _, s := range list {
			if !s.Changed.IsZero() {
				out = append(out, s.Choice)
			}
		}
	}
	slices.SortFunc(out, func(a, b Choice) int {
		return cmp.Or(cmp.Compare(a.Rule, b.Rule), cmp.Compare(a.Pattern, b.Pattern))
	})
	return out
}

// Choices gives what is chosen, as rules take it.
func (c *Chooser) Choices() rules.Choices {
	out := rules.Choices{}
	for rule, list := range c.of {
		for id, s := range list {
			if s.TTL == 0 {
				continue
			}
			if out[rule] == nil {
				out[rule] = map[statement.ID]time.Duration{}
			}
			out[rule][id] = s.TTL
		}
	}
	return out
}

// Actual gives what a choice has brought since its last change; false if it is not chosen, or was not observed yet.
func (c *Chooser) Actual(rule string, id statement.ID, total ledger.Sums, now time.Time) (Rate, bool) {
	s := c.of[rule][id]
	if s == nil || s.TTL == 0 || !s.counting || !now.After(s.atTime) {
		return Rate{}, false
	}
	return s.since(total, now), true
}

// Against says why a pattern is not chosen within an advised rule, in a sentence; it is empty if nothing speaks against
// it but a lack of room, or if it is chosen.
func (c *Chooser) Against(now time.Time, r *rules.Rule, p Pattern) string {
	s := c.of[r.Name][p.ID]
	switch {
	case s == nil:
		s = &state{}
	case s.TTL > 0:
		return ""
	}
	_, against := (&decision{now: now, rule: r}).weigh(s, &p)
	return against
}

// Forget forgets what was chosen within rules that are not advised, or no more, and says whether there was any.
func (c *Chooser) Forget(set *rules.Set) (forgot bool) {
	for name := range c.of {
		if r := set.Named(name); r == nil || r.Action != rules.Advised {
			delete(c.of, name)
			forgot = true
		}
	}
	return forgot
}
