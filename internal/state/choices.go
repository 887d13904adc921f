package state

import (
	"database/sql"
	"encoding/json"
	"slices"

	"jollylarder/internal/core/choices"
)

// ChoiceEntry is one decision that the larder made of its own.
type ChoiceEntry struct {
	ID int64
	choices.Change
	// Actual is what came of it; nil while that is not known.
	Actual *choices.Rate
}

// mostChoices bounds the decisions that are remembered: the oldest go first.
const mostChoices = 2000

func (s *Store) loadChoices() error {
	rows, err := s.db.Query("select choice from chosen order by rule, pattern")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		var c choices.Choice
		if err := rows.Scan(&text); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(text), &c); err != nil {
			return err
		}
		s.chosen = append(s.chosen, c)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	list, err := s.db.Query("select id, change, actual from choices order by id")
	if err != nil {
		return err
	}
	defer list.Close()
	for list.Next() {
		var e ChoiceEntry
		var change, actual string
		if err := list.Scan(&e.ID, &change, &actual); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(change), &e.Change); err != nil {
			return err
		}
		if actual != "" {
			if err := json.Unmarshal([]byte(actual), &e.Actual); err != nil {
				return err
			}
		}
		s.choices = append(s.choices, e)
		s.nextOf = e.ID + 1
	}
	return list.Err()
}

// Chosen gives what was chosen when the larder last ran.
func (s *Store) Chosen() []choices.Choice {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.chosen)
}

// PutChosen remembers what is chosen.
func (s *Store) PutChosen(list []choices.Choice) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.chosen = slices.Clone(list)
	s.unsaved = !s.write(s.saveChosen) || s.unsaved
}

func (s *Store) saveChosen(tx *sql.Tx) error {
	if _, err := tx.Exec("delete from chosen"); err != nil {
		return err
	}
	for _, c := range s.chosen {
		text, _ := json.Marshal(c)
		if _, err := tx.Exec("insert into chosen values (?, ?, ?)", c.Rule, string(c.Pattern), string(text)); err != nil {
			return err
		}
	}
	return nil
}

// saveAllChoices writes what is chosen and all decisions, of which some could not be written.
func (s *Store) saveAllChoices(tx *sql.Tx) error {
	if err := s.saveChosen(tx); err != nil {
		return err
	}
	return saveChoices(tx, s.choices)
}

// AddChoices puts decisions at the end of those that are remembered.
func (s *Store) AddChoices(list []choices.Change) {
	s.mu.Lock()
	defer s.mu.Unlock()
	first := len(s.choices)
	for _, c := range list {
		c.Text = shortened(c.Text)
		s.choices = append(s.choices, ChoiceEntry{ID: s.nextOf, Change: c})
		s.nextOf++
	}
	added := slices.Clone(s.choices[first:])
	if n := len(s.choices) - mostChoices; n > 0 {
		s.choices = slices.Delete(s.choices, 0, n)
	}
	oldest := s.nextOf - int64(len(s.choices))
	s.unsaved = !s.write(func(tx *sql.Tx) error {
		if err := saveChoices(tx, added); err != nil {
			return err
		}
		_, err := tx.Exec("delete from choices where id < ?", oldest)
		return err
	}) || s.unsaved
}

// CameOf notes what came of decisions.
func (s *Store) CameOf(list []choices.Outcome) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var changed []ChoiceEntry
	for _, o := range list {
		for i := len(s.choices) - 1; i >= 0; i-- {
			if e := &s.choices[i]; e.Rule == o.Rule && e.Pattern == o.Pattern && e.At.Equal(o.At) {
				e.Actual = &o.Actual
				changed = append(changed, *e)
				break
			}
		}
	}
	s.unsaved = !s.write(func(tx *sql.Tx) error { return saveChoices(tx, changed) }) || s.unsaved
}

func saveChoices(tx *sql.Tx, list []ChoiceEntry) error {
	for i := range list {
		if err := saveChoice(tx, &list[i]); err != nil {
			return err
		}
	}
	return nil
}

func saveChoice(tx *sql.Tx, e *ChoiceEntry) error {
	change, _ := json.Marshal(e.Change)
	actual := ""
	if e.Actual != nil {
		text, _ := json.Marshal(e.Actual)
		actual = string(text)
	}
	_, err := tx.Exec("insert or replace into choices values (?, ?, ?, ?)", e.ID, e.At.UnixMilli(), string(change), actual)
	return err
}

// Choices gives the decisions, the latest first, so many at most.
func (s *Store) Choices(most int) []ChoiceEntry {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := slices.Clone(s.choices[max(len(s.choices)-most, 0):])
	slices.Reverse(out)
	return out
}
