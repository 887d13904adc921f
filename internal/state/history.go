package state

import (
	"database/sql"
	"encoding/json"
	"slices"
	"time"
)

// Entry is one change of the rules.
type Entry struct {
	ID int64
	At time.Time
	// Kind is apply, undo, redo, file for a file that was changed outside, or start for the rules that a larder began with.
	Kind string
	// Restores is the entry whose rules an undo or a redo put in force, or 0.
	Restores int64
	// Who is the user of the system that did it, and Why what he said.
	Who, Why string
	// Text is the rules file from then on.
	Text []byte
	// Changes says in lines what was changed, and Forecast is what was foretold of it, as JSON or empty.
	Changes  []string
	Forecast string
	// Hour and Day are what came true after so long, as JSON or empty.
	Hour, Day string

	saved bool
}

// mostHistory bounds the history: the oldest entries go first.
const mostHistory = 1000

func (s *Store) load() error {
	rows, err := s.db.Query(
		"select id, at, kind, who, why, text, changes, forecast, hour, day, restores from history order by id",
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		e := Entry{saved: true}
		var at int64
		var changes string
		if err := rows.Scan(&e.ID, &at, &e.Kind, &e.Who, &e.Why, &e.Text, &changes, &e.Forecast, &e.Hour, &e.Day, &e.Restores); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(changes), &e.Changes); err != nil {
			return err
		}
		e.At = time.UnixMilli(at)
		s.history = append(s.history, e)
		s.next = e.ID + 1
	}
	if err := rows.Err(); err != nil {
		return err
	}
	drafts, err := s.db.Query("select who, at, base, text from drafts")
	if err != nil {
		return err
	}
	defer drafts.Close()
	for drafts.Next() {
		var who string
		var at int64
		var d Draft
		if err := drafts.Scan(&who, &at, &d.Base, &d.Text); err != nil {
			return err
		}
		d.At = time.UnixMilli(at)
		s.drafts[who] = d
	}
	if err := drafts.Err(); err != nil {
		return err
	}
	return s.loadChoices()
}

// Add puts an entry at the end of the history and gives its ID.
func (s *Store) Add(e Entry) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	e.ID, e.saved = s.next, false
	s.next++
	s.history = append(s.history, e)
	s.saveEntry(len(s.history) - 1)
	if n := len(s.history) - mostHistory; n > 0 {
		s.history = slices.Delete(s.history, 0, n)
		s.write(func(tx *sql.Tx) error {
			_, err := tx.Exec("delete from history where id < ?", s.history[0].ID)
			return err
		})
	}
	return e.ID
}

func (s *Store) saveEntry(i int) bool {
	e := &s.history[i]
	changes, _ := json.Marshal(e.Changes)
	e.saved = s.write(func(tx *sql.Tx) error {
		_, err := tx.Exec(
			"insert or replace into history values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			e.ID,
			e.At.UnixMilli(),
			e.Kind,
			e.Who,
			e.Why,
			append([]byte{}, e.Text...),
			string(changes),
			e.Forecast,
			e.Hour,
			e.Day,
			e.Restores,
		)
		return err
	})
	return e.saved
}

// Actual notes what came true of an entry after an hour, or after a day.
func (s *Store) Actual(id int64, day bool, measured string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.history {
		if s.history[i].ID != id {
			continue
		}
		if day {
			s.history[i].Day = measured
		} else {
			s.history[i].Hour = measured
		}
		s.saveEntry(i)
	}
}

// History gives the entries, the latest first, so many at most.
func (s *Store) History(most int) []Entry {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := slices.Clone(s.history[max(len(s.history)-most, 0):])
	slices.Reverse(out)
	return out
}

// Entry gives the entry of an ID.
func (s *Store) Entry(id int64) (Entry, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.history {
		if e.ID == id {
			return e, true
		}
	}
	return Entry{}, false
}

// Draft is a rules file that is being prepared.
type Draft struct {
	At time.Time
	// Base is the revision of the rules that it was begun from.
	Base string
	Text []byte
}

// Draft gives somebody's draft, if he has one.
func (s *Store) Draft(who string) (Draft, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, ok := s.drafts[who]
	return d, ok
}

// PutDraft keeps somebody's draft.
func (s *Store) PutDraft(who string, d Draft) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drafts[who] = d
	s.write(func(tx *sql.Tx) error {
		_, err := tx.Exec(
			"insert or replace into drafts values (?, ?, ?, ?)",
			who,
			d.At.UnixMilli(),
			d.Base,
			append([]byte{}, d.Text...),
		)
		return err
	})
}

// RemoveDraft forgets somebody's draft.
func (s *Store) RemoveDraft(who string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.drafts, who)
	s.write(func(tx *sql.Tx) error {
		_, err := tx.Exec("delete from drafts where who = ?", who)
		return err
	})
}
