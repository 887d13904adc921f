package findings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/advice"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// Describe makes the API's view of a pattern; whole adds what only the selected one is asked for.
func Describe(e *larder.Larder, p *engine.Pattern, whole bool) control.Pattern {
	now := time.Now()
	n := p.Numbers
	does := e.Does(p)
	out := control.Pattern{
		ID: string(
			p.ID,
		), Text: p.Text, Verb: p.Facts.Called(), Cacheable: len(does.Reasons) == 0, Reasons: reason.Sentences(does.Reasons), Pins: does.Pins,
		Minute: Sums(n.Minute()), Total: Sums(n.Total()), Rows: n.Rows(), Bytes: n.Bytes(), Merged: n.Merged.Load(),
		Failed: n.Failed(), Drops: n.Drops.Load(), Cached: int(n.Cached.Held.Load()), CachedBytes: n.Cached.HeldBytes.Load(), Slots: AllSums(n.Slots()),
		Origin: Distribution(n.Origin(), whole), Memory: Distribution(n.Memory(), whole),
		WritesMinute: e.WritesAMinute(does.Reads),
	}
	for _, t := range does.Reads {
		out.Reads = append(out.Reads, control.Reach{Table: t, How: does.ReadHow[t]})
	}
	if does.System {
		out.Reads = append(
			out.Reads,
			control.Reach{Table: "the system catalogs", How: []string{"until a definition changes"}},
		)
	}
	for _, t := range does.Writes {
		out.Writes = append(out.Writes, control.Reach{Table: t, How: does.WrittenHow[t]})
	}
	if does.Everything {
		out.Writes = append(out.Writes, control.Reach{Table: AnyTable, How: []string{"unknown effects"}})
	}
	if r := ShownRule(e, p); r != nil {
		out.Rule = control.RuleOf(r)
	}
	look := p.Inputs.Outlook(now)
	out.Advice = advised(Advise(e, p, look))
	if !whole {
		return out
	}
	out.Outlook = outlook(look)
	r := ShownRule(e, p)
	kept := r != nil && r.Caches()
	out.Bypassed = passed(n.Reasons(), n.Calls(), kept, e.Dialects())
	out.Lately = lately(n.Lately(now), now, kept, e.Dialects())
	for _, c := range n.Callers() {
		out.Callers = append(
			out.Callers,
			control.Caller{Application: c.Application, User: c.User, Database: c.Database, Calls: c.Calls},
		)
	}
	return out
}

// Schemas gives the schemas of the tables that a pattern reads or writes, each once.
func Schemas(e *larder.Larder, p *engine.Pattern) (out []string) {
	does := e.Does(p)
	for _, t := range append(slices.Clone(does.Reads), does.Writes...) {
		if schema, _, ok := strings.Cut(t, "."); ok && !slices.Contains(out, schema) {
			out = append(out, schema)
		}
	}
	return out
}

// passed makes the API's view of the reasons for which some of so many calls passed. Kept is set when a rule keeps the
// pattern by now.
func passed(list []ledger.ReasonCount, calls uint64, kept bool, dialects []*dialect.Dialect) (out []control.Reason) {
	for _, r := range list {
		would := advice.Remedy(r.Reason, dialects...)
		if (r.Reason.Code == reason.NoRule || r.Reason.Code == reason.NotChosen) && kept {
			would = ""
		}
		out = append(
			out,
			control.Reason{
				Reason: r.Reason.String(),
				Count:  r.Count,
				Share:  float64(r.Count) / float64(max(calls, 1)),
				Would:  would,
			},
		)
	}
	return out
}

// lately makes the API's view of what became of a pattern's calls.
func lately(l ledger.Lately, now time.Time, kept bool, dialects []*dialect.Dialect) *control.Lately {
	out := &control.Lately{Calls: l.Calls, Hits: l.Hits, Misses: l.Misses, Bypassed: passed(l.Bypassed, l.Calls, kept, dialects)}
	if !l.Since.IsZero() {
		out.Span = Milliseconds(now.Sub(l.Since))
	}
	return out
}

// Advise gives advice on a pattern.
func Advise(e *larder.Larder, p *engine.Pattern, look inputs.Outlook) advice.Advice {
	n := p.Numbers
	does := e.Does(p)
	minute := n.Minute()
	seen := advice.Seen{
		Reasons: does.Reasons, Tables: does.Reads, Calls: float64(minute.Calls()), Origin: n.Origin().Mean(),
		Bytes: float64(
			n.Bytes(),
		) / float64(
			max(n.Calls(), 1),
		), Writes: float64(e.WritesAMinute(does.Reads)), Outlook: look,
	}
	if r := ShownRule(e, p); r != nil && r.Action != rules.Advised {
		seen.Decided, seen.Ruled = true, ruled(r, does.Reasons, minute)
	}
	return advice.Give(seen)
}

// advised makes the API's view of advice.
func advised(a advice.Advice) *control.Advice {
	out := &control.Advice{Kind: string(a.Kind), Sentence: a.Sentence, For: a.For, Against: a.Against, Could: a.Could,
		Hits: a.Hits, Error: a.Error, Saved: Milliseconds(a.Saved), Memory: a.Memory, Watch: Milliseconds(a.Watch)}
	if a.Kind == advice.Cache || a.Kind == advice.NotWorth {
		out.TTL = rules.FormatTTL(a.TTL)
	}
	return out
}

// ShownRule gives the rule that is shown of a pattern: that for all callers, or else the first; or nil.
func ShownRule(e *larder.Larder, p *engine.Pattern) (shown *rules.Rule) {
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
	case r.Action == rules.Bypass:
		return "A rule says bypass" + some + "."
	case r.Paused:
		return "The rule that caches it is paused" + some + "."
	case len(reasons) > 0:
		return "A rule caches it, but not at this moment: it " + reasons[0].Clause() + "."
	}
	by := "Cached"
	if r.Within() != nil {
		by = "The larder chose it within " + r.Name + ": cached"
	}
	return fmt.Sprintf(
		"%s for %s%s. In the last minute %d of %d calls were hits: %s saved, %s waited.",
		by,
		rules.FormatTTL(r.TTL),
		some,
		minute.Count[ledger.Hit],
		minute.Calls(),
		advice.Waiting(minute.Saved),
		advice.Waiting(minute.AllWaited()),
	)
}

func outlook(o inputs.Outlook) *control.Outlook {
	if o.Calls == 0 {
		return nil
	}
	out := &control.Outlook{
		Followed: Milliseconds(o.Followed),
		Calls:    o.Calls,
		Inputs:   o.Inputs,
		Repeats:  o.Repeats,
		Half:     o.Half,
		Compared: o.Compared,
		Changed:  o.Changed,
		Unseen:   o.Unseen,
	}
	for i, ttl := range inputs.Ladder {
		out.Steps = append(
			out.Steps,
			control.Step{
				TTL:    rules.FormatTTL(ttl),
				Hits:   o.Hits[i],
				Error:  o.Error[i],
				Aged:   o.Aged[i],
				Live:   o.Live[i],
				Stayed: o.Stayed[i],
			},
		)
	}
	return out
}
