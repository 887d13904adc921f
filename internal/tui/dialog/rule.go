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
type ruleLines struct {
	lines []ruleLine
	group string // of the lines that come now
	rare  bool   // few rules say anything of them
}

func (f *ruleLines) choice(label, help, value string, take func(*control.Rule, string), choices ...string) {
	f.add(Line{Name: label, Help: help, Value: value, Usual: choices[0], Choices: choices},
		func(r *control.Rule, v string) error { take(r, v); return nil })
}

func (f *ruleLines) text(label, help, value string, take func(*control.Rule, string) error) {
	f.add(Line{Name: label, Help: help, Value: value}, take)
}

func (f *ruleLines) add(x Line, take func(*control.Rule, string) error) {
	x.Group, x.Rare = f.group, f.rare
	f.lines = append(f.lines, ruleLine{x, take})
}

// What a form begins with where a rule says nothing.
const (
	usualTTL    = "30s"
	usualMaxTTL = "1m"
)

// usualIfRare says of the last line, if few rules say anything of it, what it is by default.
func (f *ruleLines) usualIfRare(value string) {
	if f.rare {
		f.lines[len(f.lines)-1].Usual = value
	}
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
	advised := r.Action == string(rules.Advised)
	r.TTL, r.MaxTTL = cmp.Or(r.TTL, usualTTL), cmp.Or(r.MaxTTL, usualMaxTTL)
	lines.asksWhich(&r)
	lines.asksWhose(&r)
	lines.asksWhat(&r)
	lines.asksBounds(&r)
	lines.asksAhead(&r)
	lines.asksSafety(&r)
	lines.asksText(&r)
	shown := make([]Line, len(lines.lines))
	for i := range lines.lines {
		shown[i] = lines.lines[i].Line
	}
	f := NewForm(title, nil, shown, nil, func(v map[string]string) (tea.Cmd, error) {
		out, err := made(r, lines.lines, v)
		if err != nil {
			return nil, err
		}
		return put(meant(out)), nil
	})
	f.enter = keyPut
	if r.Pattern != "" || r.Text != "" || len(r.Tables) > 0 || len(r.OnlyTables) > 0 || r.When != nil {
		f.goToLine(map[bool]string{true: "max_ttl", false: "ttl"}[advised]) // what it matches is said already
	}
	return f
}

// The groups of the form's lines.
const (
	groupMatch   = "what it matches"
	groupCallers = "for which callers"
	groupDoes    = "what it does"
	groupCaches  = "if it caches"
	groupBounds  = "if the larder chooses: its bounds"
	groupFetch   = "fetching ahead"
	groupSafety  = "safety"
	groupText    = "labels for people"
)

// asksWhich asks which statements the rule is about.
func (f *ruleLines) asksWhich(r *control.Rule) {
	f.group = groupMatch
	f.text("pattern", "the id of one pattern", r.Pattern,
		plain(func(r *control.Rule) *string { return &r.Pattern }))
	f.text("text", "the pattern's text, with * for anything: select * from fares*", r.Text,
		plain(func(r *control.Rule) *string { return &r.Text }))
	f.text("tables", "patterns that read one of these tables: fares, routes", strings.Join(r.Tables, ", "),
		list(func(r *control.Rule) *[]string { return &r.Tables }))
	f.text("only_tables", "patterns that read these tables and no others", strings.Join(r.OnlyTables, ", "),
		list(func(r *control.Rule) *[]string { return &r.OnlyTables }))
}

// asksWhose asks whose statements the rule is about.
func (f *ruleLines) asksWhose(r *control.Rule) {
	f.group, f.rare = groupCallers, true
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
	f.text("user", "only statements of this database user", when.User,
		caller(func(w *control.When, v string) error { w.User = v; return nil }))
	f.text("database", "only statements in this database", when.Database,
		caller(func(w *control.When, v string) error { w.Database = v; return nil }))
	f.text("client", "only statements from this address or network: 10.0.0.0/8", when.Client,
		caller(func(w *control.When, v string) error { w.Client = v; return nil }))
	f.text("label", "only statements with these labels in their comment: screen=departures", strings.Join(labels, ", "),
		caller(takeLabels))
}

// asksWhat asks what the rule does.
func (f *ruleLines) asksWhat(r *control.Rule) {
	f.group, f.rare = groupDoes, false
	f.choice("action", "cache results, bypass the cache, or let the larder choose", r.Action,
		func(r *control.Rule, v string) { r.Action = v }, string(rules.Cache), string(rules.Bypass), string(rules.Advised))
	f.text("size_limit", "the largest result that is cached: 64KiB", r.SizeLimit,
		plain(func(r *control.Rule) *string { return &r.SizeLimit }))
	f.group, f.rare = groupCaches, r.Action == string(rules.Advised)
	f.text("ttl", "the longest time a result is used: 45s, 5m, 1h30m; or none", r.TTL, takeTTL)
	f.usualIfRare(usualTTL)
	f.choice("mode", "a write drops the result earlier, or only its TTL ends it",
		cmp.Or(r.Mode, rules.UntilWritten), func(r *control.Rule, v string) { r.Mode = v }, rules.UntilWritten, rules.TTLOnly)
	f.text("memory_share", "memory reserved for this rule: 25%; empty for none",
		r.MemoryShare, plain(func(r *control.Rule) *string { return &r.MemoryShare }))
}

// asksBounds asks within which bounds the larder chooses.
func (f *ruleLines) asksBounds(r *control.Rule) {
	f.group, f.rare = groupBounds, r.Action != string(rules.Advised)
	f.text("max_ttl", "the oldest that an answer may be: 1m", r.MaxTTL, plain(func(r *control.Rule) *string { return &r.MaxTTL }))
	f.usualIfRare(usualMaxTTL)
	f.text("min_saved", "what a pattern must save in a minute: 0.2s; empty: 20ms", r.MinSaved,
		plain(func(r *control.Rule) *string { return &r.MinSaved }))
	f.text("max_memory", "the most memory for what is chosen: 20%; or empty", r.MaxMemory,
		plain(func(r *control.Rule) *string { return &r.MaxMemory }))
	f.text("never_tables", "no pattern that reads one of these tables is chosen: passengers", strings.Join(r.NeverTables, ", "),
		list(func(r *control.Rule) *[]string { return &r.NeverTables }))
	f.text("never_patterns", "these patterns are not chosen", strings.Join(r.NeverPatterns, ", "),
		list(func(r *control.Rule) *[]string { return &r.NeverPatterns }))
}

// asksAhead asks what is fetched before a client asks for it.
func (f *ruleLines) asksAhead(r *control.Rule) {
	f.group, f.rare = groupFetch, true
	start := ""
	if r.WarmUp > 0 {
		start = strconv.Itoa(r.WarmUp)
	}
	f.choice("refetch", "fetch a used result again at once after a write dropped it", yes(r.Refetch),
		func(r *control.Rule, v string) { r.Refetch = v == "yes" }, "no", "yes")
	f.text("warm_up", "how many of the most used inputs to fetch when the larder starts: 100", start, takeStart)
}

// asksSafety asks for what decides how sure the rule is.
func (f *ruleLines) asksSafety(r *control.Rule) {
	f.group, f.rare = groupSafety, true
	sample := ""
	if r.ControlSample != nil {
		sample = strconv.FormatFloat(*r.ControlSample, 'g', -1, 64)
	}
	f.choice("empty_results", "cache results without rows", yes(r.EmptyResults == nil || *r.EmptyResults),
		func(r *control.Rule, v string) {
			r.EmptyResults = nil
			if v == "no" {
				r.EmptyResults = new(bool)
			}
		}, "yes", "no")
	f.choice("time_functions", "cache statements that ask for the time, as old as their result", yes(r.TimeFunctions),
		func(r *control.Rule, v string) { r.TimeFunctions = v == "yes" }, "no", "yes")
	f.choice("in_transaction", "REPEATABLE READ: its own moment, or what is committed by now",
		cmp.Or(r.InTransaction, rules.AsIsolated), func(r *control.Rule, v string) { r.InTransaction = v }, rules.AsIsolated, rules.AsReadCommitted)
	f.text("also_reads", "tables that it reads and the larder cannot see: tides", strings.Join(r.AlsoReads, ", "),
		list(func(r *control.Rule) *[]string { return &r.AlsoReads }))
	f.choice("across_users", "use one user's result for another who may read the same tables", yes(r.AcrossUsers),
		func(r *control.Rule, v string) { r.AcrossUsers = v == "yes" }, "no", "yes")
	f.text("control_sample", "the share of hits that are compared with the database: 0.005", sample, takeSample)
	f.choice("on_stale", "pause the rule when a control sample finds a stale answer, or continue",
		cmp.Or(r.OnStale, rules.Pause), func(r *control.Rule, v string) { r.OnStale = v }, rules.Pause, rules.Continue)
}

// asksText asks for what is there for people.
func (f *ruleLines) asksText(r *control.Rule) {
	f.group, f.rare = groupText, false
	f.text("note", "why this rule exists", r.Note,
		plain(func(r *control.Rule) *string { return &r.Note }))
	f.text("name", "its name in the history, the metrics and on the command line", r.Name,
		plain(func(r *control.Rule) *string { return &r.Name }))
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

func takeTTL(r *control.Rule, v string) error {
	if _, err := rules.ParseTTL(v); err != nil {
		return fmt.Errorf("%q: expected a time such as 30s, 5m or 1h30m, or none", v)
	}
	r.TTL = v
	return nil
}

func takeStart(r *control.Rule, v string) (err error) {
	r.WarmUp = 0
	if v == "" {
		return nil
	}
	if r.WarmUp, err = strconv.Atoi(v); err != nil {
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

// meant gives a rule without what is not for its action.
func meant(r control.Rule) control.Rule {
	if r.Action == string(rules.Advised) {
		r.TTL, r.Mode, r.MemoryShare = "", "", ""
		return r
	}
	r.MaxTTL, r.MinSaved, r.MaxMemory, r.NeverTables, r.NeverPatterns = "", "", "", nil, nil
	return r
}

// made gives the rule that is written, or all that is wrong with it.
func made(from control.Rule, lines []ruleLine, values map[string]string) (control.Rule, error) {
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
