package daemon

import (
	"bytes"
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"

	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/rules"
)

// looksEvery is how often the rules file is looked at even if the system tells of nothing: on some file systems it
// never does.
const looksEvery = 10 * time.Second

// quietTime is how long nothing is to be told of the file before it is taken to be written.
const quietTime = 100 * time.Millisecond

// watchRules looks at the rules file whenever somebody has touched it, and takes it over where the configuration says
// so.
func (l *Larder) watchRules() {
	events := make(chan fsnotify.Event)
	if w, err := fsnotify.NewWatcher(); err == nil {
		defer w.Close()
		l.mu.Lock()
		path := l.cfg.Rules
		l.mu.Unlock()
		if path != "" {
			if err := w.Add(filepath.Dir(path)); err == nil { // the file itself is replaced by most editors
				events = w.Events
			}
		}
	}
	t := time.NewTicker(looksEvery)
	defer t.Stop()
	l.lookAtRules() // it may have been touched since it was read
	for {
		select {
		case <-l.retired:
			return
		case <-t.C:
		case <-events:
			for quiet := false; !quiet; { // it may be in the middle of being written
				select {
				case <-events:
				case <-time.After(quietTime):
					quiet = true
				}
			}
		}
		l.lookAtRules()
	}
}

func (l *Larder) lookAtRules() {
	if !l.book.look() {
		return
	}
	l.mu.Lock()
	follow, path := l.cfg.FollowRules, l.cfg.Rules
	l.mu.Unlock()
	text, _, _ := l.book.Outside()
	if follow && !l.book.whole(path, text, l.retired) {
		return // it is looked at again when it has changed again
	}
	if follow && l.book.wouldEmpty(text) {
		l.log.Warn(
			"the rules file has no rules any more; the rules in force stay until that is confirmed: jollylarder rules apply --edited takes it as it is",
			"file",
			path,
		)
		return
	}
	if !follow {
		l.log.Warn(
			"the rules file was changed by another program; the rules in force stay until you apply it",
			"file",
			path,
		)
		return
	}
	e, err := l.book.Apply(
		controlserver.Proposal{Kind: "file", Who: "the rules file", Why: "taken as follow_rules says", Text: text},
	)
	if err != nil {
		l.log.Error("the rules file was changed, and could not be taken", "problem", err)
		return
	}
	l.log.Info("the rules file was changed, and is in force", "changes", len(e.Changes))
}

// stillTime is how long a rules file must stay as it is before it is followed: it may be in the middle of being written
// by a program that takes its time.
const stillTime = time.Second

// whole waits until the file has stayed as it is for a while, and says whether it is still what was read.
func (b *ruleBook) whole(path string, text []byte, ended <-chan struct{}) bool {
	select {
	case <-ended:
		return false
	case <-time.After(stillTime):
	}
	now, err := readRulesFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		now, err = nil, nil
	}
	if err == nil && bytes.Equal(now, text) {
		return true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.seen = nil // so that what is there now is new
	return false
}

// wouldEmpty says whether a text has no rules where there are some now: a file that was emptied, removed or cut off by
// mistake looks like that.
func (b *ruleBook) wouldEmpty(text []byte) bool {
	set, err := rules.Parse(text)
	return err == nil && len(set.List()) == 0 && len(b.engine.Rules().List()) > 0
}
