package decide

import (
	"fmt"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/minutes"
	"jollylarder/internal/tui/moving"
)

// Effect says in a few words what a rule does.
func Effect(r *control.Rule) string {
	switch {
	case r.Action == "advised":
		return "advised ≤ " + r.MaxTTL
	case r.Action != "cache":
		return "bypass"
	case r.Mode == rules.TTLOnly:
		return "cache " + r.TTL + ", TTL only"
	}
	return "cache " + r.TTL
}

// About says what a rule is about.
func About(r *control.Rule) string {
	var out []string
	switch {
	case r.Statement != "":
		out = append(out, r.Statement)
	case r.Pattern != "":
		out = append(out, "the pattern "+r.Pattern)
	}
	if r.Text != "" {
		out = append(out, "texts like "+r.Text)
	}
	if len(r.Tables) > 0 {
		out = append(out, "patterns that read "+strings.Join(r.Tables, " or "))
	}
	if len(r.OnlyTables) > 0 {
		out = append(out, "patterns that read only "+strings.Join(r.OnlyTables, ", "))
	}
	if r.When != nil && len(out) == 0 {
		return "all from " + Callers(r.When)
	}
	if r.When != nil {
		out = append([]string{"from " + Callers(r.When) + ":"}, out...)
	}
	return strings.Join(out, " ")
}

// Callers says whom conditions hold for.
func Callers(w *control.When) string {
	var out []string
	for _, x := range []struct{ what, value string }{{"", w.Application}, {"user ", w.User}, {"database ", w.Database}, {"client ", w.Client}} {
		if x.value != "" {
			out = append(out, x.what+x.value)
		}
	}
	for k, v := range w.Labels {
		out = append(out, k+"="+v)
	}
	return strings.Join(out, ", ")
}

// mark says in a word what the draft does to a rule.
func mark(l *look.Look, kind string) string {
	word, style := "", l.Dim
	switch kind {
	case "added":
		word, style = "new", l.Moss
	case "removed":
		word, style = "removed", l.Brick
	case "changed":
		word, style = "altered", l.Honey
	case "moved":
		word, style = "moved", l.Slate
	}
	return style.Render(look.Left(word, markWidth))
}

// The widths of the columns that say what the draft does to a rule, and what hits are foretold of it.
const (
	markWidth   = 8
	sharesWidth = 18
)

// rules draws the list of rules.
func (m *Model) rules(l *look.Look, width, height int) []string {
	title := fmt.Sprintf("%s in force", look.Number(float64(len(m.book.Rules)), "rule"))
	if m.draft.Open {
		title = fmt.Sprintf("draft: %s, not in force yet", look.Number(float64(len(m.draft.Changes)), "change"))
	}
	out := []string{l.Rule(title, width)}
	if m.draft.Behind {
		out = append(out, l.Brick.Render(" ! ")+look.Cut(l.Cream.Render("The rules changed after the draft was started: "+strings.Join(m.draft.Meanwhile, "; ")), width-4))
	}
	for _, p := range m.draft.Checked.Problems {
		out = append(out, l.Brick.Render(" ! ")+look.Cut(l.Cream.Render(fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Problem)), width-4))
	}
	if o := m.book.Outside; o != nil {
		say := "The rules file was edited, and is not in force: " + strings.Join(o.Lines, "; ")
		if o.Problem != "" {
			say = o.Problem
		}
		out = append(out, l.Plum.Render(" ≠ ")+look.Cut(l.Cream.Render(strings.ReplaceAll(say, "\n", " ")), width-4))
	}
	rows := m.rows()
	if len(rows) == 0 {
		return append(out, "", l.Dim.Render("  There are no rules: every statement goes to the database."), l.Dim.Render("  Add a pattern to the draft in Find; then forecast and apply the draft here."), l.Dim.Render("  Or let the larder choose for an application, within bounds: ")+l.Key(KeyLeave, "writes such a rule"), "")
	}
	room := max(height-len(out)-1, 2)
	at := 0
	for i := range rows {
		if rows[i].Name == m.selected {
			at = i
		}
	}
	room--
	out = append(out, m.heads(l, width))
	first := moving.First(at, room)
	m.drawn = drawn{len(out), first, min(max(len(rows)-first, 0), room)}
	for i := first; i < len(rows) && i < first+room; i++ {
		out = append(out, m.row(l, i, &rows[i], width))
	}
	return append(out, "")
}

// heads are the titles of the columns.
func (m *Model) heads(l *look.Look, width int) string {
	line := strings.Repeat(" ", 6+markWidth) + look.Left("does", 18)
	if width >= 90 {
		hits := "hit rate, minute"
		if m.Forecast() != nil {
			hits = "hit rate → draft"
		}
		line += look.Left(hits, sharesWidth) + look.Left("rule", 18) + " "
	}
	return look.Cut(l.Dim.Render(line+"what it matches"), width)
}

func (m *Model) row(l *look.Look, i int, r *Row, width int) string {
	bar, text := "  ", l.Cream
	if r.Name == m.selected {
		bar, text = l.Honey.Render("▌ "), l.Strong
	}
	style, glyph := l.Honey, "◆"
	switch {
	case r.Kind == "removed":
		style, glyph, text = l.Dim, " ", l.Dim
	case r.Paused:
		style, glyph = l.Brick, "■"
	case r.Action == "advised":
		glyph = "◇"
		if x := m.worked(r.Name); x != nil && x.Chosen > 0 {
			glyph = "◆"
		}
	case r.Action != "cache":
		style, glyph = l.Dim, "■"
	}
	effect := Effect(&r.Rule)
	if r.Paused {
		effect = "paused"
	}
	line := bar + l.Dim.Render(fmt.Sprintf("%3d ", i+1)) + mark(l, r.Kind) + style.Render(look.Left(glyph+" "+effect, 18))
	if width >= 90 {
		share := strings.Repeat(" ", sharesWidth)
		if f := m.ruleForecast(r.Name); f != nil {
			one := func(o *control.Outcome) string {
				if o == nil {
					return "  –"
				}
				return fmt.Sprintf("%.0f%%", 100*o.Share)
			}
			share = look.Left(one(f.Present)+" → "+one(f.Draft), sharesWidth)
		} else if x := m.worked(r.Name); x != nil && x.Minute != nil && x.Minute.Calls() > 0 {
			share = look.Left(strings.TrimSpace(look.Share(float64(x.Minute.Hits), float64(x.Minute.Calls()))), sharesWidth)
		}
		line += l.Honey.Render(share) + text.Render(look.Left(r.Name, 18)) + " "
	}
	return look.Cut(line+text.Render(About(&r.Rule)), width)
}

// worked gives what a rule in force has done, or nil.
func (m *Model) worked(name string) *control.RuleReach {
	for i := range m.book.Rules {
		if m.book.Rules[i].Name == name && i < len(m.book.Reach) {
			return &m.book.Reach[i]
		}
	}
	return nil
}

func (m *Model) ruleForecast(name string) *control.RuleForecast {
	f := m.Forecast()
	if f == nil {
		return nil
	}
	for i := range f.Rules {
		if f.Rules[i].Rule == name {
			return &f.Rules[i]
		}
	}
	return nil
}

// laidOut draws the selected rule: what it says, and what the draft changes of that; beside it what it would do.
func (m *Model) laidOut(l *look.Look, width, height int) []string {
	r := m.Selected()
	if r == nil || height < 2 {
		return look.Block(nil, width, max(height, 0))
	}
	out := []string{l.Rule(r.Name, width)}
	left := m.keys(l, r, width-2)
	if width < 100 {
		return look.Block(append(out, left...), width, height)
	}
	half := width * 11 / 20
	left = m.keys(l, r, half-2)
	right := m.effect(l, r, width-half-2)
	if m.book.HourOf == r.Name {
		if drawn := minutes.Draw(l, m.book.Hour, width-half-2); drawn != nil {
			right = append(append(right, ""), drawn...)
		}
	}
	n := max(height-1, 0)
	left, right = look.Block(left, half, n), look.Block(right, width-half-2, n)
	for i := range left {
		out = append(out, left[i]+"  "+right[i])
	}
	return look.Block(out, width, height)
}

// keys draws what a rule says.
func (m *Model) keys(l *look.Look, r *Row, width int) (out []string) {
	say := func(label, text string) {
		for i, part := range look.Wrap(text, width-12) {
			if i > 0 {
				label = ""
			}
			out = append(out, l.Dim.Render(look.Right(label, 9))+"  "+l.Cream.Render(part))
		}
	}
	say(r.Action, words(&r.Rule))
	if about := About(&r.Rule); about != "" {
		say("about", about)
	}
	if r.Note != "" {
		say("why", r.Note)
	}
	for _, k := range r.Keys {
		before, after := k.Before, k.After
		if before == "" {
			before = "nothing"
		}
		if after == "" {
			after = "nothing"
		}
		for i, part := range look.Wrap(before+" → "+after, width-12-len(k.Key)) {
			label := ""
			if i == 0 {
				label = k.Key + " "
			}
			out = append(out, l.Honey.Render(look.Right(map[bool]string{true: "altered"}[i == 0], 9))+"  "+l.Dim.Render(look.Left(label, len(k.Key)+1))+l.Honey.Render(part))
		}
	}
	if x := m.worked(r.Name); x != nil {
		if r.Action == "advised" {
			text := fmt.Sprintf("%s cached at present; %s shows them", look.Number(float64(x.Chosen), "pattern"), KeyChosen.Help().Key)
			if x.Chosen == 0 {
				text = "nothing yet: it observes for a minute or two before it chooses"
			}
			say("chosen", text)
		}
		say("matches", fmt.Sprintf("%s; it decides for %d of them", look.Number(float64(x.Matches), "pattern"), x.Decides))
		for _, of := range []struct {
			when string
			s    *control.Sums
		}{{"minute", x.Minute}, {"so far", x.Total}} {
			if of.s != nil && of.s.Calls() > 0 {
				say(of.when, fmt.Sprintf("hit rate %s of %s calls, %s saved, %s waited", strings.TrimSpace(look.Share(float64(of.s.Hits), float64(of.s.Calls()))), look.Count(of.s.Calls()), strings.TrimSpace(look.Seconds(of.s.Saved)), strings.TrimSpace(look.Seconds(of.s.Waited))))
			}
		}
	}
	if r.Refetch || r.WarmUp > 0 {
		for _, f := range m.status.Fetching {
			text := fmt.Sprintf("%d results so far", f.Done)
			if f.Failed > 0 {
				text += fmt.Sprintf(", %d could not be: %s", f.Failed, f.Why)
			}
			say("fetched", text)
		}
	}
	for _, w := range m.draft.Checked.Warnings {
		if rest, ok := strings.CutPrefix(w, "rule "+r.Name+": "); ok {
			say("note", rest)
		}
	}
	return out
}

// words says what a rule that caches does, in a sentence.
func words(r *control.Rule) string {
	var out []string
	switch {
	case r.Action == "advised":
		out = append(out, "the larder chooses what is cached, for "+r.MaxTTL+" at most, and takes back what does not pay; a write to the tables that were read drops results")
	case r.Action != "cache":
		return "Its statements always go to the database."
	case r.TTL == "none":
		out = append(out, "no TTL; a write to the tables that were read drops the result")
	case r.Mode == rules.TTLOnly:
		out = append(out, "results are used for "+r.TTL+"; writes do not drop them")
	default:
		out = append(out, "results are used for "+r.TTL+" at most; a write to the tables that were read drops them")
	}
	for _, x := range []struct {
		is   bool
		text string
	}{
		{r.MinSaved != "", "a pattern must save " + r.MinSaved + " in each minute"}, {r.MaxMemory != "", r.MaxMemory + " of the memory at most"},
		{len(r.NeverTables) > 0, "never what reads " + strings.Join(r.NeverTables, ", ")}, {len(r.NeverPatterns) > 0, "never " + strings.Join(r.NeverPatterns, ", ")},
		{r.SizeLimit != "", "results up to " + r.SizeLimit}, {r.MemoryShare != "", r.MemoryShare + " of the memory is reserved"},
		{r.EmptyResults != nil && !*r.EmptyResults, "results without rows are not cached"}, {r.TimeFunctions, "also statements that ask for the time"},
		{r.InTransaction == rules.AsReadCommitted, "in REPEATABLE READ transactions as in READ COMMITTED ones"},
		{len(r.AlsoReads) > 0, "also depends on " + strings.Join(r.AlsoReads, ", ")}, {r.Refetch, "fetched again after a drop"},
		{r.WarmUp > 0, fmt.Sprintf("the %d most used inputs are fetched at the start", r.WarmUp)}, {r.AcrossUsers, "shared by users who may read the same tables"},
		{r.ControlSample != nil, fmt.Sprintf("control samples: %.1f%% of hits", 100*share(r.ControlSample))}, {r.OnStale == rules.Continue, "a stale answer does not pause it"}, {r.Paused, "paused"},
	} {
		if x.is {
			out = append(out, x.text)
		}
	}
	return strings.Join(out, "; ") + "."
}

// effect draws what a rule does and would do.
func (m *Model) effect(l *look.Look, r *Row, width int) []string {
	f := m.ruleForecast(r.Name)
	if f == nil {
		if m.Forecast() == nil {
			return nil
		}
		return []string{l.Dim.Render("It matched nothing in recent traffic.")}
	}
	column := max((width-16)/2, 10)
	out := []string{l.Dim.Render(look.Left("forecast", 16) + look.Left("in force", column) + "with the draft")}
	row := func(label string, text func(*control.Outcome) string) {
		cell := func(o *control.Outcome, style interface{ Render(...string) string }) string {
			if o == nil {
				return l.Dim.Render(look.Left("–", column))
			}
			return style.Render(look.Left(text(o), column))
		}
		out = append(out, l.Dim.Render(look.Left(label, 16))+cell(f.Present, l.Cream)+cell(f.Draft, l.Honey))
	}
	row("hit rate", func(o *control.Outcome) string { return fmt.Sprintf("%.0f%% of %.0f/min", 100*o.Share, o.Calls) })
	row("saved", func(o *control.Outcome) string { return seconds(o.Saved) + " a minute" })
	row("memory", func(o *control.Outcome) string { return look.Bytes(int64(o.Memory)) })
	row("drops", func(o *control.Outcome) string { return fmt.Sprintf("%.1f a minute", o.Drops) })
	row("age of answers", func(o *control.Outcome) string {
		return fmt.Sprintf("%s, most < %s", short(o.Age), short(o.Oldest))
	})
	return out
}

func seconds(ms float64) string { return strings.TrimSpace(look.Seconds(ms)) }

// short writes how old something is.
func short(ms float64) string {
	switch {
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	case ms < 60_000:
		return fmt.Sprintf("%.1f s", ms/1000)
	}
	return fmt.Sprintf("%.1f min", ms/60_000)
}

func share(s *float64) float64 {
	if s == nil {
		return 0
	}
	return *s
}
