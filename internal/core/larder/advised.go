package larder

import (
	"maps"
	"reflect"
	"slices"
	"time"

	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
)

// Choose makes one round of decisions within the advised rules in force, as the chooser does; it is to be called every
// choices.Every. Nothing of it is in force before rules with the chooser's choices are set.
func (l *Larder) Choose(c *choices.Chooser, now time.Time) (changes []choices.Change, outcomes []choices.Outcome) {
	set := l.Rules()
	c.Forget(set)
	return l.chooseWithin(c, set, now)
}

// Advised gives a set of rules with what the larder would choose within its advised rules: what is chosen by now, and
// what one round of decisions would change of that.
func (l *Larder) Advised(c *choices.Chooser, set *rules.Set, now time.Time) *rules.Set {
	c = c.Clone()
	c.Forget(set)
	l.chooseWithin(c, set, now)
	return set.With(c.Choices())
}

func (l *Larder) chooseWithin(c *choices.Chooser, set *rules.Set, now time.Time) (changes []choices.Change, outcomes []choices.Outcome) {
	list := set.List()
	within := map[*rules.Rule][]choices.Pattern{}
	some := false
	for i := range list {
		some = some || list[i].Action == rules.Advised && !l.stopped(&list[i])
	}
	if !some {
		return nil, nil
	}
	chosen := c.Choices()
	l.Patterns(func(p *engine.Pattern) {
		l.gather(within, set, chosen, p, now, false)
	})
	for i := range list {
		r := &list[i]
		if r.Action != rules.Advised || l.stopped(r) {
			continue // what is chosen stays so, for when it is resumed
		}
		room := float64(l.RoomFor(l.Limit()))
		if r.MemoryShare > 0 {
			room *= r.MemoryShare
		}
		more, came := c.Decide(now, r, room, within[r])
		changes, outcomes = append(changes, more...), append(outcomes, came...)
	}
	return changes, outcomes
}

// Against says why the larder does not choose a pattern within the advised rule that decides for it, in a sentence; it is
// empty where nothing speaks against that, and where no rule leaves the pattern to the larder.
func (l *Larder) Against(c *choices.Chooser, p *engine.Pattern, now time.Time) string {
	within := map[*rules.Rule][]choices.Pattern{}
	l.gather(within, l.Rules(), rules.Choices{}, p, now, true)
	for r, list := range within {
		for _, x := range list {
			if why := c.Against(now, r, x); why != "" {
				return why
			}
		}
	}
	return ""
}

// stopped says whether nothing is answered by a rule at present.
func (l *Larder) stopped(r *rules.Rule) bool { return r.Paused || l.Suspended(r) || l.CachingOff() }

// gather puts a pattern to the advised rules that may decide for its statements: if not all, only where it may be worth it.
func (l *Larder) gather(within map[*rules.Rule][]choices.Pattern, set *rules.Set, chosen rules.Choices, p *engine.Pattern, now time.Time, all bool) {
	candidates := set.Candidates(p.ID, p.Text)
	is := func(r *rules.Rule) bool { return r.Whole().Action == rules.Advised }
	chosenIn := slices.DeleteFunc(slices.Collect(maps.Keys(chosen)), func(name string) bool { _, is := chosen[name][p.ID]; return !is })
	if len(chosenIn) == 0 && !slices.ContainsFunc(candidates, is) {
		return
	}
	does, minute := l.DoesUnder(set, p), p.Numbers.Minute()
	var x choices.Pattern
	var above []*rules.Rule
	for _, r := range rules.ThatRead(candidates, does.Reads) {
		r = r.Whole()
		decided := slices.ContainsFunc(above, func(o *rules.Rule) bool { return reflect.DeepEqual(o.When, r.When) })
		above = append(above, r)
		if r.Action != rules.Advised || decided {
			continue
		}
		chosenIn = slices.DeleteFunc(chosenIn, func(name string) bool { return name == r.Name })
		if _, is := chosen[r.Name][p.ID]; !is && !all && minute.Cacheable < r.LeastSaved() {
			continue // all that is waited for it is less than what it must save
		}
		if x.ID == "" {
			x = choices.Pattern{ID: p.ID, Text: p.Text, Total: p.Numbers.Total(), Seen: advice.Seen{
				Reasons: does.Reasons, Tables: does.Reads, Calls: float64(minute.Calls()), Origin: fetchTime(p),
				Bytes:  float64(p.Numbers.Bytes()) / float64(max(p.Numbers.Calls(), 1)),
				Writes: float64(l.WritesAMinute(does.Reads)), Outlook: p.Inputs.Outlook(now),
			}}
		}
		x.Share = share(p, &r.When)
		within[r] = append(within[r], x)
	}
	if len(does.Reasons) > 0 {
		return // what it reads may not be known at this moment
	}
	for _, name := range chosenIn {
		if r := set.Named(name); r != nil {
			within[r] = append(within[r], choices.Pattern{ID: p.ID, Text: p.Text, Total: p.Numbers.Total(), Elsewhere: true})
		}
	}
}

// share is the part of a pattern's calls that come from callers for whom conditions may hold.
func share(p *engine.Pattern, when *rules.Conditions) float64 {
	if when.None() {
		return 1
	}
	hold, all := uint64(0), uint64(0)
	for _, c := range p.Numbers.Callers() {
		if all += c.Calls; when.MayHold(c.Application, c.User, c.Database) {
			hold += c.Calls
		}
	}
	return float64(hold) / float64(max(all, 1))
}
