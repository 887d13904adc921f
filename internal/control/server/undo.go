package server

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"

	"jollylarder/internal/control"
	"jollylarder/internal/state"
)

// An undo takes back the last change that is in force, and the next one the change before; a redo puts back what was
// undone last. Entries say which entry's rules an undo or a redo restored: of a run of them, that is where the rules
// stand.

// history is that of the rules, the latest entry first.
type history []state.Entry

// at gives the place of an entry, or the history's length if it is not in it.
func (h history) at(id int64) int {
	at, ok := slices.BinarySearchFunc(h, id, func(e state.Entry, id int64) int { return cmp.Compare(id, e.ID) })
	if !ok {
		return len(h)
	}
	return at
}

// stands gives which entry's own rules are in force after an entry: its own, or those that it restored.
func (h history) stands(at int) int {
	for at < len(h) && h[at].Restores != 0 {
		at = h.at(h[at].Restores)
	}
	return at
}

// entry gives the one at a place, or nil if there is none.
func (h history) entry(at int) *state.Entry {
	if at >= len(h) {
		return nil
	}
	return &h[at]
}

// undo gives the entry whose rules an undo puts in force, or nil.
func (h history) undo() *state.Entry { return h.entry(h.stands(h.stands(0) + 1)) }

// redo gives the entry whose rules a redo puts in force; nil if nothing was undone since the last change.
func (h history) redo() *state.Entry {
	last, now := 0, h.stands(0)
	for last < len(h) && h[last].Restores != 0 {
		last++
	}
	for at := last; now < len(h) && at < len(h) && at != now; {
		before := h.stands(at + 1)
		if before == now {
			return h.entry(at)
		}
		at = before
	}
	return nil
}

// past gives the history of the rules.
func (s *server) past() history { return s.l.Book().State().History(1 << 20) }

// undoable gives the entries that an undo and a redo would go to.
func (s *server) undoable() (undo, redo *control.Entry) {
	h := s.past()
	give := func(e *state.Entry) *control.Entry {
		if e == nil {
			return nil
		}
		out := entry(*e, false)
		return &out
	}
	return give(h.undo()), give(h.redo())
}

// undo goes back to the rules before the last change that is in force, or to an entry of one's choice.
func (s *server) undo(w http.ResponseWriter, r *http.Request) {
	s.restore(w, r, "undo", "back to %d", "there is nothing to undo: the history does not go further back", history.undo)
}

// redo puts what was undone last in force again.
func (s *server) redo(w http.ResponseWriter, r *http.Request) {
	s.restore(w, r, "redo", "%d again", "there is nothing to redo: nothing was undone since the last change", history.redo)
}

// restore puts the rules of an entry of the history in force again: that which is asked for, or else that which find
// gives.
func (s *server) restore(w http.ResponseWriter, r *http.Request, kind, because, nothing string, find func(history) *state.Entry) {
	var in control.Undo
	if !read(w, r, &in) {
		return
	}
	_, revision := s.l.Book().Current()
	if in.Base == "" {
		in.Base = revision
	}
	h := s.past()
	to := h.entry(h.at(in.To))
	switch {
	case in.To == 0:
		if to = find(h); to == nil {
			problem(w, http.StatusConflict, "%s", nothing)
			return
		}
	case to == nil:
		problem(w, http.StatusNotFound, "the history has no entry %d: jollylarder rules history lists them", in.To)
		return
	}
	why := in.Why
	if why == "" {
		why = fmt.Sprintf(because, to.ID)
	}
	s.apply(w, Proposal{Kind: kind, Restores: to.ID, Who: who(r), Why: why, Text: to.Text, Base: in.Base})
}
