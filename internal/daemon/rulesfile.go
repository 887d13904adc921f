package daemon

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// rulesFile is the rules file as this program last saw it.
type rulesFile struct {
	path string // empty for none

	mu   sync.Mutex
	text []byte
}

// read reads the file, if there is one.
func (f *rulesFile) read() (*rules.Set, error) {
	if f.path == "" {
		return rules.NewSet(nil), nil
	}
	text, err := os.ReadFile(f.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return rules.NewSet(nil), nil
	case err != nil:
		return nil, fmt.Errorf("reading the rules: %w", err)
	}
	set, err := rules.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("the rules file %s is wrong:\n%w", f.path, err)
	}
	f.mu.Lock()
	f.text = text
	f.mu.Unlock()
	return set, nil
}

// take takes over another reading.
func (f *rulesFile) take(other *rulesFile) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.path, f.text = other.path, other.text
}

// PutRule is described at control.Larder.
func (l *Larder) PutRule(r rules.Rule) error {
	return l.edit(func(text []byte) ([]byte, error) { return rules.Put(text, r) })
}

// RemoveRule is described at control.Larder.
func (l *Larder) RemoveRule(id statement.ID) error {
	return l.edit(func(text []byte) ([]byte, error) { return rules.Remove(text, id) })
}

// edit changes the rules file and, if that has succeeded, the rules in force. What somebody else has written into the
// file meanwhile is never overwritten.
func (l *Larder) edit(change func([]byte) ([]byte, error)) error {
	f := &l.rules
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.path != "" {
		now, err := os.ReadFile(f.path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("reading the rules before changing them: %w", err)
		}
		if string(now) != string(f.text) {
			return fmt.Errorf("the rules file %s was changed by somebody else: have the larder read it again by SIGHUP, then try again", f.path)
		}
	}
	text, err := change(f.text)
	if err != nil {
		return err
	}
	set, err := rules.Parse(text)
	if err != nil {
		return err
	}
	if f.path != "" {
		if err := replace(f.path, text); err != nil {
			return fmt.Errorf("writing the rules: %w", err)
		}
	}
	f.text = text
	l.engine.SetRules(set)
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
