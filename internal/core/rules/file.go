package rules

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/core/tomlproblem"
)

// Heading begins a rules file that this program makes.
const Heading = `# Rules of Jolly Larder: which results are cached. All other statements go to the database.
# The first [[rule]] that matches a statement decides; docs/rules.md describes every key.
# A write to a table that was read always drops its results, unless mode is "ttl only".
`

// Error is what is wrong with a rules file and where. Line and Column count from 1.
type Error struct {
	Line, Column int
	Problem      string
}

func (e Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Problem)
}

type ruleTOML struct {
	Name          string    `toml:"name"`
	Pattern       string    `toml:"pattern"`
	Text          string    `toml:"text"`
	Tables        *[]string `toml:"tables"`
	OnlyTables    *[]string `toml:"only_tables"`
	When          *whenTOML `toml:"when"`
	Action        string    `toml:"action"`
	MaxTTL        *string   `toml:"max_ttl"`
	MinSaved      *string   `toml:"min_saved"`
	MaxMemory     *string   `toml:"max_memory"`
	NeverTables   *[]string `toml:"never_tables"`
	NeverPatterns *[]string `toml:"never_patterns"`
	TTL           *string   `toml:"ttl"`
	Mode          string    `toml:"mode"`
	SizeLimit     *string   `toml:"size_limit"`
	MemoryShare   string    `toml:"memory_share"`
	EmptyResults  *bool     `toml:"empty_results"`
	TimeFunctions bool      `toml:"time_functions"`
	InTransaction string    `toml:"in_transaction"`
	AlsoReads     []string  `toml:"also_reads"`
	Refetch       bool      `toml:"refetch"`
	WarmUp        int       `toml:"warm_up"`
	AcrossUsers   bool      `toml:"across_users"`
	ControlSample *float64  `toml:"control_sample"`
	OnStale       string    `toml:"on_stale"`
	Paused        bool      `toml:"paused"`
	Note          string    `toml:"note"`
	Statement     string    `toml:"statement"`
}

// ruleKeys and declareKeys are the keys there are, for who has written another.
const (
	ruleKeys    = "name, pattern, text, tables, only_tables, when, action, max_ttl, min_saved, max_memory, never_tables, never_patterns, ttl, mode, size_limit, memory_share, empty_results, time_functions, in_transaction, also_reads, refetch, warm_up, across_users, control_sample, on_stale, paused, note or statement"
	declareKeys = "function, pattern, reads, writes or note"
)

// The values of mode.
const (
	UntilWritten = "until written"
	TTLOnly      = "ttl only"
)

// The values of in_transaction: what a read gets in a transaction that sees one moment.
const (
	AsIsolated      = "as isolated"
	AsReadCommitted = "as read committed"
)

// The values of on_stale: what happens to a rule whose control sample found a stale answer.
const (
	Pause    = "pause"
	Continue = "continue"
)

// mostAtStart is how many inputs of one rule may be fetched at the start.
const mostAtStart = 10_000

type whenTOML struct {
	Application string            `toml:"application"`
	User        string            `toml:"user"`
	Database    string            `toml:"database"`
	Client      string            `toml:"client"`
	Label       map[string]string `toml:"label"`
}

type declareTOML struct {
	Function string    `toml:"function"`
	Pattern  string    `toml:"pattern"`
	Reads    *[]string `toml:"reads"`
	Writes   *[]string `toml:"writes"`
	Note     string    `toml:"note"`
}

// file is a rules file.
type file struct {
	Rule    []ruleTOML    `toml:"rule"`
	Declare []declareTOML `toml:"declare"`
}

// Parse reads a rules file. All that is wrong is reported at once, as Errors joined.
func Parse(text []byte) (*Set, error) {
	text = bytes.TrimPrefix(text, mark)
	doc, wrong, whole := tomlproblem.Decode[file](text)
	p := parser{blocks: split(string(text)), whole: map[string]int{}, names: map[string]int{}}
	for _, x := range wrong {
		e := Error{x.Line, x.Column, x.Text}
		if x.Unknown != nil { // beside them, all else was read
			e.Problem = fmt.Sprintf("unknown key %s: expected %s in a [[rule]], or %s in a [[declare]]", strings.Join(x.Unknown, "."), ruleKeys, declareKeys)
		}
		p.problems = append(p.problems, e)
	}
	if !whole {
		return nil, errors.Join(p.problems...)
	}
	p.beside, p.taken = p.blocks.of(wrong)
	var list []Rule
	for i, r := range doc.Rule {
		list = append(list, p.rule(i, r))
	}
	var declarations []Declaration
	for i, d := range doc.Declare {
		declarations = append(declarations, p.declaration(i, d))
	}
	if len(p.problems) > 0 {
		slices.SortStableFunc(p.problems, func(a, b error) int { return cmp.Compare(a.(Error).Line, b.(Error).Line) })
		return nil, errors.Join(p.problems...)
	}
	return NewSet(list, declarations...), nil
}

// mark is what some editors put before a text, to say that it is UTF-8.
var mark = []byte("\ufeff")

// parser checks what a file holds.
type parser struct {
	blocks   blocks
	problems []error
	memory   float64        // what rules have of it to themselves
	whole    map[string]int // by pattern: which is its rule for all callers, counted from 1
	names    map[string]int // by name: which is its rule, counted from 1
	// beside are the blocks that hold a value of a wrong kind, and taken the lines where those stand: what seems to be
	// missing there may be what could not be read.
	beside, taken map[int]bool
}

// line gives the line of a rule, counted from 1, in which a key stands.
func (p *parser) line(rule int, key string) int {
	line, _ := p.blocks.at("rule", rule-1, key)
	return line
}

func (p *parser) problem(kind string, i int, key, format string, args ...any) {
	line, column := p.blocks.at(kind, i, key)
	if place := p.blocks.place(kind, i); p.beside[place] && (key == "when" || p.taken[line] || !p.blocks[place].sets(key)) {
		return
	}
	p.problems = append(p.problems, Error{line, column, fmt.Sprintf(format, args...)})
}

func (p *parser) rule(i int, r ruleTOML) Rule {
	wrong := func(key, format string, args ...any) { p.problem("rule", i, key, format, args...) }
	rule := Rule{
		Name: r.Name, Pattern: statement.ID(r.Pattern), Text: r.Text, Action: Action(r.Action), TTLOnly: r.Mode == TTLOnly,
		SkipEmpty: r.EmptyResults != nil && !*r.EmptyResults, TimeFunctions: r.TimeFunctions, ReadCommitted: r.InTransaction == AsReadCommitted, AlsoReads: r.AlsoReads,
		Refetch: r.Refetch, WarmUp: r.WarmUp, AcrossUsers: r.AcrossUsers, GoOn: r.OnStale == Continue, Paused: r.Paused,
		Note: r.Note, Statement: r.Statement,
	}
	if r.Name != "" {
		if !validName(r.Name) {
			wrong("name", "name %q: expected up to 60 letters, digits, dots, underscores and hyphens", r.Name)
		} else if first := p.names[r.Name]; first > 0 {
			wrong("name", "the name %s is taken by the rule in line %d: expected another", r.Name, p.line(first, "name"))
		}
		p.names[r.Name] = i + 1
	}
	p.matching(&rule, r, i)
	switch {
	case rule.Action == Advised:
	case rule.Action != Cache && rule.Action != Bypass:
		wrong("action", `action %q: expected "cache", "bypass" or "advised"`, r.Action)
	case rule.Action == Cache && r.TTL == nil && !p.beside[p.blocks.place("rule", i)]:
		wrong("action", `a rule with action "cache" needs a ttl: expected a time such as ttl = "30s", or "none"`)
	}
	if r.TTL != nil {
		ttl, err := ParseTTL(*r.TTL)
		if err != nil {
			wrong("ttl", "%v", err)
		}
		rule.TTL = ttl
	}
	limited := r.TTL != nil && *r.TTL != "none"
	switch {
	case r.Mode != "" && r.Mode != UntilWritten && r.Mode != TTLOnly:
		wrong("mode", "mode %q: expected %q or %q", r.Mode, UntilWritten, TTLOnly)
	case rule.TTLOnly && !limited && r.TTL != nil:
		wrong("mode", `mode "ttl only" needs a TTL: expected a ttl other than "none"`)
	}
	if r.InTransaction != "" && r.InTransaction != AsIsolated && r.InTransaction != AsReadCommitted {
		wrong("in_transaction", "in_transaction %q: expected %q or %q", r.InTransaction, AsIsolated, AsReadCommitted)
	}
	if r.TimeFunctions && !limited && r.TTL != nil {
		wrong("time_functions", `time_functions needs a TTL, or the time in a result would never change: expected a ttl other than "none"`)
	}
	if r.SizeLimit != nil {
		n, err := bytesize.Parse(*r.SizeLimit)
		if err != nil {
			wrong("size_limit", "size_limit %v", err)
		}
		rule.SizeLimit = int(n)
	}
	if r.MemoryShare != "" {
		share, err := ParseMemory(r.MemoryShare)
		if err != nil {
			wrong("memory_share", "memory_share %v", err)
		}
		p.reserve("memory_share", share, i)
		rule.MemoryShare = share
	}
	if r.WarmUp < 0 || r.WarmUp > mostAtStart {
		wrong("warm_up", "warm_up %d: expected how many inputs to fetch, from 0 to %d", r.WarmUp, mostAtStart)
	}
	if share := r.ControlSample; share != nil {
		if !(*share >= 0 && *share <= 1) {
			wrong("control_sample", "control_sample %v: expected a share from 0 to 1, such as 0.005", *share)
		}
		if rule.ControlSample = *share; *share == 0 {
			rule.ControlSample = -1
		}
	}
	if r.OnStale != "" && r.OnStale != Pause && r.OnStale != Continue {
		wrong("on_stale", "on_stale %q: expected %q or %q", r.OnStale, Pause, Continue)
	}
	p.tables("rule", i, "also_reads", r.AlsoReads)
	p.bounds(&rule, r, i)
	return rule
}

// LeastMaxTTL is the shortest TTL that bounds what the larder chooses: what comes of shorter ones is not observed.
const LeastMaxTTL = time.Second

// bounds checks the bounds of an advised rule, and that no other rule has any.
func (p *parser) bounds(rule *Rule, r ruleTOML, i int) {
	wrong := func(key, format string, args ...any) { p.problem("rule", i, key, format, args...) }
	if rule.Action != Advised {
		for key, is := range map[string]bool{
			"max_ttl": r.MaxTTL != nil, "min_saved": r.MinSaved != nil, "max_memory": r.MaxMemory != nil,
			"never_tables": r.NeverTables != nil, "never_patterns": r.NeverPatterns != nil,
		} {
			if is {
				wrong(key, `%s is a bound for what the larder chooses: expected it only in a rule with action = "advised"`, key)
			}
		}
		return
	}
	for key, instead := range map[string]string{
		"ttl": "max_ttl", "mode": "none: a write always drops what the larder has chosen", "memory_share": "max_memory",
		"time_functions": "a rule of its own for such patterns, with action = \"cache\"",
	} {
		is := map[string]bool{"ttl": r.TTL != nil, "mode": r.Mode != "", "memory_share": r.MemoryShare != "", "time_functions": r.TimeFunctions}[key]
		if is {
			wrong(key, `%s is not for a rule with action "advised": expected %s`, key, instead)
		}
	}
	if rule.GoOn {
		wrong("on_stale", `on_stale "continue" is not for a rule with action "advised": a stale answer always pauses it; remove the key`)
	}
	if rule.ControlSample < 0 {
		wrong("control_sample", `control_sample 0 is not for a rule with action "advised", which is judged by it: expected a share above 0`)
	}
	rule.TTL, rule.MemoryShare = 0, 0
	if r.Name == "" {
		wrong("action", `a rule with action "advised" needs a name, by which the larder's choices are known: expected name = "dashboards" or another`)
	}
	switch {
	case r.MaxTTL == nil && !p.beside[p.blocks.place("rule", i)]:
		wrong("action", `a rule with action "advised" needs a max_ttl: expected the oldest that an answer may be, such as max_ttl = "1m"`)
	case r.MaxTTL != nil:
		ttl, err := ParseMaxTTL(*r.MaxTTL)
		if err != nil {
			wrong("max_ttl", "%v", err)
		}
		rule.TTL = ttl
	}
	if r.MinSaved != nil {
		saved, err := ParseMinSaved(*r.MinSaved)
		if err != nil {
			wrong("min_saved", "%v", err)
		}
		rule.MinSaved = saved
	}
	if r.MaxMemory != nil {
		share, err := ParseMemory(*r.MaxMemory)
		if err != nil {
			wrong("max_memory", "max_memory %v", err)
		}
		p.reserve("max_memory", share, i)
		rule.MemoryShare = share
	}
	if r.NeverTables != nil {
		p.tables("rule", i, "never_tables", *r.NeverTables)
		rule.NeverTables = *r.NeverTables
	}
	if r.NeverPatterns != nil {
		for _, id := range *r.NeverPatterns {
			if !statement.ValidID(id) {
				wrong("never_patterns", "%q is not a pattern's id: expected three words such as bado-kife-ruma", id)
			}
			rule.NeverPatterns = append(rule.NeverPatterns, statement.ID(id))
		}
	}
}

// ParseMaxTTL reads the longest TTL that the larder may choose.
func ParseMaxTTL(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d < LeastMaxTTL {
		return 0, fmt.Errorf(`max_ttl %q: expected the oldest that an answer may be, such as "30s" or "5m", and at least %s`, text, FormatTTL(LeastMaxTTL))
	}
	return d, nil
}

// ParseMinSaved reads what a pattern must save a minute to be chosen.
func ParseMinSaved(text string) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 || d > time.Hour {
		return 0, fmt.Errorf(`min_saved %q: expected the waiting that a pattern must save in each minute, such as "0.2s"`, text)
	}
	return d, nil
}

// reserve counts a share of the memory that a rule has to itself.
func (p *parser) reserve(key string, share float64, i int) {
	if p.memory += share; share > 0 && p.memory > mostMemory+1e-9 {
		p.problem("rule", i, key, "the rules up to here reserve %s of the memory: expected at most %s, so that other rules have some", FormatMemory(p.memory), FormatMemory(mostMemory))
	}
}

// matching checks by what a rule matches.
func (p *parser) matching(rule *Rule, r ruleTOML, i int) {
	wrong := func(key, format string, args ...any) { p.problem("rule", i, key, format, args...) }
	if w := r.When; w != nil {
		rule.When = Conditions{Application: w.Application, User: w.User, Database: w.Database, Labels: w.Label}
		if w.Client != "" {
			network, err := ParseNetwork(w.Client)
			if err != nil {
				wrong("when", "%v", err)
			}
			rule.When.Client = network
		}
		if rule.When.None() && w.Client == "" {
			wrong("when", "when has no condition: expected application, user, database, client or label, or no when at all")
		}
	}
	for key, list := range map[string]*[]string{"tables": r.Tables, "only_tables": r.OnlyTables} {
		if list == nil {
			continue
		}
		if len(*list) == 0 {
			wrong(key, "%s is empty: expected the name of a table", key)
		}
		p.tables("rule", i, key, *list)
		if key == "tables" {
			rule.Tables = *list
		} else {
			rule.OnlyTables = *list
		}
	}
	alone := r.Text == "" && r.Tables == nil && r.OnlyTables == nil && r.When == nil
	switch {
	case r.Pattern == "" && alone:
		wrong("rule", `the rule matches nothing: expected pattern = "an id such as bado-kife-ruma", text, tables, only_tables or when; text = "*" matches every pattern`)
	case r.Pattern != "" && !statement.ValidID(r.Pattern):
		wrong("pattern", "pattern %q is not a pattern's id: expected three words such as bado-kife-ruma", r.Pattern)
	case r.Pattern != "" && alone && p.whole[r.Pattern] > 0:
		wrong("pattern", "pattern %s already has a rule in line %d, which decides: remove one of them, or give this one a when", r.Pattern, p.line(p.whole[r.Pattern], "pattern"))
	}
	if alone {
		p.whole[r.Pattern] = i + 1
	}
}

func validName(name string) bool {
	return len(name) <= 60 && !strings.ContainsFunc(name, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("._-", c))
	})
}

// ParseNetwork reads an address, or a network with the length of its prefix.
func ParseNetwork(text string) (netip.Prefix, error) {
	if at, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(at, at.BitLen()), nil
	}
	n, err := netip.ParsePrefix(text)
	if err != nil {
		return n, fmt.Errorf(`client %q: expected an address such as "10.1.2.3" or a network such as "10.0.0.0/8"`, text)
	}
	return n, nil
}

// tables checks the names of tables in a list.
func (p *parser) tables(kind string, i int, key string, list []string) {
	for _, name := range list {
		if name == "" || strings.Count(name, ".") > 1 {
			p.problem(kind, i, key, `%q is not a table's name: expected "table" or "schema.table"`, name)
		}
	}
}

func (p *parser) declaration(i int, d declareTOML) Declaration {
	wrong := func(key, format string, args ...any) { p.problem("declare", i, key, format, args...) }
	out := Declaration{Function: d.Function, Pattern: statement.ID(d.Pattern), Note: d.Note}
	switch {
	case d.Function == "" && d.Pattern == "":
		wrong("declare", `nothing is named: expected function = "a function's name" or pattern = "an id such as bado-kife-ruma"`)
	case d.Function != "" && d.Pattern != "":
		wrong("pattern", "a function and a pattern are named: expected one of them")
	case d.Pattern != "" && !statement.ValidID(d.Pattern):
		wrong("pattern", "pattern %q is not a pattern's id: expected three words such as bado-kife-ruma", d.Pattern)
	case d.Reads == nil && d.Writes == nil:
		wrong("declare", `nothing is declared: expected reads = ["a table"] or writes = ["a table"], or [] for none`)
	}
	for key, list := range map[string]*[]string{"reads": d.Reads, "writes": d.Writes} {
		if list == nil {
			continue
		}
		p.tables("declare", i, key, *list)
		if key == "reads" {
			out.Reads = *list
		} else {
			out.Writes = *list
		}
	}
	return out
}
