package choices

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// decision is one round of decisions within one rule.
type decision struct {
	now      time.Time
	rule     *rules.Rule
	room     float64
	list     map[statement.ID]*state
	changes  []Change
	outcomes []Outcome
}

// Decide decides about the patterns within an advised rule that is not paused; it is to be called every so often. Room is
// how many bytes the results of all that is chosen may take. It gives what was changed, and what came of earlier
// changes.
func (c *Chooser) Decide(now time.Time, r *rules.Rule, room float64, patterns []Pattern) ([]Change, []Outcome) {
	d := &decision{now: now, rule: r, room: room, list: c.list(r.Name)}
	for i := range patterns {
		id := patterns[i].ID
		if d.list[id] == nil {
			d.list[id] = &state{Choice: Choice{Rule: r.Name, Pattern: id}, told: true}
		}
		d.observe(d.list[id], &patterns[i])
	}
	for _, id := range r.NeverPatterns { // also those that were not asked for long
		if s := d.list[id]; s != nil && s.TTL > 0 {
			d.withdraw(s, "", "The rule refuses it.")
		}
		delete(d.list, id)
	}
	present := map[statement.ID]bool{}
	for i := range patterns {
		p := &patterns[i]
		present[p.ID] = true
		if s := d.list[p.ID]; s != nil && s.TTL > 0 {
			d.judge(s, p)
		}
	}
	for id, s := range d.list {
		switch {
		case s.TTL > 0 && !present[id] && now.Sub(s.lastUse()) >= unused:
			d.withdraw(s, "", "It was not asked for a day.")
			delete(d.list, id) // it is no worse for that
		case s.TTL == 0 && s.Changed.IsZero() && !present[id] && now.Sub(s.used) > 2*smooth,
			s.TTL == 0 && !s.Changed.IsZero() && !now.Before(s.Resting().Add(unused)):
			delete(d.list, id)
		}
	}
	d.choose(patterns, d.fits(patterns))
	slices.SortStableFunc(d.changes, func(a, b Change) int { return cmp.Compare(a.Pattern, b.Pattern) })
	return d.changes, d.outcomes
}

// judge decides about a pattern that is chosen.
func (d *decision) judge(s *state, p *Pattern) {
	r, o := d.rule, &p.Seen.Outlook
	if p.Elsewhere {
		d.withdraw(s, p.Text, "The rule does not decide for it any more.")
		delete(d.list, p.ID) // it is no worse for that
		return
	}
	if !r.MayChoose(p.Seen.Tables) {
		d.withdraw(s, p.Text, "It reads a table that the rule never chooses.")
		return
	}
	if o.Unseen >= 1 {
		d.withdraw(s, p.Text, unseen)
		return
	}
	if before := s.TTL; r.TTL < before { // the rule has become stricter, and is obeyed already
		d.tell(s)
		s.TTL, s.want, s.agreed = r.TTL, 0, 0
		d.changed(s, p, Shortened, before, "The rule allows no more than "+rules.FormatTTL(r.TTL)+".")
	}
	if d.now.Sub(s.Changed) < Pause || d.now.Sub(s.atTime) < Pause || len(p.Seen.Reasons) > 0 {
		return
	}
	if sums, over := s.lately(costly); over >= costly && sums.After().Calls >= costlyCalls && costs(sums) {
		d.withdraw(s, p.Text, fmt.Sprintf("It costs more than it saves: %d of %d calls were hits in the last %d minutes.",
			sums.Count[ledger.Hit], sums.After().Calls, int(over.Minutes())))
		return
	}
	if sums, over := s.lately(worthOver); over >= worthOver && sums.Calls() > 0 {
		least := time.Duration(lowered * float64(r.LeastSaved()))
		if saved := rate(sums, over).Saved; saved < least {
			d.withdraw(s, p.Text, fmt.Sprintf("It saved only %s a minute in the last hour.", advice.Waiting(saved)))
			return
		}
	}
	if s.Withdrawals > 0 && d.now.Sub(s.Since) >= settled {
		s.Withdrawals = 0
	}
	d.pace(s, p)
}

// costs says whether what came of a choice is a loss: by the hits' own fetches, or by what the origin takes now.
func costs(sums ledger.Sums) bool {
	if e := sums.BySample(); e.Known && e.Time+e.Error < 0 {
		return true
	}
	return sums.Saved < 0 || float64(sums.Count[ledger.Hit]) < 0.01*float64(sums.After().Calls)
}

// pace moves the TTL of a choice a step towards the one that is best now.
func (d *decision) pace(s *state, p *Pattern) {
	if !enough(p) {
		return
	}
	want, now := d.best(p), p.Seen.At(s.TTL).Hits
	switch {
	case want == s.TTL, want > s.TTL && p.Seen.At(want).Hits-now < gain, want < s.TTL && p.Seen.At(want).Hits < asMany*now:
		s.agreed = 0
		return
	case want > s.TTL == (s.want > s.TTL) && s.want != 0:
		s.agreed++
	default:
		s.agreed = 1
	}
	if s.want = want; s.agreed < steady {
		return
	}
	next := step(s.TTL, want, d.rule.TTL)
	kind, why := Lengthened, fmt.Sprintf("%.0f%% of the calls would be hits, %.0f%% at %s", 100*p.Seen.At(next).Hits, 100*p.Seen.At(s.TTL).Hits, rules.FormatTTL(s.TTL))
	if next < s.TTL {
		kind, why = Shortened, fmt.Sprintf("as many calls would be hits: %.0f%%", 100*p.Seen.At(next).Hits)
	}
	d.tell(s)
	before := s.TTL
	s.TTL, s.want, s.agreed = next, 0, 0
	d.changed(s, p, kind, before, "With a TTL of "+rules.FormatTTL(next)+" "+why+".")
}

// best gives the TTL that is best for a pattern by what is known of it.
func (d *decision) best(p *Pattern) time.Duration {
	a := p.Seen.Foretell(d.rule.TTL, nearlyAll)
	// The rule's own TTL lies between two of those that are observed: what the next shorter one brings, it brings too.
	if a.TTL > d.rule.TTL || a.TTL == longestUpTo(d.rule.TTL) && p.Seen.Outlook.Followed >= d.rule.TTL && !settledBelow(p, a.TTL) {
		return d.rule.TTL
	}
	return a.TTL
}

// settledBelow says whether a longer TTL than this one is known to bring nothing.
func settledBelow(p *Pattern, ttl time.Duration) bool {
	at := slices.Index(inputs.Ladder[:], ttl)
	return at >= 0 && at+1 < len(inputs.Ladder) && p.Seen.Outlook.Hits[at+1]-p.Seen.Outlook.Hits[at] < gain
}

// longestUpTo gives the longest TTL that is observed of those up to a bound.
func longestUpTo(bound time.Duration) (longest time.Duration) {
	for _, ttl := range inputs.Ladder {
		if ttl != 0 && ttl <= bound {
			longest = ttl
		}
	}
	return longest
}

// step gives the next TTL on the way from one to another: one of those that are observed, or the bound.
func step(from, to, bound time.Duration) time.Duration {
	steps := []time.Duration{bound}
	for _, ttl := range inputs.Ladder {
		if ttl != 0 && ttl < bound {
			steps = append(steps, ttl)
		}
	}
	slices.Sort(steps)
	if to < from {
		for _, ttl := range slices.Backward(steps) {
			if ttl < from {
				return max(ttl, to)
			}
		}
		return to
	}
	for _, ttl := range steps {
		if ttl > from {
			return min(ttl, to)
		}
	}
	return to
}

// enough says whether enough was observed of a pattern to foretell anything.
func enough(p *Pattern) bool {
	o := &p.Seen.Outlook
	return o.Calls >= enoughCalls && o.Followed >= enoughTime
}

// worth is a pattern with what choosing it would bring.
type worth struct {
	p *Pattern
	advice.Advice
}

// perByte orders by what is saved for each byte, the most first.
func perByte(a, b worth) int {
	return cmp.Or(cmp.Compare(float64(b.Saved)/max(b.Memory, 1), float64(a.Saved)/max(a.Memory, 1)), cmp.Compare(a.p.ID, b.p.ID))
}

// fits withdraws what has no room beside what saves more for its memory, and gives how much room is left. More may be
// chosen than there is room for, since the results that are used most stay.
func (d *decision) fits(patterns []Pattern) (left float64) {
	var have []worth
	need := 0.0
	for i := range patterns {
		p := &patterns[i]
		if s := d.list[p.ID]; s != nil && s.TTL > 0 {
			a := p.Seen.At(s.TTL)
			have, need = append(have, worth{p, a}), need+a.Memory
		}
	}
	slices.SortFunc(have, perByte)
	for i := len(have) - 1; i > 0 && need > crowded*crowd*d.room; i-- {
		s := d.list[have[i].p.ID]
		if d.now.Sub(s.Changed) < Pause {
			continue
		}
		need -= have[i].Memory
		d.withdraw(s, have[i].p.Text, "There is no room for it beside what saves more for its memory.")
	}
	return crowd*d.room - need
}

// weigh gives what choosing a pattern would bring, or why it is not chosen.
func (d *decision) weigh(s *state, p *Pattern) (a advice.Advice, against string) {
	switch o := &p.Seen.Outlook; {
	case p.Elsewhere:
		return a, "The rule does not decide for it."
	case slices.Contains(d.rule.NeverPatterns, p.ID):
		return a, "The rule refuses it."
	case !d.rule.MayChoose(p.Seen.Tables):
		return a, "It reads a table that the rule never chooses."
	case len(p.Seen.Reasons) > 0:
		return a, "It cannot be cached: it " + p.Seen.Reasons[0].Clause() + "."
	case o.Unseen >= 1:
		return a, unseen
	case !s.Changed.IsZero() && d.now.Before(s.Resting()):
		return a, "It was withdrawn, and is not chosen again in the next " + rules.FormatTTL(s.Resting().Sub(d.now).Truncate(time.Second)+time.Second) + "."
	case !enough(p):
		return a, fmt.Sprintf("It is still observed: %.0f calls were followed so far.", o.Calls)
	}
	least := d.rule.LeastSaved()
	if sums, over := s.lately(smooth); over >= 2*time.Minute { // a busy minute alone says little
		p.Seen.Calls = float64(sums.Calls()) / over.Minutes()
	} else {
		least *= atOnce
	}
	if s.Withdrawals > 0 && d.now.Sub(s.Changed) < longestRest {
		least *= again
	}
	a = p.Seen.At(d.best(p))
	if a.Saved = time.Duration(float64(a.Saved) * p.Share); a.Hits < leastHits {
		return a, fmt.Sprintf("Only %.0f%% of its calls would be hits.", 100*a.Hits)
	}
	if a.Saved < least {
		return a, fmt.Sprintf("It would save %s a minute; to be chosen it must save %s.", advice.Waiting(a.Saved), advice.Waiting(least))
	}
	return a, ""
}

// unseen is what speaks against a pattern whose results change by writes that are not seen.
const unseen = "Its result changed with no write seen: there are direct writes, and a cached result could be as old as its TTL."

// choose chooses, of what is not chosen, what would pay, as far as there is room.
func (d *decision) choose(patterns []Pattern, left float64) {
	var list []worth
	for i := range patterns {
		p := &patterns[i]
		s := d.list[p.ID]
		if s == nil || s.TTL > 0 { // it is refused, or chosen
			continue
		}
		if a, against := d.weigh(s, p); against == "" {
			list = append(list, worth{p, a})
		}
	}
	slices.SortFunc(list, perByte)
	for _, w := range list {
		if left <= 0 {
			break
		}
		if part := min(left/max(w.Memory, 1), 1); time.Duration(part*float64(w.Saved)) < d.rule.LeastSaved() {
			continue // what fits of it is not worth it
		}
		left -= w.Memory
		s := d.list[w.p.ID]
		s.TTL, s.Since, s.want, s.agreed = w.TTL, d.now, 0, 0
		d.changed(s, w.p, Chosen, 0, fmt.Sprintf("Observed for %s: %.0f%% of %.0f calls a minute would be hits and save %s.",
			rules.FormatTTL(w.p.Seen.Outlook.Followed.Truncate(time.Second)), 100*w.Hits, w.p.Seen.Calls*w.p.Share, advice.Waiting(w.Saved)))
	}
}

// changed notes a change of what is chosen.
func (d *decision) changed(s *state, p *Pattern, kind string, before time.Duration, why string) {
	a := p.Seen.At(s.TTL)
	s.Changed, s.told = d.now, false
	s.at, s.atTime, s.marks = p.Total, d.now, nil
	s.Forecast = Rate{
		Calls: p.Seen.Calls * p.Share, Hits: p.Seen.Calls * p.Share * a.Hits,
		Saved: time.Duration(float64(a.Saved) * p.Share), Memory: a.Memory,
	}
	d.changes = append(d.changes, Change{d.now, s.Rule, s.Pattern, p.Text, kind, before, s.TTL, why, s.Forecast})
}

// withdraw takes a choice back.
func (d *decision) withdraw(s *state, text, why string) {
	d.tell(s)
	before := s.TTL
	s.TTL, s.Changed, s.told, s.Forecast = 0, d.now, true, Rate{}
	s.Withdrawals++
	d.changes = append(d.changes, Change{At: d.now, Rule: s.Rule, Pattern: s.Pattern, Text: text, Kind: Withdrawn, Before: before, Why: why})
}
