package state

import (
	"database/sql"
	"encoding/json"
	"time"
)

// Rollup is the numbers of one pattern over one step of time. The empty pattern stands for everything, and Others for the
// patterns that are not told apart.
type Rollup struct {
	At      time.Time
	Pattern string
	// Text is the pattern's, for when it is not known any more.
	Text string

	Calls, Hits, Misses, Passes, Writes, Drops uint64
	Waited, Spared                             time.Duration
}

// Others is the name under which patterns beyond the bound are summed.
const Others = "(others)"

// PatternsEach is how many patterns are told apart in one step.
const PatternsEach = 200

// The steps of time, in seconds, and for how long numbers are kept in each: at most some 550,000 rows.
var steps = []struct{ step, keep int64 }{{60, 24 * 3600}, {3600, 30 * 24 * 3600}, {24 * 3600, 2 * 365 * 24 * 3600}}

// AddRollups adds the numbers of a minute. Those that have become old are added up to hours, and then to days.
func (s *Store) AddRollups(rows []Rollup, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		for _, r := range rows {
			for _, st := range steps {
				at := r.At.Unix() / st.step * st.step
				if _, err := tx.Exec(`insert into rollups values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
					on conflict (step, at, pattern) do update set calls = calls + excluded.calls, hits = hits + excluded.hits, misses = misses + excluded.misses,
					passes = passes + excluded.passes, writes = writes + excluded.writes, drops = drops + excluded.drops,
					waited = waited + excluded.waited, spared = spared + excluded.spared`,
					st.step, at, r.Pattern, r.Calls, r.Hits, r.Misses, r.Passes, r.Writes, r.Drops, r.Waited.Microseconds(), r.Spared.Microseconds()); err != nil {
					return err
				}
			}
			if r.Text != "" {
				if _, err := tx.Exec("insert or ignore into patterns values (?, ?)", r.Pattern, r.Text); err != nil {
					return err
				}
			}
		}
		return thin(tx, now)
	})
}

// thin takes out what is kept in coarser steps alone from now on, and what of those is too much.
func thin(tx *sql.Tx, now time.Time) error {
	for i, st := range steps {
		if _, err := tx.Exec("delete from rollups where step = ? and at < ?", st.step, now.Unix()-st.keep); err != nil {
			return err
		}
		if i == 0 || now.Unix()%3600 >= 60 {
			continue
		}
		// Each step has its patterns told apart anew: of those that came in over time, the ones waited for most remain.
		if _, err := tx.Exec(`delete from rollups where step = ?1 and at >= ?2 and pattern <> '' and pattern <> ?3 and (step, at, pattern) not in
			(select step, at, pattern from (select step, at, pattern, row_number() over (partition by at order by waited + spared desc) as place
			from rollups where step = ?1 and at >= ?2 and pattern <> '' and pattern <> ?3) where place <= ?4)`,
			st.step, now.Unix()-2*st.step, Others, PatternsEach); err != nil {
			return err
		}
	}
	_, err := tx.Exec("delete from patterns where ? % 86400 < 60 and id not in (select pattern from rollups)", now.Unix())
	return err
}

// Sum gives the numbers of a pattern, or of everything for "", from a time on up to another, in steps of minutes; and how many
// minutes there are numbers of.
func (s *Store) Sum(pattern string, from, to time.Time) (sum Rollup, minutes int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return sum, 0
	}
	var waited, spared int64
	err := s.db.QueryRow(`select count(*), coalesce(sum(calls), 0), coalesce(sum(hits), 0), coalesce(sum(misses), 0), coalesce(sum(passes), 0), coalesce(sum(writes), 0),
		coalesce(sum(drops), 0), coalesce(sum(waited), 0), coalesce(sum(spared), 0) from rollups where step = 60 and pattern = ? and at >= ? and at < ?`,
		pattern, from.Unix(), to.Unix()).Scan(&minutes, &sum.Calls, &sum.Hits, &sum.Misses, &sum.Passes, &sum.Writes, &sum.Drops, &waited, &spared)
	if err != nil {
		return Rollup{}, 0
	}
	sum.Waited, sum.Spared = time.Duration(waited)*time.Microsecond, time.Duration(spared)*time.Microsecond
	return sum, minutes
}

// PutInputs remembers the keys of results that are to be fetched at the start by a rule. They hold values.
func (s *Store) PutInputs(rule string, keys []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		if _, err := tx.Exec("delete from inputs where rule = ?", rule); err != nil {
			return err
		}
		for i, k := range keys {
			if _, err := tx.Exec("insert into inputs values (?, ?, ?)", rule, i, []byte(k)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Inputs gives what PutInputs remembered for a rule, and ForgetInputs forgets it but for some rules.
func (s *Store) Inputs(rule string) (keys []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return nil
	}
	rows, err := s.db.Query("select key from inputs where rule = ? order by place", rule)
	if err != nil {
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var k []byte
		if rows.Scan(&k) == nil {
			keys = append(keys, string(k))
		}
	}
	return keys
}

// ForgetInputs is described at Inputs.
func (s *Store) ForgetInputs(but []string) {
	list, _ := json.Marshal(append([]string{}, but...))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		_, err := tx.Exec("delete from inputs where rule not in (select value from json_each(?))", string(list))
		return err
	})
}
