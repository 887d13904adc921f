package server

import (
	"cmp"
	"fmt"
	"math"
	"net/http"
	"slices"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

// theLarder is by whom its own decisions are made.
const theLarder = "the larder"

// mostLately is how many of the last decisions are told.
const mostLately = 200

// choiceEntry makes an entry of the history of what the larder decided.
func choiceEntry(e *state.ChoiceEntry) control.Entry {
	c := &control.ChoiceChange{Rule: e.Rule, Pattern: string(e.Pattern), Text: e.Text, Kind: e.Kind, Before: shownTTL(e.Before), After: shownTTL(e.After)}
	if e.Kind != choices.Withdrawn {
		c.Forecast = rateOf(e.Forecast)
	}
	if e.Actual != nil {
		c.Actual = rateOf(*e.Actual)
	}
	line := fmt.Sprintf("%s %s within %s", e.Kind, e.Pattern, e.Rule)
	switch {
	case c.Before != "" && c.After != "":
		line += ": ttl " + c.Before + " → " + c.After
	case c.After != "":
		line += ": ttl " + c.After
	}
	return control.Entry{ID: -e.ID, At: e.At, Kind: "choice", Who: theLarder, Why: e.Why, Changes: []string{line}, Choice: c}
}

// shownTTL writes a TTL, and nothing for none.
func shownTTL(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return rules.FormatTTL(d)
}

func rateOf(r choices.Rate) *control.Rate {
	return &control.Rate{Minutes: r.Minutes, Calls: r.Calls, Hits: r.Hits, Saved: findings.Milliseconds(r.Saved), Memory: r.Memory}
}

// choices answers what the larder has chosen, within one rule or all of them.
func (s *server) choices(w http.ResponseWriter, r *http.Request) {
	of := r.URL.Query().Get("rule")
	if have := s.l.Engine().Rules().Named(of); of != "" && (have == nil || have.Action != rules.Advised) {
		problem(w, http.StatusNotFound, "there is no rule %s with action \"advised\": jollylarder rules list lists the rules", of)
		return
	}
	out := control.Choices{Chosen: []control.Choice{}, Lately: []control.Entry{}}
	for _, c := range s.l.Book().Chosen() {
		if of == "" || c.Rule == of {
			out.Chosen = append(out.Chosen, s.choice(c))
		}
	}
	saved := func(c *control.Choice) float64 {
		switch {
		case c.TTL == "":
			return -1
		case c.Actual != nil:
			return c.Actual.Saved
		case c.Forecast != nil:
			return c.Forecast.Saved
		}
		return 0
	}
	slices.SortStableFunc(out.Chosen, func(a, b control.Choice) int { return cmp.Compare(saved(&b), saved(&a)) })
	for _, e := range s.l.Book().State().Choices(math.MaxInt) {
		if (of == "" || e.Rule == of) && len(out.Lately) < mostLately {
			out.Lately = append(out.Lately, choiceEntry(&e))
		}
	}
	reply(w, out)
}

// choice makes the API's view of a choice.
func (s *server) choice(c choices.Choice) control.Choice {
	out := control.Choice{Rule: c.Rule, Pattern: string(c.Pattern), TTL: shownTTL(c.TTL), Since: c.Since, Changed: c.Changed}
	var total ledger.Sums
	if p := s.l.Engine().Pattern(c.Pattern); p != nil {
		out.Text, total = shownOf(p.Text), p.Numbers.Total()
		out.Cached, out.Bytes = int(p.Numbers.Cached.Held.Load()), p.Numbers.Cached.HeldBytes.Load()
	}
	if c.TTL == 0 {
		until := c.Resting()
		out.Until = &until
		return out
	}
	out.Forecast = rateOf(c.Forecast)
	if came, known := s.l.Book().Brought(c.Rule, c.Pattern, total); known {
		out.Actual = rateOf(came)
	}
	return out
}

// advised gives the advised rule that a request names, or nil after it has said that there is none.
func (s *server) advised(w http.ResponseWriter, r *http.Request, pattern string) *rules.Rule {
	have := s.l.Engine().Rules().Named(r.PathValue("name"))
	switch {
	case have == nil:
		problem(w, http.StatusNotFound, "there is no rule %s: jollylarder rules list lists all", r.PathValue("name"))
	case have.Action != rules.Advised:
		problem(w, http.StatusConflict, "the rule %s leaves nothing to the larder: expected a rule with action \"advised\"", have.Name)
	case !statement.ValidID(pattern):
		problem(w, http.StatusBadRequest, "%q is not a pattern's id: expected three words such as bado-kife-ruma", pattern)
	default:
		return have
	}
	return nil
}

// refuse has the larder never choose a pattern within a rule, or lets it choose it again.
func (s *server) refuse(w http.ResponseWriter, r *http.Request) {
	var in control.Refusal
	if !read(w, r, &in) {
		return
	}
	have := s.advised(w, r, in.Pattern)
	if have == nil {
		return
	}
	changed, id := *have, statement.ID(in.Pattern)
	changed.NeverPatterns = slices.DeleteFunc(slices.Clone(have.NeverPatterns), func(x statement.ID) bool { return x == id })
	if !in.Off {
		changed.NeverPatterns = append(changed.NeverPatterns, id)
	} else if len(changed.NeverPatterns) == len(have.NeverPatterns) {
		problem(w, http.StatusConflict, "the rule %s does not refuse %s: nothing was changed, choose another pattern", have.Name, id)
		return
	}
	s.change(w, r, in.Why, func(text []byte) ([]byte, error) { return rules.Put(text, have.Name, changed) })
}

// adopt makes a rule of its own of what the larder chose within a rule. It stands before that rule, for the same callers.
func (s *server) adopt(w http.ResponseWriter, r *http.Request) {
	var in control.Adoption
	if !read(w, r, &in) {
		return
	}
	have := s.advised(w, r, in.Pattern)
	if have == nil {
		return
	}
	id := statement.ID(in.Pattern)
	ttl, chosen := s.l.Engine().Rules().Choices()[have.Name][id]
	if !chosen {
		problem(w, http.StatusConflict, "the larder has not chosen %s within %s: jollylarder rules choices lists what it has", id, have.Name)
		return
	}
	own := rules.Rule{
		Pattern: id, When: have.When, Action: rules.Cache, TTL: ttl, SizeLimit: have.SizeLimit, SkipEmpty: have.SkipEmpty,
		ReadCommitted: have.ReadCommitted, AlsoReads: have.AlsoReads, Refetch: have.Refetch, AcrossUsers: have.AcrossUsers, ControlSample: have.ControlSample,
		Note: "chosen by the larder within " + have.Name,
	}
	if p := s.l.Engine().Pattern(id); p != nil {
		own.Statement = p.Text
	}
	s.change(w, r, in.Why, func(text []byte) ([]byte, error) { return rules.PutBefore(text, have.Name, own) })
}
