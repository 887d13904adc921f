package server

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/state"
)

// Book is the rules in force, and what leads to others.
type Book interface {
	// Current gives the rules file's text that is in force, and its revision, which is another for every text.
	Current() (text []byte, revision string)
	// Outside gives the text of the file where it is another than that, because somebody edited it; or why it cannot be
	// taken.
	Outside() (text []byte, changed bool, problem error)
	// Apply puts a text in force, for all connections at once, and writes it to the file and the history. If it is in
	// force already, nothing is done, and the entry has no ID.
	Apply(Proposal) (state.Entry, error)
	// TextOf gives the text of a revision, if it is remembered.
	TextOf(revision string) ([]byte, bool)
	// State is where history and drafts are.
	State() *state.Store
	// Chosen gives what the larder has chosen within advised rules, and what rests; Brought gives what one of these choices
	// has brought since it was last changed, of a pattern of which so much was counted in all.
	Chosen() []choices.Choice
	Brought(rule string, id statement.ID, total ledger.Sums) (choices.Rate, bool)
	// Against says why the larder does not choose a pattern that a rule leaves to it; it is empty where nothing speaks against
	// that.
	Against(*engine.Pattern) string
	// Advised gives a set with what the larder would choose within its advised rules.
	Advised(*rules.Set) *rules.Set
	// Since gives what was counted since the rules in force were put in force, and how long that is.
	Since() (sums ledger.Sums, drops uint64, length time.Duration)
}

// book answers what the rules are.
func (s *server) rules(w http.ResponseWriter, r *http.Request) {
	text, revision := s.l.Book().Current()
	set := s.l.Engine().Rules()
	out := control.RuleBook{Revision: revision, Text: string(text), Rules: control.RuleList(set), Reach: s.done(s.reach(text, set), set)}
	out.Undo, out.Redo = s.undoable()
	out.File = s.ruleFile()
	out.Outside = s.outside(set)
	if name := r.URL.Query().Get("hour"); name != "" {
		out.HourOf = name
		out.Hour = s.calls(state.Rule, name)
	}
	reply(w, out)
}

func (s *server) ruleFile() string {
	var st control.Status
	s.l.Describe(&st)
	return st.RulesAt
}

// outside says what somebody else made of the file.
func (s *server) outside(set *rules.Set) *control.Outside {
	text, changed, err := s.l.Book().Outside()
	switch {
	case err != nil:
		return &control.Outside{Problem: err.Error()}
	case !changed:
		return nil
	}
	now, err := rules.Parse(text)
	if err != nil {
		return &control.Outside{Problem: err.Error()}
	}
	return &control.Outside{Changes: control.Changes(set, now), Lines: rules.Tell(rules.Difference(set, now))}
}

// possible says what speaks against a rule that keeps one pattern: it cannot be kept.
func (s *server) possible(r *rules.Rule) error {
	p := s.l.Engine().Pattern(r.Pattern)
	if p == nil {
		return nil
	}
	if r.Statement == "" {
		r.Statement = p.Text
	}
	does := s.l.Engine().Does(p)
	if r.Action == rules.Cache && len(does.Reasons) > 0 && !p.Unsure() && !(r.TimeFunctions && does.OfTime) {
		return fmt.Errorf("the pattern %s cannot be cached: %s", r.Pattern, does.Reasons[0].String())
	}
	return nil
}

// check says what is wrong with a rules file's text, and what it would change.
func (s *server) check(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Text string `json:"text"`
	}
	if !read(w, r, &in) {
		return
	}
	reply(w, s.checked([]byte(in.Text)))
}

func (s *server) checked(text []byte) control.Checked {
	set, err := rules.Parse(text)
	if err != nil {
		return control.Checked{Problems: control.Problems(err)}
	}
	now := s.l.Engine().Rules()
	out := control.Checked{
		Rules:   len(set.List()),
		Changes: control.Changes(now, set),
		Lines:   rules.Tell(rules.Difference(now, set)),
	}
	var st control.Status
	s.l.Describe(&st)
	doubted := map[string]bool{}
	for _, d := range set.Doubts() {
		out.Warnings = append(out.Warnings, "rule "+d.Rule+": "+d.Text)
		doubted[d.Rule] = true
	}
	reach, missing := s.reach(text, set), s.missingTables()
	for i := range set.List() {
		r := &set.List()[i]
		warn := func(text string) { out.Warnings = append(out.Warnings, "rule "+r.Name+": "+text) }
		if text := idle(r, reach[i], missing); text != "" && !doubted[r.Name] {
			warn(text)
		}
		if none := missing(slices.Clone(r.NeverTables)); len(none) > 0 {
			warn("never_tables names a table that no database has: " + strings.Join(none, ", "))
		}
		if (r.Refetch || r.WarmUp > 0) && len(st.Fetching) == 0 {
			warn("nothing is fetched ahead: set an account in [origin.fetch] of the configuration")
		}
		if r.WarmUp > 0 && !st.StoresValues {
			warn("warm_up has no effect: set store_values = true in the configuration")
		}
		if r.Pattern == "" {
			continue
		}
		if s.l.Engine().Pattern(r.Pattern) == nil {
			warn(fmt.Sprintf("no pattern %s was seen yet; the rule applies when it is", r.Pattern))
		} else if err := s.possible(r); err != nil {
			warn(err.Error())
		}
	}
	return out
}
