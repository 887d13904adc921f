// Package rules holds what the DBA has decided: which patterns' results are kept, for whom, for how long, and how.
package rules

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/statement"
)

// Action is what a rule says about results of the patterns it matches.
type Action string

// The actions. A pattern without a rule is not kept either, but may be suggested. Advised has the larder itself choose,
// within bounds, what is kept of what the rule matches, and for how long.
const (
	Cache   Action = "cache"
	Bypass  Action = "bypass"
	Advised Action = "advised"
)

// Rule is one decision. It matches a statement if everything that is set of Pattern, Text, Tables, OnlyTables and When
// does.
type Rule struct {
	// Name is the rule's own: as it is written in the file, or made from its place there. No two rules have the same.
	Name string

	// Pattern is the ID of the one pattern that it is about.
	Pattern statement.ID
	// Text is what a pattern's text must be, with a star for anything in between.
	Text string
	// Tables are tables of which the pattern must read one at least, and OnlyTables those beyond which it must read
	// none; named in full or by their name alone.
	Tables, OnlyTables []string
	// When narrows the rule to some callers.
	When Conditions

	Action Action
	// TTL is the longest a result is answered from memory, counted from its fetch; zero is no limit. Of an advised rule it
	// is the longest that the larder may choose, and MemoryShare the most that the results of what it chose may take.
	TTL time.Duration
	// MinSaved is what a pattern must save a minute for the larder to choose it; zero means DefaultMinSaved. NeverTables
	// are tables, named in full or by their name alone, of which a pattern that it chooses must read none, and
	// NeverPatterns are patterns that it must not choose. All are those of an advised rule alone.
	MinSaved      time.Duration
	NeverTables   []string
	NeverPatterns []statement.ID
	// TTLOnly has results answered until their TTL is over whatever is written meanwhile. Else a write to what was read
	// ends them earlier.
	TTLOnly bool
	// SizeLimit is the largest reply in bytes that is cached; zero is the larder's own limit.
	SizeLimit int
	// MemoryShare is the share of the limit of memory, from 0 to 1, that its results have to themselves, and must do with; 0
	// means that they share the rest with all others.
	MemoryShare float64
	// SkipEmpty has results without a row not kept.
	SkipEmpty bool
	// TimeFunctions keeps results that depend on the current time as well, which is then as old as they are.
	TimeFunctions bool
	// ReadCommitted has what is asked within transactions that see one moment answered as READ COMMITTED would: with what is
	// committed by now.
	ReadCommitted bool
	// AlsoReads are tables that the patterns read beyond what can be seen.
	AlsoReads []string
	// Refetch has results that a write dropped fetched again, if they had been of use; WarmUp is how many of
	// the inputs that were asked most are fetched when the larder starts.
	Refetch bool
	WarmUp  int
	// AcrossUsers has users answered with what was fetched for others, where each may read all of it.
	AcrossUsers bool
	// ControlSample is the share of would-be hits, up to 1, that the origin is asked for all the same, to compare; 0
	// means DefaultControlSample, and less than 0 none.
	ControlSample float64
	// GoOn is set when the rule is not to be paused after an answer was found to be old; see "on_stale" in
	// docs/rules.md.
	GoOn bool
	// Paused has nothing answered or kept by the rule for the time being. What is kept stays, and writes go on dropping
	// it.
	Paused bool

	// Note says why, for whoever reads it in a year. Statement is the pattern's text, for people; nothing matches by
	// it.
	Note, Statement string

	named bool  // the file says its name
	by    *Rule // the advised rule within which the larder chose it; nil for a rule of the file
}

// DefaultMinSaved is what a pattern must save a minute to be chosen, unless a rule says otherwise.
const DefaultMinSaved = 20 * time.Millisecond

// LeastSaved is what a pattern must save a minute to be chosen within an advised rule.
func (r *Rule) LeastSaved() time.Duration {
	if r.MinSaved == 0 {
		return DefaultMinSaved
	}
	return r.MinSaved
}

// DefaultControlSample is the share of would-be hits that the origin is asked for unless a rule says otherwise.
const DefaultControlSample = 1.0 / 200

// Sample is the share of would-be hits, from 0 to 1, that the origin is asked for all the same.
func (r *Rule) Sample() float64 {
	switch {
	case r.ControlSample < 0:
		return 0
	case r.ControlSample == 0:
		return DefaultControlSample
	}
	return r.ControlSample
}

// Caches says whether results are answered and kept by the rule now.
func (r *Rule) Caches() bool { return r.Action == Cache && !r.Paused }

// Within gives the advised rule within whose bounds the larder chose this one, or nil for a rule that a person wrote.
func (r *Rule) Within() *Rule { return r.by }

// Whole gives the rule of the file that a rule is, or within which the larder chose it.
func (r *Rule) Whole() *Rule {
	if r.by != nil {
		return r.by
	}
	return r
}

// SameAs says whether two rules of different sets are one and the same: by the name that the file gives them, or by
// what they say if it gives none. That one of them is paused makes no difference.
func (r *Rule) SameAs(o *Rule) bool {
	if r.named || o.named {
		return r.named && o.named && r.Name == o.Name
	}
	bare := func(r *Rule) Rule {
		b := r.bare()
		b.Paused, b.Note, b.Statement = false, "", ""
		return b
	}
	return reflect.DeepEqual(bare(r), bare(o))
}

// Conditions are what must hold of a caller; what is empty holds for all.
type Conditions struct {
	Application, User, Database string
	// Client is the network that the client must be in.
	Client netip.Prefix
	// Labels are the labels that its statement must carry.
	Labels map[string]string
}

// None says whether the conditions hold for every caller.
func (c *Conditions) None() bool {
	return c.Application == "" && c.User == "" && c.Database == "" && !c.Client.IsValid() && len(c.Labels) == 0
}

// Caller is who sent a statement.
type Caller struct {
	Application, User, Database string
	// Address is the client's, with its port or without.
	Address string
	// Comment is the statement's comment, in which its labels are.
	Comment []byte
}

// holdFor says whether the conditions hold for a caller, but for the labels of his statement.
func (c *Conditions) holdFor(who *Caller) bool {
	if c.Application != "" && c.Application != who.Application || c.User != "" && c.User != who.User ||
		c.Database != "" && c.Database != who.Database {
		return false
	}
	if !c.Client.IsValid() {
		return true
	}
	at, err := netip.ParseAddr(who.Address)
	if whole, err2 := netip.ParseAddrPort(who.Address); err2 == nil {
		at, err = whole.Addr(), nil
	}
	return err == nil && c.Client.Contains(at.Unmap())
}

// MayHold says whether the conditions may hold for statements of a caller, whatever its address and their labels are.
func (c *Conditions) MayHold(application, user, database string) bool {
	names := Conditions{Application: c.Application, User: c.User, Database: c.Database}
	return names.holdFor(&Caller{Application: application, User: user, Database: database})
}

// holdOf says whether the conditions hold of a statement's labels.
func (c *Conditions) holdOf(labels []statement.Label) bool {
	found := 0
	for _, l := range labels {
		if want, ok := c.Labels[l.Key]; ok && want == l.Value {
			found++
		}
	}
	return found == len(c.Labels)
}

// Declaration is what the DBA says that a function or a pattern reads and writes, where that cannot be seen.
type Declaration struct {
	// Function is a function's name, in full or alone; Pattern is a pattern's. One of them is empty.
	Function string
	Pattern  statement.ID
	catalog.Declaration
	Note string
}

// Set is a list of rules in force. It does not change once made. The zero value has no rules.
type Set struct {
	rules        []Rule
	byPattern    map[statement.ID][]int
	general      []int // those that name no pattern
	declarations []Declaration
	also         []Rule // those with AlsoReads, reduced to what that rests on
	keeps        bool
	chosen       map[int]map[statement.ID]*Rule // what stands for an advised rule, by its place, where the larder chose a pattern
}

// NewSet makes a set; the first rule that matches decides. Rules without a name get one.
func NewSet(list []Rule, declarations ...Declaration) *Set {
	s := &Set{rules: slices.Clone(list), byPattern: map[statement.ID][]int{}, declarations: declarations}
	nameAll(s.rules)
	for i := range s.rules {
		r := &s.rules[i]
		if r.Pattern != "" {
			s.byPattern[r.Pattern] = append(s.byPattern[r.Pattern], i)
		} else {
			s.general = append(s.general, i)
		}
		if len(r.AlsoReads) > 0 {
			s.also = append(s.also, Rule{Pattern: r.Pattern, Text: r.Text, AlsoReads: r.AlsoReads})
		}
		s.keeps = s.keeps || r.Caches()
	}
	return s
}

// nameAll gives names to rules that have none: the pattern's ID, or "rule", with a number where that is taken.
func nameAll(list []Rule) {
	taken := map[string]bool{}
	for i := range list {
		list[i].named = list[i].Name != ""
		taken[list[i].Name] = true
	}
	next := map[string]int{}
	for i := range list {
		r := &list[i]
		if r.named {
			continue
		}
		base := string(r.Pattern)
		if base == "" {
			base = "rule"
		}
		r.Name = base
		for taken[r.Name] {
			next[base] = max(next[base], 1) + 1
			r.Name = fmt.Sprintf("%s-%d", base, next[base])
		}
		taken[r.Name] = true
	}
}

// Declarations gives what is declared, in order.
func (s *Set) Declarations() []Declaration {
	if s == nil {
		return nil
	}
	return s.declarations
}

// Functions gives what is declared of functions, by their names.
func (s *Set) Functions() map[string]catalog.Declaration {
	out := map[string]catalog.Declaration{}
	for _, d := range s.Declarations() {
		if d.Function != "" {
			out[d.Function] = d.Declaration
		}
	}
	return out
}

// Declared gives what is declared of a pattern, by declarations and by rules: also by those that hold for some callers
// only, since what it reads does not depend on who asks.
func (s *Set) Declared(id statement.ID, text string) (out catalog.Declaration) {
	if s == nil {
		return out
	}
	for _, d := range s.declarations {
		if d.Pattern == id {
			out.Reads = append(out.Reads, d.Reads...)
			out.Writes = append(out.Writes, d.Writes...)
		}
	}
	for i := range s.also {
		if s.also[i].about(id, text) {
			out.Reads = append(out.Reads, s.also[i].AlsoReads...)
		}
	}
	return out
}

// SameDeclarations says whether two sets declare the same.
func (s *Set) SameDeclarations(o *Set) bool {
	return (reflect.DeepEqual(s.Declarations(), o.Declarations()) || len(s.Declarations()) == 0 && len(o.Declarations()) == 0) &&
		(len(s.also) == 0 && len(o.also) == 0 || reflect.DeepEqual(s.also, o.also))
}

// List gives the rules in their order. They are not to be changed.
func (s *Set) List() []Rule {
	if s == nil {
		return nil
	}
	return s.rules
}

// Named gives the rule of a name, or nil.
func (s *Set) Named(name string) *Rule {
	for i := range s.List() {
		if s.rules[i].Name == name {
			return &s.rules[i]
		}
	}
	return nil
}

// Caches says whether any rule keeps results.
func (s *Set) Caches() bool { return s != nil && s.keeps }

// ParseTTL reads a lifetime: a duration such as 30s or 1h30m, or none.
func ParseTTL(text string) (time.Duration, error) {
	if text == "none" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf(
			"ttl %q: expected a duration above zero such as \"30s\", \"5m\" or \"1h30m\", or \"none\"",
			text,
		)
	}
	return d, nil
}

// FormatTTL writes a lifetime as ParseTTL reads it.
func FormatTTL(d time.Duration) string {
	if d == 0 {
		return "none"
	}
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}
