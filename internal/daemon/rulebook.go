package daemon

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/state"
)

// ruleBook is the rules in force, their file and their history. It is a controlserver.Book.
type ruleBook struct {
	engine *larder.Larder
	state  *state.Store

	choosing sync.Mutex // of the chooser; apply is locked before it
	chooser  *choices.Chooser

	apply sync.Mutex // held while rules are put in force, so that it is done by one at a time

	mu       sync.Mutex
	path     string // of the rules file, or empty for none
	text     []byte // in force
	revision string
	seen     []byte // what was last found in the file, where that is another text
	changed  bool   // it is another
	problem  error  // why it cannot be taken

	at    time.Time // when the rules in force were put in force, and what had been counted then
	sums  ledger.Sums
	drops uint64
}

// inForce notes when rules were put in force. It is called with mu held.
func (b *ruleBook) inForce() {
	b.at, b.sums, b.drops = time.Now(), b.engine.Ledger.Total.Total(), b.engine.Ledger.Drops.Load()
}

// Since implements controlserver.Book.
func (b *ruleBook) Since() (sums ledger.Sums, drops uint64, length time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.engine.Ledger.Total.Total().Minus(b.sums), b.engine.Ledger.Drops.Load() - b.drops, time.Since(b.at)
}

// revisionOf names a text.
func revisionOf(text []byte) string {
	sum := sha256.Sum256(text)
	return fmt.Sprintf("%x", sum[:6])
}

// readRules reads a rules file, if there is one.
func readRules(path string) (text []byte, set *rules.Set, err error) {
	if path == "" {
		return nil, rules.NewSet(nil), nil
	}
	text, err = readRulesFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, rules.NewSet(nil), nil
	case err != nil:
		return nil, nil, fmt.Errorf("cannot read the rules: %w", err)
	}
	if set, err = rules.Parse(text); err != nil {
		return nil, nil, fmt.Errorf("the rules file %s is wrong:\n%w", path, err)
	}
	return text, set, nil
}

// largestRules is the largest rules file that is read, in bytes.
const largestRules = 16 << 20

// readRulesFile reads a rules file, unless it can be none for its size.
func readRulesFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, largestRules+1))
	if err == nil && len(text) > largestRules {
		return nil, fmt.Errorf("%s is larger than %d MiB: expected a rules file, as docs/rules.md describes", path, largestRules>>20)
	}
	return text, err
}

// begin puts the rules in force that a larder starts with, or that it was told to read again. If they are others than
// those last remembered, that is put into the history.
func (b *ruleBook) begin(path string, text []byte, set *rules.Set, kind string) {
	b.apply.Lock()
	defer b.apply.Unlock()
	before := b.engine.Rules()
	b.put(set)
	b.mu.Lock()
	if now := revisionOf(text); now != b.revision {
		b.revision = now
		b.inForce()
	}
	b.path, b.text = path, text
	b.changed, b.problem, b.seen = false, nil, nil
	b.mu.Unlock()
	last := b.state.History(1)
	if len(last) == 1 && bytes.Equal(last[0].Text, text) {
		return // the history begins with what there was, so that the first change can be undone as well
	}
	if len(last) == 1 {
		if old, err := rules.Parse(last[0].Text); err == nil {
			before = old
		}
	}
	b.state.Add(
		state.Entry{
			At:      time.Now(),
			Kind:    kind,
			Who:     "the rules file",
			Why:     map[string]string{"start": "as it was found at the start", "file": "read again"}[kind],
			Text:    text,
			Changes: rules.Tell(rules.Difference(before, set)),
		},
	)
}

// Current implements controlserver.Book.
func (b *ruleBook) Current() (text []byte, revision string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text, b.revision
}

// State implements controlserver.Book.
func (b *ruleBook) State() *state.Store { return b.state }

// TextOf implements controlserver.Book.
func (b *ruleBook) TextOf(revision string) ([]byte, bool) {
	if text, now := b.Current(); now == revision {
		return text, true
	}
	for _, e := range b.state.History(1 << 20) {
		if revisionOf(e.Text) == revision {
			return e.Text, true
		}
	}
	return nil, false
}

// Outside implements controlserver.Book.
func (b *ruleBook) Outside() (text []byte, changed bool, problem error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.seen, b.changed, b.problem
}

// look looks whether somebody has edited the file. It says whether there is something new that could be taken.
func (b *ruleBook) look() (takeable bool) {
	b.apply.Lock() // not while it is being written
	defer b.apply.Unlock()
	b.mu.Lock()
	path, text, seen := b.path, b.text, b.seen
	b.mu.Unlock()
	if path == "" {
		return false
	}
	now, err := readRulesFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		now, err = nil, nil
	}
	changed := err == nil && !bytes.Equal(now, text)
	fresh := changed && !bytes.Equal(now, seen)
	if changed {
		if _, wrong := rules.Parse(now); wrong != nil {
			err = fmt.Errorf("the rules file %s was edited, and is wrong:\n%w", path, wrong)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changed, b.problem, b.seen = changed && err == nil, err, nil
	if changed {
		b.seen = now
	}
	return b.changed && fresh
}

// Apply implements controlserver.Book. The file is written first: if that fails, nothing has changed.
func (b *ruleBook) Apply(a controlserver.Proposal) (state.Entry, error) {
	b.apply.Lock()
	defer b.apply.Unlock()
	b.mu.Lock()
	path, revision, text, seen := b.path, b.revision, b.text, b.seen
	b.mu.Unlock()
	set, err := rules.Parse(a.Text)
	if err != nil {
		return state.Entry{}, err
	}
	if bytes.Equal(a.Text, text) {
		b.state.RemoveDraft(a.Who) // it says nothing
		return state.Entry{}, nil
	}
	before := b.engine.Rules()
	if a.Kind != "file" {
		if a.Base != revision {
			return state.Entry{}, b.conflict(a.Base, before)
		}
		if path != "" {
			if err := b.write(path, a.Text, text); err != nil {
				return state.Entry{}, err
			}
		}
	} else if !bytes.Equal(a.Text, seen) {
		return state.Entry{}, errors.New("the rules file was changed again at this moment: look at it once more")
	}
	b.put(set)
	b.mu.Lock()
	b.text, b.revision = a.Text, revisionOf(a.Text)
	b.inForce()
	b.changed, b.problem, b.seen = false, nil, nil
	b.mu.Unlock()
	if d, ok := b.state.Draft(a.Who); ok && bytes.Equal(d.Text, a.Text) {
		b.state.RemoveDraft(a.Who)
	}
	e := state.Entry{
		At:       time.Now(),
		Kind:     a.Kind,
		Restores: a.Restores,
		Who:      a.Who,
		Why:      a.Why,
		Text:     a.Text,
		Changes:  rules.Tell(rules.Difference(before, set)),
		Forecast: a.Forecast,
	}
	e.ID = b.state.Add(e)
	return e, nil
}

// conflict says what has happened since a revision.
func (b *ruleBook) conflict(base string, now *rules.Set) error {
	c := &controlserver.ConflictError{}
	if last := b.state.History(1); len(last) == 1 {
		c.Who, c.At = last[0].Who, last[0].At
	}
	if text, ok := b.TextOf(base); ok {
		if old, err := rules.Parse(text); err == nil {
			c.Changes = rules.Tell(rules.Difference(old, now))
		}
	}
	return c
}

// write writes the rules file, unless somebody has edited it meanwhile.
func (b *ruleBook) write(path string, text, known []byte) error {
	now, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("cannot read the rules before changing them: %w", err)
	}
	if !bytes.Equal(now, known) {
		return fmt.Errorf(
			"the rules file %s was changed by another program, and nothing was applied: apply that change with rules apply --edited, or restore the file",
			path,
		)
	}
	if err := replace(path, text); err != nil {
		return fmt.Errorf("writing the rules: %w", err)
	}
	return nil
}

// replace writes a file so that at every moment either the old or the new one is there, whole.
func replace(path string, text []byte) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".rules-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(text)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
