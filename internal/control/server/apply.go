package server

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/state"
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
	text := "the rules have been changed meanwhile"
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
			err = errors.New("the rules file is what is in force already")
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
			problem(w, http.StatusConflict, "there is no draft of %s's to apply", a.Who)
			return
		}
		a.Text, a.Base = d.Text, d.Base
	}
	s.apply(w, a)
}

// undo goes back to the rules before the last change that is in force, or to an entry of one's choice.
func (s *server) undo(w http.ResponseWriter, r *http.Request) {
	s.restore(w, r, "undo", "back to %d", "there is nothing to undo: the history does not go further back", control.UndoTo)
}

// redo puts what was undone last in force again.
func (s *server) redo(w http.ResponseWriter, r *http.Request) {
	s.restore(w, r, "redo", "%d again", "there is nothing to redo: nothing was undone since the last change", control.RedoTo)
}

// restore puts the rules of an entry of the history in force again: that which is asked for, or else that which find
// gives.
func (s *server) restore(w http.ResponseWriter, r *http.Request, kind, because, nothing string, find func([]control.Entry) *control.Entry) {
	var in control.Undo
	if !read(w, r, &in) {
		return
	}
	_, revision := s.l.Book().Current()
	if in.Base == "" {
		in.Base = revision
	}
	list := s.l.Book().State().History(1 << 20)
	id := in.To
	if id == 0 {
		entries := make([]control.Entry, len(list))
		for i, e := range list {
			entries[i] = control.Entry{ID: e.ID, Restores: e.Restores}
		}
		to := find(entries)
		if to == nil {
			problem(w, http.StatusConflict, "%s", nothing)
			return
		}
		id = to.ID
	}
	at := slices.IndexFunc(list, func(e state.Entry) bool { return e.ID == id })
	if at < 0 {
		problem(w, http.StatusNotFound, "the history has no entry %d: jollylarder rules history lists them", id)
		return
	}
	why := in.Why
	if why == "" {
		why = fmt.Sprintf(because, id)
	}
	s.apply(w, Proposal{Kind: kind, Restores: id, Who: who(r), Why: why, Text: list[at].Text, Base: in.Base})
}
