package server

import (
	"cmp"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
)

// mostPatterns is how many patterns are described when nobody says how many.
const mostPatterns = 500

// mostAtOnce is how many patterns are described in one answer at most, and shownText how many bytes of each one's text
// are in a list; the whole is told of one pattern alone.
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
	"saveable": func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.Cacheable + s.Saved) },
	"waited":   func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.AllWaited()) },
	"calls":    func(_ *engine.Pattern, s ledger.Sums) float64 { return float64(s.Calls()) },
	"slowest":  func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Origin().Mean()) },
	"drops":    func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Drops.Load()) },
	"rows":     func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Rows()) },
	"memory":   func(p *engine.Pattern, _ ledger.Sums) float64 { return float64(p.Numbers.Memory().Percentile(0.5)) },
	"hits": func(_ *engine.Pattern, s ledger.Sums) float64 {
		return float64(s.Count[ledger.Hit]) / float64(max(s.Calls(), 1))
	},
}

// The orders that are not by a number: by text, and by what a rule decides.
const (
	byStatement = "statement"
	byDecision  = "decision"
)

// decided is a number by which patterns are ranked by what is decided of them.
func decided(e *larder.Larder) func(*engine.Pattern, ledger.Sums) float64 {
	return func(p *engine.Pattern, _ ledger.Sums) float64 {
		switch r := findings.ShownRule(e, p); {
		case r == nil:
			return 0
		case r.Caches():
			return 2
		}
		return 1
	}
}

// orderOf gives by what patterns are ranked in an order, the largest first; ok is false if there is none of that name.
func orderOf(e *larder.Larder, name string) (by func(*engine.Pattern, ledger.Sums) float64, ok bool) {
	switch name {
	case byDecision:
		return decided(e), true
	case byStatement:
		return func(*engine.Pattern, ledger.Sums) float64 { return 0 }, true
	}
	by, ok = orders[name]
	return by, ok
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
		order = "saveable"
	}
	by, ok := orderOf(e, order)
	if !ok {
		problem(
			w,
			http.StatusBadRequest,
			"there is no order %q: expected saveable, waited, calls, slowest, memory, hits, drops, rows, decision or statement",
			order,
		)
		return
	}
	limit := mostPatterns
	if text := q.Get("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > mostAtOnce {
			problem(
				w,
				http.StatusBadRequest,
				"limit %q: expected how many patterns to give, from 1 to %d; offset gives the next ones",
				text,
				mostAtOnce,
			)
			return
		}
	}
	reversed := false
	if text := q.Get("reverse"); text != "" {
		if reversed, err = strconv.ParseBool(text); err != nil {
			problem(w, http.StatusBadRequest, "reverse %q: expected true or false", text)
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
	out := control.PatternList{Patterns: []control.Pattern{}}
	var list []ranked
	e.Patterns(func(p *engine.Pattern) {
		out.All++
		out.Rare += p.Numbers.Merged.Load()
		if f.Empty() || f.Match(&patternSubject{e: e, p: p}) {
			minute := p.Numbers.Minute()
			list = append(
				list,
				ranked{p, by(p, minute), float64(minute.AllWaited()) + float64(p.Numbers.Total().AllWaited())*1e-9},
			)
		}
	})
	slices.SortFunc(list, func(a, b ranked) int {
		first := cmp.Compare(b.by, a.by)
		if order == byStatement {
			first = cmp.Compare(a.p.Text, b.p.Text)
		}
		if reversed {
			first = -first
		}
		return cmp.Or(first, cmp.Compare(b.tied, a.tied), cmp.Compare(a.p.ID, b.p.ID))
	})
	out.Matching = len(list)
	list = list[min(offset, len(list)):]
	for _, x := range list[:min(len(list), limit)] {
		p := findings.Describe(e, x.p, false)
		p.Text = shownOf(p.Text)
		out.Patterns = append(out.Patterns, p)
	}
	if order == "saveable" { // what could be spared is less than all that is waited: what advice foretells of it
		slices.SortStableFunc(
			out.Patterns,
			func(a, b control.Pattern) int {
				if reversed {
					a, b = b, a
				}
				return cmp.Compare(b.Saveable(), a.Saveable())
			},
		)
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

// Texts implements filter.Subject.
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
			out = append(out, string(r.Action))
		}
		if out == nil {
			out = []string{"none"}
		}
	case "app", "user", "db":
		for _, c := range x.p.Numbers.Callers() {
			out = append(out, map[string]string{"app": c.Application, "user": c.User, "db": c.Database}[field])
		}
	case "advice":
		first, _, _ := strings.Cut(string(findings.Advise(x.e, x.p, x.p.Inputs.Outlook(time.Now())).Kind), " ")
		return []string{first}
	}
	return out
}

// Number implements filter.Subject.
func (x *patternSubject) Number(field string) (float64, bool) {
	switch field {
	case "calls":
		return float64(x.p.Numbers.Minute().Calls()), true
	case "waited":
		return findings.Milliseconds(x.p.Numbers.Minute().AllWaited()), true
	case "took":
		return findings.Milliseconds(x.p.Numbers.Origin().Percentile(0.5)), true
	}
	return 0, false
}
