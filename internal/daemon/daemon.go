// Package daemon puts one larder together: engine, wire, rules file, control API, and the clock that drives them.
package daemon

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"jollylarder/internal/control"
	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
	wire "jollylarder/internal/wire/postgres"
)

// Version is this program's.
const Version = "0.1.0"

// Config says what a larder listens on, stands before, and where it keeps its rules.
type Config struct {
	// Listen and Origin are addresses as host:port. Required.
	Listen, Origin string
	// Rules is the rules file. It need not exist: it is made with the first rule. Empty means that rules are not kept.
	Rules string
	// Control is the path of the control socket; empty means none.
	Control string
	// Memory is the limit for kept results in bytes; 0 means the engine's default.
	Memory int64
	// Note is shown to whoever attaches.
	Note string
	// Log receives what goes wrong; nil means slog.Default.
	Log *slog.Logger
}

// Larder is one that runs.
type Larder struct {
	cfg    Config
	engine *engine.Engine
	server *wire.Server
	addr   net.Addr

	mu    sync.Mutex // of the rules file
	text  []byte     // its content as this program last saw it
	ended chan struct{}
	wg    sync.WaitGroup
	close []func()
}

// Start makes a larder and begins to serve. What is wrong with the configuration is said before anything is opened.
func Start(cfg Config) (*Larder, error) {
	if cfg.Log == nil {
		cfg.Log = slog.Default()
	}
	l := &Larder{cfg: cfg, ended: make(chan struct{})}
	for what, address := range map[string]string{"--listen": cfg.Listen, "--origin": cfg.Origin} {
		if _, _, err := net.SplitHostPort(address); err != nil {
			return nil, fmt.Errorf("%s %q is no address: expected host:port, such as 127.0.0.1:5432", what, address)
		}
	}
	e, err := engine.New(engine.Options{Facts: facts.Facts, Memory: cfg.Memory}, time.Now())
	if err != nil {
		return nil, err
	}
	l.engine = e
	set, err := l.readRules()
	if err != nil {
		return nil, err
	}
	e.SetRules(set)

	ln, err := net.Listen("tcp", cfg.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening for clients: %w: choose another address with --listen", err)
	}
	l.addr = ln.Addr()
	l.close = append(l.close, func() { ln.Close() })
	if cfg.Control != "" {
		cl, err := control.Listen(cfg.Control)
		if err != nil {
			ln.Close()
			return nil, err
		}
		l.close = append(l.close, func() { cl.Close() })
		l.wg.Go(func() { l.complain(control.Serve(cl, l)) })
	}
	l.server = &wire.Server{Engine: e, Origin: cfg.Origin, Log: cfg.Log}
	l.wg.Go(func() { l.complain(l.server.Serve(ln)) })
	l.wg.Go(l.tick)
	return l, nil
}

func (l *Larder) complain(err error) {
	if err != nil {
		l.cfg.Log.Error("a part of the larder ended", "error", err)
	}
}

// tick drives what happens from time to time.
func (l *Larder) tick() {
	t := time.NewTicker(50 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case now := <-t.C:
			l.engine.Tick(now)
		case <-l.ended:
			return
		}
	}
}

// Close ends all connections and everything else.
func (l *Larder) Close() {
	for _, f := range l.close {
		f()
	}
	l.server.Close()
	close(l.ended)
	l.wg.Wait()
}

// Address is where clients connect to.
func (l *Larder) Address() string { return l.addr.String() }

// Engine is described at control.Larder.
func (l *Larder) Engine() *engine.Engine { return l.engine }

// Describe is described at control.Larder.
func (l *Larder) Describe(s *control.Status) {
	s.Version, s.Note, s.Listen, s.Origin, s.RulesAt = Version, l.cfg.Note, l.Address(), l.cfg.Origin, l.cfg.Rules
}

// readRules reads the rules file, if there is one.
func (l *Larder) readRules() (*rules.Set, error) {
	if l.cfg.Rules == "" {
		return rules.NewSet(nil), nil
	}
	text, err := os.ReadFile(l.cfg.Rules)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return rules.NewSet(nil), nil
	case err != nil:
		return nil, fmt.Errorf("reading the rules: %w", err)
	}
	l.text = text
	set, err := rules.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("the rules file %s is wrong, nothing was started:\n%w", l.cfg.Rules, err)
	}
	return set, nil
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
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cfg.Rules != "" {
		now, err := os.ReadFile(l.cfg.Rules)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("reading the rules before changing them: %w", err)
		}
		if string(now) != string(l.text) {
			return fmt.Errorf("the rules file %s was changed by somebody else: restart the larder to take it over", l.cfg.Rules)
		}
	}
	text, err := change(l.text)
	if err != nil {
		return err
	}
	set, err := rules.Parse(text)
	if err != nil {
		return err
	}
	if l.cfg.Rules != "" {
		if err := replace(l.cfg.Rules, text); err != nil {
			return fmt.Errorf("writing the rules: %w", err)
		}
	}
	l.text = text
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
