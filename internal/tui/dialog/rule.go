package dialog

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/rules"
)

var (
	keyField  = key.NewBinding(key.WithKeys("up", "down", "tab", "shift+tab"), key.WithHelp("↑↓", "line"))
	keyChoice = key.NewBinding(key.WithKeys("left", "right"), key.WithHelp("←→", "choice"))
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

// ruleLines are the lines of a rule's form.
type ruleLines []ruleLine

// mostAsked is how many lines come first, which are always shown with their value; the others say when it is not the
// usual one.
const mostAsked = 3

func (f *ruleLines) choice(label, help, value string, take func(*control.Rule, string), choices ...string) {
	usual := "no"
	if len(*f) >= mostAsked {
		usual = choices[0]
	}
	*f = append(*f, ruleLine{
		Line{Name: label, Help: help, Value: value, Usual: usual, Choices: choices},
		func(r *control.Rule, v string) error { take(r, v); return nil },
	})
}

func (f *ruleLines) text(label, help, value string, take func(*control.Rule, string) error) {
	*f = append(*f, ruleLine{Line{Name: label, Help: help, Value: value}, take})
}

// plain takes a text as it is.
func plain(take func(*control.Rule) *string) func(*control.Rule, string) error {
	return func(r *control.Rule, v string) error { *take(r) = v; return nil }
}

// list takes texts with commas between.
func list(take func(*control.Rule) *[]string) func(*control.Rule, string) error {
	return func(r *control.Rule, v string) error { *take(r) = texts(v); return nil }
}

// caller takes what a rule says of callers.
func caller(take func(w *control.When, v string) error) func(*control.Rule, string) error {
	return func(r *control.Rule, v string) error {
		if r.When == nil {
			if v == "" {
				return nil
			}
			r.When = &control.When{}
		}
		return take(r.When, v)
	}
}

// NewRuleForm makes the form for a rule; put is given what was made of it.
func NewRuleForm(title string, r control.Rule, put func(control.Rule) tea.Cmd) *Form {
	var lines ruleLines
	r.TTL = cmp.Or(r.TTL, "30s")
	lines.asksWhat(&r)
	lines.asksWhich(&r)
	lines.asksWhose(&r)
	lines.asksMore(&r)
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

// asksWhat asks what the rule does.
func (f *ruleLines) asksWhat(r *control.Rule) {
	f.choice("verdict", "keep results, or never", r.Verdict,
		func(r *control.Rule, v string) { r.Verdict = v }, "keep", "never")
	f.text("for", "the longest an answer may be old, counted from its fetch, such as 45s, 5m or 1h30m; none is no limit", r.TTL, takeTTL)
	f.choice("until", "a write to what was read ends results, or nothing but their age does",
		map[bool]string{true: "ttl only", false: "until written"}[r.TTLOnly],
		func(r *control.Rule, v string) { r.TTLOnly = v == "ttl only" }, "until written", "ttl only")
	f.text("why", "for whoever reads this in a year", r.Note,
		plain(func(r *control.Rule) *string { return &r.Note }))
	f.text("name", "what it is called in the history and on the command line", r.Name,
		plain(func(r *control.Rule) *string { return &r.Name }))
}

// asksWhich asks which statements the rule is about.
func (f *ruleLines) asksWhich(r *control.Rule) {
	f.text("pattern", "the id of one pattern", r.Pattern,
		plain(func(r *control.Rule) *string { return &r.Pattern }))
	f.text("text", "what a pattern's text must be, with * for anything: select * from fares*", r.Text,
		plain(func(r *control.Rule) *string { return &r.Text }))
	f.text("tables", "what reads one of these, with commas between", strings.Join(r.Tables, ", "),
		list(func(r *control.Rule) *[]string { return &r.Tables }))
	f.text("only tables", "what reads these and no other", strings.Join(r.OnlyTables, ", "),
		list(func(r *control.Rule) *[]string { return &r.OnlyTables }))
}

// asksWhose asks whose statements the rule is about.
func (f *ruleLines) asksWhose(r *control.Rule) {
	var when control.When
	if r.When != nil {
		when = *r.When
	}
	var labels []string
	for k, v := range when.Labels {
		labels = append(labels, k+"="+v)
	}
	slices.Sort(labels)
	f.text("application", "only statements of this application", when.Application,
		caller(func(w *control.When, v string) error { w.Application = v; return nil }))
	f.text("user", "only those of this user", when.User,
		caller(func(w *control.When, v string) error { w.User = v; return nil }))
	f.text("database", "only those in this database", when.Database,
		caller(func(w *control.When, v string) error { w.Database = v; return nil }))
	f.text("client", "only those from this address or network, such as 10.0.0.0/8", when.Client,
		caller(func(w *control.When, v string) error { w.Client = v; return nil }))
	f.text("labels", "only those with these labels in their comment: screen=departures, page=2", strings.Join(labels, ", "),
		caller(takeLabels))
}

func takeLabels(w *control.When, v string) error {
	w.Labels = nil
	for _, l := range texts(v) {
		k, value, ok := strings.Cut(l, "=")
		if !ok {
			return fmt.Errorf("expected key=value, not %q", l)
		}
		if w.Labels == nil {
			w.Labels = map[string]string{}
		}
		w.Labels[strings.TrimSpace(k)] = strings.TrimSpace(value)
	}
	return nil
}

// asksMore asks for what few rules say.
func (f *ruleLines) asksMore(r *control.Rule) {
	start, sample := "", ""
	if r.FetchAtStart > 0 {
		start = strconv.Itoa(r.FetchAtStart)
	}
	if r.ControlSample != nil {
		sample = strconv.FormatFloat(*r.ControlSample, 'g', -1, 64)
	}
	f.text("largest", "the largest result that is kept, such as 64KiB", r.Largest,
		plain(func(r *control.Rule) *string { return &r.Largest }))
	f.text("memory", "the share of the memory that its results have to themselves, such as 25%; none if they share with the others",
		r.Memory, plain(func(r *control.Rule) *string { return &r.Memory }))
	f.choice("empty", "whether it is kept that there is nothing", yes(!r.SkipEmpty),
		func(r *control.Rule, v string) { r.SkipEmpty = v == "no" }, "yes", "no")
	f.choice("accept time", "keep also what asks for the current time, which is then as old as the answer", yes(r.AcceptTime),
		func(r *control.Rule, v string) { r.AcceptTime = v == "yes" }, "no", "yes")
	f.text("also reads", "tables that it reads beyond what can be seen", strings.Join(r.AlsoReads, ", "),
		list(func(r *control.Rule) *[]string { return &r.AlsoReads }))
	f.choice("fetch again", "after a write has dropped a result that was of use, fetch it again at once", yes(r.FetchAgain),
		func(r *control.Rule, v string) { r.FetchAgain = v == "yes" }, "no", "yes")
	f.text("at start", "how many of the inputs asked most to fetch when the larder starts", start, takeStart)
	f.choice("share", "answer users with what was fetched for others, where each may read all of it", yes(r.Share),
		func(r *control.Rule, v string) { r.Share = v == "yes" }, "no", "yes")
	f.text("sample", "the share of hits, from 0 to 1, for which the origin is asked all the same, to compare; 1 in 200 if not said",
		sample, takeSample)
	f.choice("when stale", "whether the rule is paused when such a comparison finds an old answer",
		map[bool]string{true: "go on", false: "pause"}[r.GoOn],
		func(r *control.Rule, v string) { r.GoOn = v == "go on" }, "pause", "go on")
}

func takeTTL(r *control.Rule, v string) error {
	if _, err := rules.ParseTTL(v); err != nil {
		return fmt.Errorf("%q: expected a time such as 30s, 5m or 1h30m, or none", v)
	}
	r.TTL = v
	return nil
}

func takeStart(r *control.Rule, v string) (err error) {
	r.FetchAtStart = 0
	if v == "" {
		return nil
	}
	if r.FetchAtStart, err = strconv.Atoi(v); err != nil {
		return fmt.Errorf("expected a number, not %q", v)
	}
	return nil
}

func takeSample(r *control.Rule, v string) error {
	r.ControlSample = nil
	if v == "" {
		return nil
	}
	n, err := strconv.ParseFloat(v, 64)
	if err != nil {
		return fmt.Errorf("expected a number such as 0.005, not %q", v)
	}
	r.ControlSample = &n
	return nil
}

// made gives the rule that is written, or all that is wrong with it.
func made(from control.Rule, lines ruleLines, values map[string]string) (control.Rule, error) {
	out := from
	var wrong []error
	if from.When != nil {
		w := *from.When
		out.When = &w
	}
	for _, x := range lines {
		if values[x.Name] == x.Value {
			continue // the form may not be able to say all of what it is
		}
		if err := x.take(&out, values[x.Name]); err != nil {
			wrong = append(wrong, &LineError{x.Name, err})
		}
	}
	if out.Pattern != from.Pattern {
		out.Statement = ""
	}
	if w := out.When; w != nil && w.Application == "" && w.User == "" && w.Database == "" && w.Client == "" && len(w.Labels) == 0 {
		out.When = nil
	}
	return out, errors.Join(wrong...)
}
