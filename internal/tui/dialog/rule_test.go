package dialog

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/control"
)

// anyText is whatever a rules file may hold, commas, line breaks and long texts among it.
func anyText(t *rapid.T, name string) string {
	return rapid.OneOf(
		rapid.Just(""),
		rapid.SampledFrom([]string{"fares", "a, b", "page=1,2", "two\nlines", "Skær", "select * from fares*"}),
		rapid.Just(strings.Repeat("fares ", 200)+"end"),
	).Draw(t, name)
}

func anyRule(t *rapid.T) control.Rule {
	r := control.Rule{
		Action:        rapid.SampledFrom([]string{"cache", "bypass"}).Draw(t, "action"),
		TTL:           rapid.SampledFrom([]string{"30s", "none", "7m", "1h"}).Draw(t, "ttl"),
		Name:          anyText(t, "name"),
		Pattern:       anyText(t, "pattern"),
		Text:          anyText(t, "text"),
		Note:          anyText(t, "note"),
		SizeLimit:     anyText(t, "size_limit"),
		MemoryShare:   anyText(t, "memory_share"),
		Tables:        rapid.SampledFrom([][]string{nil, {"fares"}, {"a", "b"}, {"odd, name"}}).Draw(t, "tables"),
		OnlyTables:    rapid.SampledFrom([][]string{nil, {"fares"}}).Draw(t, "only tables"),
		AlsoReads:     rapid.SampledFrom([][]string{nil, {"fares"}}).Draw(t, "also reads"),
		Mode:          rapid.SampledFrom([]string{"", "until written", "ttl only"}).Draw(t, "mode"),
		EmptyResults:  rapid.SampledFrom([]*bool{nil, new(bool)}).Draw(t, "empty_results"),
		TimeFunctions: rapid.Bool().Draw(t, "accept time"),
		Refetch:       rapid.Bool().Draw(t, "fetch again"),
		AcrossUsers:   rapid.Bool().Draw(t, "across_users"),
		OnStale:       rapid.SampledFrom([]string{"", "pause", "continue"}).Draw(t, "on_stale"),
		Paused:        rapid.Bool().Draw(t, "paused"),
		WarmUp:        rapid.IntRange(0, 5).Draw(t, "at start"),
		Statement:     anyText(t, "statement"),
	}
	if rapid.Bool().Draw(t, "sampled") {
		x := rapid.Float64Range(0, 1).Draw(t, "sample")
		r.ControlSample = &x
	}
	if rapid.Bool().Draw(t, "when") {
		r.When = &control.When{
			Application: rapid.SampledFrom([]string{"tickets", "boards, north"}).Draw(t, "application"),
			Labels:      rapid.SampledFrom([]map[string]string{nil, {"page": "1,2"}, {"a": "b", "c": "d=e"}}).Draw(t, "labels"),
		}
	}
	return r
}

// What is not edited stays as it is, whichever lines are looked at on the way: a form that cannot say all that a rules
// file can must not lose it.
func TestARuleThatIsOnlyLookedAtStaysAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := anyRule(t)
		var got *control.Rule
		f := NewRuleForm("The rule", r, func(x control.Rule) tea.Cmd { got = &x; return nil })
		for range rapid.IntRange(0, 40).Draw(t, "moves") {
			f.Update(tea.KeyPressMsg{Code: rapid.SampledFrom([]rune{tea.KeyDown, tea.KeyUp}).Draw(t, "move")})
		}
		over, _ := f.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		require.True(t, over, "%s", f.wrong)
		assert.Equal(t, r, *got)
	})
}

// One line that is written changes what it says, and nothing else; the rule that the form was made of is never altered.
func TestALineThatIsWrittenChangesWhatItSays(t *testing.T) {
	for name, x := range map[string]struct {
		writes string
		into   func(*control.Rule)
	}{
		"note":           {"asked for", func(r *control.Rule) { r.Note = "asked for" }},
		"pattern":        {"bado-kife-ruma", func(r *control.Rule) { r.Pattern, r.Statement = "bado-kife-ruma", "" }},
		"tables":         {"fares, ports", func(r *control.Rule) { r.Tables = []string{"fares", "ports"} }},
		"application":    {"boards", func(r *control.Rule) { r.When = &control.When{Application: "boards"} }},
		"label":          {"screen=departures", func(r *control.Rule) { r.When = &control.When{Labels: map[string]string{"screen": "departures"}} }},
		"warm_up":        {"20", func(r *control.Rule) { r.WarmUp = 20 }},
		"control_sample": {"0.5", func(r *control.Rule) { x := 0.5; r.ControlSample = &x }},
	} {
		t.Run(name, func(t *testing.T) {
			before := control.Rule{Name: "fares", Action: "cache", TTL: "30s", Text: "*", Statement: "select 1"}
			r := before
			var got *control.Rule
			f := NewRuleForm("The rule", r, func(x control.Rule) tea.Cmd { got = &x; return nil })
			for f.lines[f.at].Name != name {
				f.Update(tea.KeyPressMsg{Code: tea.KeyDown})
			}
			for _, c := range x.writes {
				f.Update(tea.KeyPressMsg{Code: c, Text: string(c)})
			}
			over, _ := f.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
			require.True(t, over, "%s", f.wrong)
			want := before
			x.into(&want)
			assert.Equal(t, want, *got)
			assert.Equal(t, before, r)
		})
	}
}

// What is wrong is said, and the form stays.
func TestAFormSaysWhatIsWrong(t *testing.T) {
	for name, x := range map[string]struct{ writes, says string }{
		"label":          {"screen", `label: expected key=value, not "screen"`},
		"warm_up":        {"many", `warm_up: expected a number, not "many"`},
		"control_sample": {"half", `control_sample: expected a number such as 0.005, not "half"`},
	} {
		f := NewRuleForm("The rule", control.Rule{Action: "cache"}, func(control.Rule) tea.Cmd { return nil })
		for f.lines[f.at].Name != name {
			f.Update(tea.KeyPressMsg{Code: tea.KeyDown})
		}
		for _, c := range x.writes {
			f.Update(tea.KeyPressMsg{Code: c, Text: string(c)})
		}
		over, _ := f.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		assert.False(t, over)
		assert.Equal(t, x.says, f.wrong)
	}
}
