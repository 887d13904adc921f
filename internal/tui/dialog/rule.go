package dialog

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
)

var (
	keyField  = key.NewBinding(key.WithKeys("up", "down", "tab", "shift+tab"), key.WithHelp("↑↓", "another line"))
	keyChoice = key.NewBinding(key.WithKeys("left", "right"), key.WithHelp("←→", "another choice"))
	keyPut    = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "put it into the draft"))
)

// ruleLine is a line of the form for a rule, with what puts its value into one, or says what is wrong with it.
type ruleLine struct {
	Line
	take func(r *control.Rule, value string) error
}

func texts(value string) []string {
	var out []string
	for _, part := range strings.Split(value, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// NewRuleForm makes the form for a rule; put is given what was made of it.
func NewRuleForm(title string, r control.Rule, put func(control.Rule) tea.Cmd) *Form {
	var lines []ruleLine
	when := control.When{}
	if r.When != nil {
		when = *r.When
	}
	ttls := slices.Clone(lifetimes)
	if r.TTL != "" && !slices.Contains(ttls, r.TTL) {
		ttls = append([]string{r.TTL}, ttls...)
	}
	ttl := r.TTL
	if ttl == "" {
		ttl = "30s"
	}
	var labels []string
	for k, v := range when.Labels {
		labels = append(labels, k+"="+v)
	}
	slices.Sort(labels)
	choice := func(label, help, value string, take func(*control.Rule, string), choices ...string) {
		usual := "no"
		if len(lines) > 2 {
			usual = choices[0]
		}
		lines = append(lines, ruleLine{Line{Name: label, Help: help, Value: value, Usual: usual, Choices: choices}, func(r *control.Rule, v string) error { take(r, v); return nil }})
	}
	text := func(label, help, value string, take func(*control.Rule, string) error) {
		lines = append(lines, ruleLine{Line{Name: label, Help: help, Value: value}, take})
	}
	plain := func(take func(*control.Rule) *string) func(*control.Rule, string) error {
		return func(r *control.Rule, v string) error { *take(r) = v; return nil }
	}
	whenOf := func(take func(*control.When) *string) func(*control.Rule, string) error {
		return func(r *control.Rule, v string) error {
			if v == "" && r.When == nil {
				return nil
			}
			if r.When == nil {
				r.When = &control.When{}
			}
			*take(r.When) = v
			return nil
		}
	}
	choice("verdict", "keep results, or never", r.Verdict, func(r *control.Rule, v string) { r.Verdict = v }, "keep", "never")
	choice("for", "the longest an answer may be old, counted from its fetch; none is no limit", ttl, func(r *control.Rule, v string) { r.TTL = v }, ttls...)
	choice("until", "a write to what was read ends results, or nothing but their age does", map[bool]string{true: "ttl only", false: "until written"}[r.TTLOnly],
		func(r *control.Rule, v string) { r.TTLOnly = v == "ttl only" }, "until written", "ttl only")
	text("why", "for whoever reads this in a year", r.Note, plain(func(r *control.Rule) *string { return &r.Note }))
	text("name", "what it is called in the history and on the command line", r.Name, plain(func(r *control.Rule) *string { return &r.Name }))
	text("pattern", "the id of one pattern", r.Pattern, plain(func(r *control.Rule) *string { return &r.Pattern }))
	text("text", "what a pattern's text must be, with * for anything: select * from fares*", r.Text, plain(func(r *control.Rule) *string { return &r.Text }))
	text("tables", "what reads one of these, with commas between", strings.Join(r.Tables, ", "), func(r *control.Rule, v string) error { r.Tables = texts(v); return nil })
	text("only tables", "what reads these and no other", strings.Join(r.OnlyTables, ", "), func(r *control.Rule, v string) error { r.OnlyTables = texts(v); return nil })
	text("application", "only statements of this application", when.Application, whenOf(func(w *control.When) *string { return &w.Application }))
	text("user", "only those of this user", when.User, whenOf(func(w *control.When) *string { return &w.User }))
	text("database", "only those in this database", when.Database, whenOf(func(w *control.When) *string { return &w.Database }))
	text("client", "only those from this address or network, such as 10.0.0.0/8", when.Client, whenOf(func(w *control.When) *string { return &w.Client }))
	text("labels", "only those with these labels in their comment: screen=departures, page=2", strings.Join(labels, ", "), func(r *control.Rule, v string) error {
		if v == "" && r.When == nil {
			return nil
		}
		if r.When == nil {
			r.When = &control.When{}
		}
		r.When.Labels = nil
		for _, l := range texts(v) {
			k, value, ok := strings.Cut(l, "=")
			if !ok {
				return fmt.Errorf("labels: expected key=value, not %q", l)
			}
			if r.When.Labels == nil {
				r.When.Labels = map[string]string{}
			}
			r.When.Labels[strings.TrimSpace(k)] = strings.TrimSpace(value)
		}
		return nil
	})
	text("largest", "the largest result that is kept, such as 64KiB", r.Largest, plain(func(r *control.Rule) *string { return &r.Largest }))
	text("memory", "the share of the memory that its results have to themselves, such as 25%; none if they share with the others", r.Memory, plain(func(r *control.Rule) *string { return &r.Memory }))
	choice("empty", "whether it is kept that there is nothing", yes(!r.SkipEmpty), func(r *control.Rule, v string) { r.SkipEmpty = v == "no" }, "yes", "no")
	choice("accept time", "keep also what asks for the current time, which is then as old as the answer", yes(r.AcceptTime), func(r *control.Rule, v string) { r.AcceptTime = v == "yes" }, "no", "yes")
	text("also reads", "tables that it reads beyond what can be seen", strings.Join(r.AlsoReads, ", "), func(r *control.Rule, v string) error { r.AlsoReads = texts(v); return nil })
	choice("fetch again", "after a write has dropped a result that was of use, fetch it again at once", yes(r.FetchAgain), func(r *control.Rule, v string) { r.FetchAgain = v == "yes" }, "no", "yes")
	start := ""
	if r.FetchAtStart > 0 {
		start = strconv.Itoa(r.FetchAtStart)
	}
	text("at start", "how many of the inputs asked most to fetch when the larder starts", start, func(r *control.Rule, v string) error {
		r.FetchAtStart = 0
		if v == "" {
			return nil
		}
		n, err := strconv.Atoi(v)
		if err != nil {
			return fmt.Errorf("at start: expected a number, not %q", v)
		}
		r.FetchAtStart = n
		return nil
	})
	choice("share", "answer users with what was fetched for others, where each may read all of it", yes(r.Share), func(r *control.Rule, v string) { r.Share = v == "yes" }, "no", "yes")
	sample := ""
	if r.ControlSample != nil {
		sample = strconv.FormatFloat(*r.ControlSample, 'g', -1, 64)
	}
	text("sample", "the share of hits, from 0 to 1, for which the origin is asked all the same, to compare; 1 in 200 if not said", sample, func(r *control.Rule, v string) error {
		r.ControlSample = nil
		if v == "" {
			return nil
		}
		n, err := strconv.ParseFloat(v, 64)
		if err != nil {
			return fmt.Errorf("sample: expected a number such as 0.005, not %q", v)
		}
		r.ControlSample = &n
		return nil
	})
	choice("when stale", "whether the rule is paused when such a comparison finds an old answer", map[bool]string{true: "go on", false: "pause"}[r.GoOn], func(r *control.Rule, v string) { r.GoOn = v == "go on" }, "pause", "go on")
	shown := make([]Line, len(lines))
	for i := range lines {
		shown[i] = lines[i].Line
	}
	f := NewForm(title, nil, shown, nil, func(v map[string]string) (tea.Cmd, error) {
		out, err := made(r, lines, v)
		if err != nil {
			return nil, err
		}
		return put(out), nil
	})
	f.enter = keyPut
	return f
}

// made gives the rule that is written.
func made(from control.Rule, lines []ruleLine, values map[string]string) (control.Rule, error) {
	out := from
	out.When = nil
	for _, x := range lines {
		if err := x.take(&out, values[x.Name]); err != nil {
			return out, err
		}
	}
	if out.Pattern != from.Pattern {
		out.Statement = ""
	}
	if w := out.When; w != nil && w.Application == "" && w.User == "" && w.Database == "" && w.Client == "" && len(w.Labels) == 0 {
		out.When = nil
	}
	return out, nil
}
