// Package state holds what a larder remembers beyond its end, in one SQLite file: the history of its rules, drafts,
// numbers per pattern and minute, and, where that is allowed, the inputs to fetch at the start. No kept result is in
// it.
//
// Traffic never waits for it. What cannot be written is kept in memory and tried again; Problem says that it is so.
package state

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver

	"jollylarder/internal/core/choices"
)

// FileName is the file's name in the directory for state.
const FileName = "larder.db"

// Store is safe for concurrent use.
type Store struct {
	mu      sync.Mutex
	db      *sql.DB
	lasting bool // it is a file
	problem string
	notice  string

	history []Entry // the oldest first
	drafts  map[string]Draft
	next    int64

	chosen  []choices.Choice
	choices []ChoiceEntry // the oldest first
	nextOf  int64         // choice
	unsaved bool          // some of these could not be written
}

// Open opens the state in a directory, or one that ends with the program if dir is empty. A file that cannot be read is
// set aside, and a fresh one begun; a directory that cannot be written leaves the state in memory. Neither is an error:
// Notice and Problem say so.
func Open(dir string, now time.Time) *Store {
	s := &Store{drafts: map[string]Draft{}, next: 1, nextOf: 1}
	if dir == "" {
		s.inMemory()
		return s
	}
	path := filepath.Join(dir, FileName)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		s.problem = fmt.Sprintf("the directory for state cannot be made: %v", err)
		return s
	}
	err := s.open(path)
	var damaged *damagedError
	if errors.As(err, &damaged) {
		aside := fmt.Sprintf("%s.damaged-%s", path, now.UTC().Format("20060102-150405"))
		if err = os.Rename(path, aside); err == nil {
			for _, more := range []string{"-wal", "-shm"} {
				if e := os.Rename(path+more, aside+more); e != nil && !errors.Is(e, fs.ErrNotExist) {
					err = e
				}
			}
		}
		if err == nil {
			s.notice = fmt.Sprintf(
				"the state file was damaged (%v) and was renamed to %s; a new one was started",
				damaged.err,
				aside,
			)
			err = s.open(path)
		}
	}
	if err != nil {
		s.problem = fmt.Sprintf("the state in %s cannot be opened: %v", path, err)
	}
	return s
}

// damagedError is what is wrong with a file that is no state file, or no longer.
type damagedError struct{ err error }

func (e *damagedError) Error() string { return e.err.Error() }

func (s *Store) open(path string) (err error) {
	_, statErr := os.Stat(path)
	fresh := errors.Is(statErr, fs.ErrNotExist)
	db, err := sql.Open(
		"sqlite",
		"file:"+path+"?_pragma=busy_timeout(2000)&_pragma=journal_mode(wal)&_pragma=synchronous(full)"+
			fmt.Sprintf("&_pragma=page_size(%d)&_pragma=max_page_count(%d)", pageSize, mostBytes/pageSize),
	)
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	defer func() {
		if err != nil {
			db.Close()
		}
	}()
	if !fresh {
		var check string
		var have int
		if err := db.QueryRow("pragma quick_check(1)").Scan(&check); err != nil || check != "ok" {
			if f, e := os.Open(path); e != nil {
				return e // it may not be read at all
			} else {
				f.Close()
			}
			return &damagedError{errors.Join(err, errors.New(check))}
		}
		if err := db.QueryRow("pragma user_version").Scan(&have); err != nil {
			return &damagedError{err}
		}
		if have > len(migrations) {
			return fmt.Errorf("it was written by a newer version of the larder: use that one, or another directory with --state")
		}
	}
	if err := migrate(db, len(migrations)); err != nil {
		return err
	}
	for _, name := range []string{"", "-wal", "-shm"} { // the directory may be another's, and open to others
		if err := os.Chmod(path+name, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	s.db, s.lasting = db, true
	if err := s.load(); err != nil {
		s.db, s.history, s.drafts, s.chosen, s.choices = nil, nil, map[string]Draft{}, nil, nil
		return &damagedError{err}
	}
	return nil
}

// inMemory has numbers end with the program, where there is no file for them.
func (s *Store) inMemory() {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return
	}
	db.SetMaxOpenConns(1) // each has a memory of its own
	if migrate(db, len(migrations)) != nil {
		db.Close()
		return
	}
	s.db = db
}

// Close writes what is still to be written, and closes the file.
func (s *Store) Close() {
	s.Flush()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db != nil {
		s.db.Close()
		s.db = nil
	}
}

// Problem says why the state is not written at present, or is empty.
func (s *Store) Problem() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.problem
}

// Notice says what happened when it was opened, or is empty.
func (s *Store) Notice() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.notice
}

// Lasting says whether there is a file that outlasts the program.
func (s *Store) Lasting() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lasting
}

// write does something to the file, if there is one, and notes whether that worked. It is called with mu held.
func (s *Store) write(f func(*sql.Tx) error) bool {
	if s.db == nil {
		return false
	}
	tx, err := s.db.Begin()
	if err == nil {
		if err = f(tx); err == nil {
			err = tx.Commit()
		} else {
			_ = tx.Rollback()
		}
	}
	if err != nil {
		s.problem = fmt.Sprintf(
			"the state cannot be written: %v; what happens is remembered in memory, and written when that works again",
			err,
		)
		return false
	}
	s.problem = ""
	return true
}

// Flush tries again to write what could not be written.
func (s *Store) Flush() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.history {
		if !s.history[i].saved && !s.saveEntry(i) {
			return
		}
	}
	if s.unsaved {
		s.unsaved = !s.write(s.saveAllChoices)
	}
}
