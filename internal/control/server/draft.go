package server

import (
	"fmt"
	"net/http"
	"slices"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/state"
)

// A draft is a whole rules file, so that comments and order are part of it. Everybody has one of his own, which the
// larder keeps while he is away.

func (s *server) draft(w http.ResponseWriter, r *http.Request) { s.replyDraft(w, who(r)) }

// replyDraft answers with somebody's draft, or with an empty one.
func (s *server) replyDraft(w http.ResponseWriter, whose string) {
	_, revision := s.l.Book().Current()
	d, ok := s.l.Book().State().Draft(whose)
	if !ok {
		reply(
			w,
			control.Draft{
				Base:    revision,
				Changes: []control.RuleChange{},
				Rules:   control.RuleList(s.l.Engine().Rules()),
			},
		)
		return
	}
	out := control.Draft{
		Open:    true,
		At:      d.At,
		Base:    d.Base,
		Text:    string(d.Text),
		Checked: s.checked(d.Text),
		Behind:  d.Base != revision,
		Rules:   []control.Rule{},
		Changes: []control.RuleChange{},
	}
	from := s.l.Engine().Rules()
	if base, ok := s.l.Book().TextOf(d.Base); out.Behind && ok {
		if old, err := rules.Parse(base); err == nil {
			out.Meanwhile = rules.Tell(rules.Difference(old, from))
			from = old
		}
	}
	if set, err := rules.Parse(d.Text); err == nil {
		out.Rules, out.Changes = control.RuleList(set), control.Changes(from, set)
	}
	out.Checked.Changes = nil
	reply(w, out)
}

// current gives somebody's draft, or a fresh one.
func (s *server) current(whose string) state.Draft {
	if d, ok := s.l.Book().State().Draft(whose); ok {
		return d
	}
	text, revision := s.l.Book().Current()
	return state.Draft{Base: revision, Text: text}
}

func (s *server) keepDraft(whose string, d state.Draft) {
	d.At = time.Now()
	s.l.Book().State().PutDraft(whose, d)
}

func (s *server) putDraft(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Text string `json:"text"`
	}
	if !read(w, r, &in) {
		return
	}
	d := s.current(who(r))
	d.Text = []byte(in.Text)
	s.keepDraft(who(r), d)
	s.replyDraft(w, who(r))
}

func (s *server) removeDraft(w http.ResponseWriter, r *http.Request) {
	s.l.Book().State().RemoveDraft(who(r))
	s.replyDraft(w, who(r))
}

// editDraft makes one edit.
func (s *server) editDraft(w http.ResponseWriter, r *http.Request) {
	var in control.Edit
	if !read(w, r, &in) {
		return
	}
	d := s.current(who(r))
	var err error
	switch {
	case in.Put != nil:
		var meant rules.Rule
		if meant, err = in.Put.Meant(); err == nil {
			if err = s.possible(&meant); err == nil {
				d.Text, err = rules.Put(d.Text, in.Name, meant)
			}
		}
	case in.Remove:
		d.Text, err = rules.Remove(d.Text, in.Name)
	case in.Move != 0:
		d.Text, err = rules.Move(d.Text, in.Name, in.Move)
	default:
		err = fmt.Errorf(
			`the edit is empty: expected {"put": …}, {"name": …, "remove": true} or {"name": …, "move": -1}`,
		)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	if now, revision := s.l.Book().Current(); d.Base == revision && string(d.Text) == string(now) {
		s.l.Book().State().RemoveDraft(who(r)) // it says nothing any more
	} else {
		s.keepDraft(who(r), d)
	}
	s.replyDraft(w, who(r))
}

// renewDraft makes the changes of a draft anew, on the rules as they are now.
func (s *server) renewDraft(w http.ResponseWriter, r *http.Request) {
	d, ok := s.l.Book().State().Draft(who(r))
	if !ok {
		problem(w, http.StatusConflict, "there is no draft: PUT /v1/draft makes one")
		return
	}
	text, revision := s.l.Book().Current()
	base, ok := s.l.Book().TextOf(d.Base)
	if !ok {
		problem(
			w,
			http.StatusConflict,
			"the rules that the draft is based on are not known any more: discard the draft and start again",
		)
		return
	}
	next, err := renew(base, d.Text, text)
	if err != nil {
		problem(w, http.StatusConflict, "%v", err)
		return
	}
	s.keepDraft(who(r), state.Draft{Base: revision, Text: next})
	s.replyDraft(w, who(r))
}

// renew makes what leads from one text to another on a third.
func renew(base, draft, text []byte) ([]byte, error) {
	from, err := rules.Parse(base)
	if err != nil {
		return nil, err
	}
	to, err := rules.Parse(draft)
	if err != nil {
		return nil, err
	}
	now, err := rules.Parse(text)
	if err != nil {
		return nil, err
	}
	differences := rules.Difference(from, to)
	for _, c := range differences {
		switch there := now.Named(c.Rule) != nil; {
		case c.Kind == rules.Declared:
			return nil, fmt.Errorf("the draft changes declarations: make these changes again by hand")
		case c.Kind == rules.Removed && there:
			text, err = rules.Remove(text, c.Rule)
		case c.Kind == rules.Added && there, c.Kind == rules.Changed && there:
			text, err = rules.Put(text, c.Rule, *c.After)
		case c.Kind == rules.Added:
			text, err = rules.Put(text, "", *c.After)
		case c.Kind == rules.Changed:
			return nil, fmt.Errorf("the draft changes the rule %s, which was removed in the meantime: discard that change, or add the rule again", c.Rule)
		}
		if err != nil {
			return nil, err
		}
	}
	for _, c := range differences { // the first rule that matches decides: each stands behind the one it stood behind in the draft
		if c.Kind == rules.Added || c.Kind == rules.Moved {
			if text, err = behind(text, c.Rule, to); err != nil {
				return nil, err
			}
		}
	}
	return text, nil
}

// behind moves a rule to where it stands in a draft: right behind the nearest of those before it that is in the text.
func behind(text []byte, name string, draft *rules.Set) ([]byte, error) {
	now, err := rules.Parse(text)
	if err != nil {
		return nil, err
	}
	place := func(set *rules.Set, name string) int {
		return slices.IndexFunc(set.List(), func(r rules.Rule) bool { return r.Name == name })
	}
	at, to := place(now, name), 0
	if at < 0 { // it was removed meanwhile
		return text, nil
	}
	for i := place(draft, name) - 1; i >= 0; i-- {
		if before := place(now, draft.List()[i].Name); before >= 0 {
			if to = before + 1; before > at {
				to = before // which moves up when this one is taken out
			}
			break
		}
	}
	return rules.Move(text, name, to-at)
}
