package server

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/rules"
)

// Proposal is a text that is to be put in force.
type Proposal struct {
	// Kind is as in state.Entry; a file that was changed outside is taken as it is, with no regard to Base.
	Kind, Who, Why string
	// Restores is the entry whose rules an undo or a redo puts in force.
	Restores int64
	Text     []byte
	// Base is the revision that the text was made from.
	Base string
	// Forecast is what was foretold of it, as JSON, or empty.
	Forecast string
}

// ConflictError says that the rules have become others since a text was begun from them.
type ConflictError struct {
	Who     string
	At      time.Time
	Changes []string
}

func (e *ConflictError) Error() string {
	text := "the rules were changed in the meantime"
	if e.Who != "" {
		text += fmt.Sprintf(" by %s at %s", e.Who, e.At.Local().Format("15:04:05"))
	}
	for _, c := range e.Changes {
		text += "; " + c
	}
	return text + ": nothing was applied. Take these changes into the draft, or discard it"
}

// putRule makes or replaces one rule at once, and removeRule removes one.
func (s *server) putRule(w http.ResponseWriter, r *http.Request) {
	var in struct {
		control.Rule
		Why string `json:"why"`
	}
	if !read(w, r, &in) {
		return
	}
	name := r.PathValue("name")
	if in.Pattern == "" && in.Text == "" && in.Tables == nil && in.OnlyTables == nil && in.When == nil {
		in.Pattern = name
	}
	if in.Action == string(rules.Advised) && in.Name == "" {
		in.Name = name
	}
	meant, err := in.Rule.Meant()
	if err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	if err := s.possible(&meant); err != nil {
		problem(w, http.StatusConflict, "%v", err)
		return
	}
	if in.Why == "" {
		in.Why = in.Note
	}
	if s.l.Engine().Rules().Named(name) == nil {
		if meant.Name == "" && name != string(meant.Pattern) {
			meant.Name = name
		}
		name = ""
	}
	s.change(w, r, in.Why, func(text []byte) ([]byte, error) { return rules.Put(text, name, meant) })
}

func (s *server) removeRule(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("name")
	if s.l.Engine().Rules().Named(name) == nil {
		problem(w, http.StatusNotFound, "there is no rule %s", name)
		return
	}
	s.change(w, r, r.URL.Query().Get("why"), func(text []byte) ([]byte, error) { return rules.Remove(text, name) })
}

func (s *server) pauseRule(w http.ResponseWriter, r *http.Request) {
	var in struct {
		On  bool   `json:"on"`
		Why string `json:"why"`
	}
	if !read(w, r, &in) {
		return
	}
	have := s.l.Engine().Rules().Named(r.PathValue("name"))
	if have == nil {
		problem(w, http.StatusNotFound, "there is no rule %s", r.PathValue("name"))
		return
	}
	changed := *have
	changed.Paused = in.On
	s.change(w, r, in.Why, func(text []byte) ([]byte, error) { return rules.Put(text, have.Name, changed) })
}

// change applies an edit of the rules in force at once.
func (s *server) change(w http.ResponseWriter, r *http.Request, why string, edit func([]byte) ([]byte, error)) {
	text, revision := s.l.Book().Current()
	next, err := edit(text)
	if err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	s.apply(w, Proposal{Kind: "apply", Who: who(r), Why: why, Text: next, Base: revision})
}

func (s *server) apply(w http.ResponseWriter, a Proposal) {
	a.Forecast = s.forecasts.of(a.Text)
	e, err := s.l.Book().Apply(a)
	var conflict *ConflictError
	switch {
	case errors.As(err, &conflict):
		problem(w, http.StatusConflict, "%v", err)
	case err != nil:
		problem(w, http.StatusBadRequest, "%v", err)
	default:
		out := entry(e, false)
		out.Unchanged = e.ID == 0
		reply(w, out)
	}
}

// applyText puts a text in force: one that is given, the caller's draft, or what somebody made of the file outside.
func (s *server) applyText(w http.ResponseWriter, r *http.Request) {
	var in control.Apply
	if !read(w, r, &in) {
		return
	}
	a := Proposal{Kind: "apply", Who: who(r), Why: in.Why, Base: in.Base}
	_, revision := s.l.Book().Current()
	switch {
	case in.File:
		text, changed, err := s.l.Book().Outside()
		if err == nil && !changed {
			err = errors.New("the rules file equals the rules in force: there is nothing to apply")
		}
		if err != nil {
			problem(w, http.StatusConflict, "%v", err)
			return
		}
		a.Kind, a.Text = "file", text
	case in.Text != nil:
		a.Text = []byte(*in.Text)
		if a.Base == "" {
			a.Base = revision
		}
	default:
		d, ok := s.l.Book().State().Draft(a.Who)
		if !ok {
			problem(w, http.StatusConflict, "there is no draft of %s's to apply: PUT /v1/draft makes one", a.Who)
			return
		}
		a.Text, a.Base = d.Text, d.Base
	}
	s.apply(w, a)
}
