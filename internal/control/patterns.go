package control

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// describe makes the API's view of a pattern; whole adds what only the selected one is asked for.
func describe(e *larder.Larder, p *engine.Pattern, whole bool) Pattern {
	now := time.Now()
	n := p.Numbers
	does := e.Does(p)
	out := Pattern{
		ID: string(p.ID), Text: p.Text, Verb: p.Facts.Called(), Keepable: len(does.Reasons) == 0, Reasons: reason.Sentences(does.Reasons), Pins: does.Pins,
		Minute: sums(n.Minute()), Total: sums(n.Total()), Rows: n.Rows(), Bytes: n.Bytes(), Merged: n.Merged.Load(),
		Failed: n.Failed(), Drops: n.Drops.Load(), Kept: int(n.Kept.Held.Load()), KeptBytes: n.Kept.HeldBytes.Load(), Slots: allSums(n.Slots()),
		Origin: distribution(n.Origin(), whole), Memory: distribution(n.Memory(), whole),
		WritesMinute: e.WritesAMinute(does.Reads),
	}
	for _, t := range does.Reads {
		out.Reads = append(out.Reads, Reach{t, does.ReadHow[t]})
	}
	if does.System {
		out.Reads = append(out.Reads, Reach{"the system catalogs", []string{"until anything is defined anew"}})
	}
	for _, t := range does.Writes {
		out.Writes = append(out.Writes, Reach{t, does.WrittenHow[t]})
	}
	if does.Everything {
		out.Writes = append(out.Writes, Reach{"any table", []string{"what it does is not known"}})
	}
	if r := shownRule(e, p); r != nil {
		out.Rule = rule(r)
	}
	look := p.Inputs.Outlook(now)
	out.Advice = advised(advise(e, p, look))
	if !whole {
		return out
	}
	out.Outlook = outlook(look)
	r := shownRule(e, p)
	kept := r != nil && r.Keeps()
	out.Passed = passed(n.Reasons(), n.Calls(), kept)
	out.Lately = lately(n.Lately(now), now, kept)
	for _, c := range n.Callers() {
		out.Callers = append(out.Callers, Caller{c.Application, c.User, c.Database, c.Calls})
	}
	return out
}

// passed makes the API's view of the reasons for which some of so many calls passed. Kept is set when a rule keeps the pattern by now.
func passed(list []ledger.ReasonCount, calls uint64, kept bool) (out []Reason) {
	for _, r := range list {
		would := advice.Remedy(r.Reason)
		if r.Reason.Code == reason.NoRule && kept {
			would = ""
		}
		out = append(out, Reason{Reason: r.Reason.String(), Count: r.Count, Share: float64(r.Count) / float64(max(calls, 1)), Would: would})
	}
	return out
}

// lately makes the API's view of what became of a pattern's calls.
func lately(l ledger.Lately, now time.Time, kept bool) *Lately {
	out := &Lately{Calls: l.Calls, Hits: l.Hits, Misses: l.Misses, Passed: passed(l.Passed, l.Calls, kept)}
	if !l.Since.IsZero() {
		out.Span = ms(now.Sub(l.Since))
	}
	return out
}

// advise gives advice on a pattern.
func advise(e *larder.Larder, p *engine.Pattern, look inputs.Outlook) advice.Advice {
	n := p.Numbers
	does := e.Does(p)
	minute := n.Minute()
	seen := advice.Seen{
		Reasons: does.Reasons, Tables: does.Reads, Calls: float64(minute.Calls()), Origin: n.Origin().Mean(),
		Bytes: float64(n.Bytes()) / float64(max(n.Calls(), 1)), Writes: float64(e.WritesAMinute(does.Reads)), Outlook: look,
	}
	if r := shownRule(e, p); r != nil {
		seen.Decided, seen.Ruled = true, ruled(r, does.Reasons, minute)
	}
	return advice.Give(seen)
}

// advised makes the API's view of advice.
func advised(a advice.Advice) *Advice {
	out := &Advice{Kind: string(a.Kind), Sentence: a.Sentence, For: a.For, Against: a.Against, Could: a.Could,
		Hits: a.Hits, Error: a.Error, Spared: ms(a.Spared), Memory: a.Memory, Watch: ms(a.Watch)}
	if a.Kind == advice.Keep || a.Kind == advice.NotWorth {
		out.TTL = rules.FormatTTL(a.TTL)
	}
	return out
}

// shownRule gives the rule that is shown of a pattern: that for all callers, or else the first; or nil.
func shownRule(e *larder.Larder, p *engine.Pattern) (shown *rules.Rule) {
	for _, r := range e.RulesOf(p) {
		if shown == nil || r.When.None() {
			shown = r
		}
	}
	return shown
}

// ruled says what a rule has made of a pattern.
func ruled(r *rules.Rule, reasons []reason.Reason, minute ledger.Sums) string {
	some := ""
	if !r.When.None() {
		some = " for some callers"
	}
	switch {
	case r.Verdict == rules.Never:
		return "A rule says never to keep it" + some + "."
	case r.Paused:
		return "The rule that keeps it is paused" + some + "."
	case len(reasons) > 0:
		return "A rule keeps it, but at this moment nothing is: it " + reasons[0].Clause() + "."
	}
	return fmt.Sprintf("Kept for %s%s. In the last minute %d of %d calls were answered from memory: %s spared, %s still waited.",
		rules.FormatTTL(r.TTL), some, minute.Count[ledger.Hit], minute.Calls(), advice.Waiting(minute.Spared), advice.Waiting(minute.AllWaited()))
}

func outlook(o inputs.Outlook) *Outlook {
	if o.Calls == 0 {
		return nil
	}
	out := &Outlook{Followed: ms(o.Followed), Calls: o.Calls, Inputs: o.Inputs, Repeats: o.Repeats, Half: o.Half,
		Compared: o.Compared, Changed: o.Changed, Unseen: o.Unseen}
	for i, ttl := range inputs.Ladder {
		out.Steps = append(out.Steps, Step{rules.FormatTTL(ttl), o.Hits[i], o.Error[i], o.Aged[i], o.Live[i], o.Stayed[i]})
	}
	return out
}

// mostPatterns is how many patterns are described when nobody says how many.
const mostPatterns = 500

// mostAtOnce is how many patterns are described in one answer at most, and shownText how many bytes of each one's text are in a
// list; the whole is told of one pattern alone.
const (
	mostAtOnce = 1000
	shownText  = 2 << 10
)

// ranked is a pattern with what it is ranked by.
type ranked struct {
	p    *engine.Pattern
	by   float64
	tied float64
}

// orders are the ways to rank patterns, the first being the usual one.
var orders = map[string]func(*engine.Pattern, ledger.Sums) float64{
	"spareable": func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.Keepable + s.Spared) },
	"waited":    func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.AllWaited()) },
	"calls":     func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.Calls()) },
	"slowest":   func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Origin().Mean()) },
	"drops":     func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Drops.Load()) },
	"rows":      func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Rows()) },
}

func (s *server) patterns(w http.ResponseWriter, r *http.Request) {
	e := s.l.Engine()
	q := r.URL.Query()
	f, err := filter.Parse(q.Get("filter"), filter.OfPatterns)
	if err != nil {
		problem(w, http.StatusBadRequest, "the filter is not understood: %v", err)
		return
	}
	order := q.Get("order")
	if order == "" {
		order = "spareable"
	}
	by := orders[order]
	if by == nil {
		problem(w, http.StatusBadRequest, "there is no order %q: expected spareable, waited, calls, slowest, drops or rows", order)
		return
	}
	limit := mostPatterns
	if text := q.Get("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > mostAtOnce {
			problem(w, http.StatusBadRequest, "limit %q: expected how many patterns to give, from 1 to %d; offset gives the next ones", text, mostAtOnce)
			return
		}
	}
	offset := 0
	if text := q.Get("offset"); text != "" {
		if offset, err = strconv.Atoi(text); err != nil || offset < 0 {
			problem(w, http.StatusBadRequest, "offset %q: expected how many patterns to leave out", text)
			return
		}
	}
	out := PatternList{Patterns: []Pattern{}}
	var list []ranked
	e.Patterns(func(p *engine.Pattern) {
		out.All++
		out.Rare += p.Numbers.Merged.Load()
		if f.Empty() || f.Match(&patternSubject{e: e, p: p}) {
			minute := p.Numbers.Minute()
			list = append(list, ranked{p, by(p, minute), float64(minute.AllWaited()) + float64(p.Numbers.Total().AllWaited())*1e-9})
		}
	})
	slices.SortFunc(list, func(a, b ranked) int {
		return cmp.Or(cmp.Compare(b.by, a.by), cmp.Compare(b.tied, a.tied), cmp.Compare(a.p.ID, b.p.ID))
	})
	out.Matching = len(list)
	list = list[min(offset, len(list)):]
	for _, x := range list[:min(len(list), limit)] {
		p := describe(e, x.p, false)
		p.Text = shownOf(p.Text)
		out.Patterns = append(out.Patterns, p)
	}
	if order == "spareable" { // what could be spared is less than all that is waited: what advice foretells of it
		slices.SortStableFunc(out.Patterns, func(a, b Pattern) int { return cmp.Compare(b.Spareable(), a.Spareable()) })
	}
	reply(w, out)
}

// shownOf gives a text, or the beginning of a long one.
func shownOf(text string) string {
	if len(text) <= shownText {
		return text
	}
	return strings.ToValidUTF8(text[:shownText], "") + " …"
}

// patternSubject holds a pattern against a filter.
type patternSubject struct {
	e *larder.Larder
	p *engine.Pattern
}

// Texts is described at filter.Subject.
func (x *patternSubject) Texts(field string) (out []string) {
	switch field {
	case "text":
		return []string{x.p.Text, string(x.p.ID)}
	case "pattern":
		return []string{string(x.p.ID)}
	case "verb":
		return []string{x.p.Facts.Called()}
	case "table":
		does := x.e.Does(x.p)
		for _, t := range append(slices.Clone(does.Reads), does.Writes...) {
			_, name, _ := strings.Cut(t, ".")
			out = append(out, t, name)
		}
	case "can":
		if len(x.e.Does(x.p).Reasons) == 0 {
			return []string{"yes"}
		}
		return []string{"no"}
	case "rule":
		for _, r := range x.e.RulesOf(x.p) {
			out = append(out, string(r.Verdict))
		}
		if out == nil {
			out = []string{"none"}
		}
	case "app", "user", "db":
		for _, c := range x.p.Numbers.Callers() {
			out = append(out, map[string]string{"app": c.Application, "user": c.User, "db": c.Database}[field])
		}
	case "advice":
		first, _, _ := strings.Cut(string(advise(x.e, x.p, x.p.Inputs.Outlook(time.Now())).Kind), " ")
		return []string{first}
	}
	return out
}

// Number is described at filter.Subject.
func (x *patternSubject) Number(field string) (float64, bool) {
	switch field {
	case "calls":
		return float64(x.p.Numbers.Minute().Calls()), true
	case "waited":
		return ms(x.p.Numbers.Minute().AllWaited()), true
	case "took":
		return ms(x.p.Numbers.Origin().Percentile(0.5)), true
	}
	return 0, false
}
