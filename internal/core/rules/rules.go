// Package rules holds what the DBA has decided: which patterns' results are kept, and for how long.
package rules

import (
	"fmt"
	"strings"
	"time"

	"jollylarder/internal/core/statement"
)

// Verdict is what a rule says about results of its pattern.
type Verdict string

// The verdicts. A pattern without a rule is not kept either, but may be suggested.
const (
	Keep  Verdict = "keep"
	Never Verdict = "never"
)

// Rule is one decision about one pattern.
type Rule struct {
	Pattern statement.ID
	Verdict Verdict
	// TTL is the longest a result is answered from memory, counted from its fetch; zero is no limit. A write to a
	// table that was read always ends it earlier.
	TTL time.Duration
	// Note says why, for whoever reads it in a year. Statement is the pattern's text, for people; nothing matches by it.
	Note, Statement string
}

// Set is a list of rules in force. It does not change once made. The zero value has no rules.
type Set struct {
	rules     []Rule
	byPattern map[statement.ID]*Rule
}

// NewSet makes a set; the first rule for a pattern decides.
func NewSet(list []Rule) *Set {
	s := &Set{rules: list, byPattern: map[statement.ID]*Rule{}}
	for i := range list {
		if s.byPattern[list[i].Pattern] == nil {
			s.byPattern[list[i].Pattern] = &list[i]
		}
	}
	return s
}

// For gives the rule that decides for a pattern, or nil.
func (s *Set) For(id statement.ID) *Rule {
	if s == nil {
		return nil
	}
	return s.byPattern[id]
}

// List gives the rules in their order.
func (s *Set) List() []Rule {
	if s == nil {
		return nil
	}
	return s.rules
}

// Keeps says whether any rule keeps results.
func (s *Set) Keeps() bool {
	for _, r := range s.List() {
		if r.Verdict == Keep {
			return true
		}
	}
	return false
}

// ParseTTL reads a lifetime: a duration such as 30s or 1h30m, or none.
func ParseTTL(text string) (time.Duration, error) {
	if text == "none" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("ttl %q: expected a duration above zero such as \"30s\", \"5m\" or \"1h30m\", or \"none\"", text)
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
