package control

import (
	"errors"
	"fmt"

	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// RuleList makes the API's view of the rules of a set.
func RuleList(set *rules.Set) []Rule {
	out := []Rule{}
	for i := range set.List() {
		out = append(out, *RuleOf(&set.List()[i]))
	}
	return out
}

// Changes makes the API's view of how two sets differ.
func Changes(before, after *rules.Set) []RuleChange {
	out := []RuleChange{}
	for _, c := range rules.Difference(before, after) {
		x := RuleChange{Kind: c.Kind, Rule: c.Rule}
		if c.Before != nil {
			x.Before = RuleOf(c.Before)
		}
		if c.After != nil {
			x.After = RuleOf(c.After)
		}
		for _, k := range c.Keys {
			x.Keys = append(x.Keys, KeyChange{k.Key, k.Before, k.After})
		}
		out = append(out, x)
	}
	return out
}

// RuleOf makes the API's view of a rule.
func RuleOf(r *rules.Rule) *Rule {
	out := &Rule{
		Name: r.Name, Pattern: string(r.Pattern), Text: r.Text, Tables: r.Tables, OnlyTables: r.OnlyTables, Action: string(r.Action),
		TimeFunctions: r.TimeFunctions, AlsoReads: r.AlsoReads, Refetch: r.Refetch,
		WarmUp: r.WarmUp, AcrossUsers: r.AcrossUsers, Paused: r.Paused, Note: r.Note, Statement: r.Statement,
	}
	if r.TTLOnly {
		out.Mode = rules.TTLOnly
	}
	if r.ReadCommitted {
		out.InTransaction = rules.AsReadCommitted
	}
	if r.SkipEmpty {
		out.EmptyResults = new(bool)
	}
	if r.GoOn {
		out.OnStale = rules.Continue
	}
	if r.ControlSample != 0 {
		share := r.Sample()
		out.ControlSample = &share
	}
	if r.Action == rules.Cache {
		out.TTL = rules.FormatTTL(r.TTL)
	}
	out.Chosen = r.Within() != nil
	if r.SizeLimit > 0 {
		out.SizeLimit = bytesize.Format(int64(r.SizeLimit))
	}
	switch {
	case r.Action == rules.Advised:
		boundsOf(out, r)
	case r.MemoryShare > 0:
		out.MemoryShare = rules.FormatMemory(r.MemoryShare)
	}
	out.When = whenOf(&r.When)
	return out
}

// whenOf makes the API's view of conditions, or nil if there are none.
func whenOf(w *rules.Conditions) *When {
	if w.None() {
		return nil
	}
	out := &When{Application: w.Application, User: w.User, Database: w.Database, Labels: w.Labels}
	if w.Client.IsValid() {
		out.Client = rules.FormatNetwork(w.Client)
	}
	return out
}

// boundsOf fills in what an advised rule says.
func boundsOf(out *Rule, r *rules.Rule) {
	out.MaxTTL, out.NeverTables = rules.FormatTTL(r.TTL), r.NeverTables
	if r.MinSaved > 0 {
		out.MinSaved = r.MinSaved.String()
	}
	if r.MemoryShare > 0 {
		out.MaxMemory = rules.FormatMemory(r.MemoryShare)
	}
	for _, id := range r.NeverPatterns {
		out.NeverPatterns = append(out.NeverPatterns, string(id))
	}
}

// bounds takes what an advised rule says.
func (r *Rule) bounds(out *rules.Rule) (err error) {
	for _, x := range []struct {
		key string
		is  bool
	}{
		{"ttl", r.TTL != ""}, {"mode", r.Mode == rules.TTLOnly}, {"memory_share", r.MemoryShare != ""}, {"time_functions", r.TimeFunctions},
		{"on_stale", r.OnStale == rules.Continue}, {"control_sample", out.ControlSample < 0},
	} {
		if x.is {
			return fmt.Errorf(`%s is not for a rule with action "advised": leave it out`, x.key)
		}
	}
	if r.Name == "" {
		return errors.New(`a rule with action "advised" needs a name, by which the larder's choices are known: enter one`)
	}
	if out.TTL, err = rules.ParseMaxTTL(r.MaxTTL); err != nil {
		return err
	}
	if r.MinSaved != "" {
		if out.MinSaved, err = rules.ParseMinSaved(r.MinSaved); err != nil {
			return err
		}
	}
	if r.MaxMemory != "" {
		if out.MemoryShare, err = rules.ParseMemory(r.MaxMemory); err != nil {
			return fmt.Errorf("max_memory %w", err)
		}
	}
	out.NeverTables = r.NeverTables
	for _, id := range r.NeverPatterns {
		if !statement.ValidID(id) {
			return fmt.Errorf("never_patterns: %q is not a pattern's id: expected three words such as bado-kife-ruma", id)
		}
		out.NeverPatterns = append(out.NeverPatterns, statement.ID(id))
	}
	return nil
}

// Meant gives the rule that the API's view of one stands for.
func (r *Rule) Meant() (out rules.Rule, err error) {
	out = rules.Rule{
		Name: r.Name, Pattern: statement.ID(r.Pattern), Text: r.Text, Tables: r.Tables, OnlyTables: r.OnlyTables, Action: rules.Action(r.Action),
		TTLOnly: r.Mode == rules.TTLOnly, SkipEmpty: r.EmptyResults != nil && !*r.EmptyResults, TimeFunctions: r.TimeFunctions,
		ReadCommitted: r.InTransaction == rules.AsReadCommitted,
		AlsoReads:     r.AlsoReads, Refetch: r.Refetch, WarmUp: r.WarmUp, AcrossUsers: r.AcrossUsers, GoOn: r.OnStale == rules.Continue,
		Paused: r.Paused, Note: r.Note, Statement: r.Statement,
	}
	if err := oneOf("mode", r.Mode, rules.UntilWritten, rules.TTLOnly); err != nil {
		return out, err
	}
	if err := oneOf("in_transaction", r.InTransaction, rules.AsIsolated, rules.AsReadCommitted); err != nil {
		return out, err
	}
	if err := oneOf("on_stale", r.OnStale, rules.Pause, rules.Continue); err != nil {
		return out, err
	}
	if r.Pattern != "" && !statement.ValidID(r.Pattern) {
		return out, fmt.Errorf(
			"%q is not a pattern's id: expected three words such as bado-kife-ruma",
			r.Pattern,
		)
	}
	if share := r.ControlSample; share != nil {
		if !(*share >= 0 && *share <= 1) {
			return out, fmt.Errorf("control_sample %v: expected a share from 0 to 1, such as 0.005", *share)
		}
		if out.ControlSample = *share; *share == 0 {
			out.ControlSample = -1
		}
	}
	if bounds := r.MaxTTL + r.MinSaved + r.MaxMemory; out.Action != rules.Advised && (bounds != "" || r.NeverTables != nil || r.NeverPatterns != nil) {
		return out, errors.New(`max_ttl, min_saved, max_memory, never_tables and never_patterns are bounds for what the larder chooses: expected them only with action "advised"`)
	}
	switch out.Action {
	case rules.Bypass:
	case rules.Cache:
		if out.TTL, err = rules.ParseTTL(r.TTL); err != nil {
			return out, err
		}
	case rules.Advised:
		if err := r.bounds(&out); err != nil {
			return out, err
		}
	default:
		return out, fmt.Errorf(`action %q: expected "cache", "bypass" or "advised"`, r.Action)
	}
	if r.SizeLimit != "" {
		n, err := bytesize.Parse(r.SizeLimit)
		if err != nil {
			return out, fmt.Errorf("size_limit %w", err)
		}
		out.SizeLimit = int(n)
	}
	if r.MemoryShare != "" {
		if out.MemoryShare, err = rules.ParseMemory(r.MemoryShare); err != nil {
			return out, fmt.Errorf("memory_share %w", err)
		}
	}
	if w := r.When; w != nil {
		out.When = rules.Conditions{Application: w.Application, User: w.User, Database: w.Database, Labels: w.Labels}
		if w.Client != "" {
			if out.When.Client, err = rules.ParseNetwork(w.Client); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// oneOf says what is wrong with a value that must be one of two, or empty.
func oneOf(key, value, usual, other string) error {
	if value == "" || value == usual || value == other {
		return nil
	}
	return fmt.Errorf("%s %q: expected %q or %q", key, value, usual, other)
}

// Problems gives what is wrong with a rules file, with its places.
func Problems(err error) (out []FileProblem) {
	var many interface{ Unwrap() []error }
	if errors.As(err, &many) {
		for _, e := range many.Unwrap() {
			out = append(out, Problems(e)...)
		}
		return out
	}
	var at rules.Error
	if errors.As(err, &at) {
		return []FileProblem{{at.Line, at.Column, at.Problem}}
	}
	return []FileProblem{{1, 1, err.Error()}}
}
