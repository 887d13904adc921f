package daemon

import (
	"errors"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/lock"
	"jollylarder/internal/succession"
)

// takesOver asks the larder that runs with the same directory for state, if one does, for its sockets.
func (l *Larder) takesOver() (*succession.Predecessor, error) {
	if !l.opts.TakeOver || l.cfg.State == "" {
		return nil, nil
	}
	p, err := succession.Ask(filepath.Join(l.cfg.State, handoverSocket))
	if p != nil {
		l.offered = p.Offer
	}
	return p, err
}

// takeOffered gives the socket that was handed over for an address of the configuration, or none.
func (l *Larder) takeOffered(address string) succession.Socket {
	for i, s := range l.offered.Sockets {
		if s.Configured == address {
			l.offered.Sockets = slices.Delete(l.offered.Sockets, i, i+1)
			return s
		}
	}
	return succession.Socket{}
}

// ownsSockets has the files of Unix sockets that were handed over removed when they are closed, where that is the larder's to
// do. It is to be called when nobody else can go on with them.
func (l *Larder) ownsSockets() {
	for _, s := range l.offered.Sockets {
		if u, ok := s.Listener.(*net.UnixListener); ok && s.Owned {
			u.SetUnlinkOnClose(true)
		}
	}
	for _, o := range l.origins {
		for _, ln := range o.listeners {
			u, ok := ln.Listener.(*net.UnixListener)
			if !ok || !ln.owned {
				continue
			}
			u.SetUnlinkOnClose(true)
			if release, err := lock.File(besideSocket(u.Addr().String())); err == nil {
				l.held = append(l.held, release)
			}
		}
	}
}

// longestForLocks is how long a larder that goes on waits for the locks of one that has not been able to take over.
const longestForLocks = 10 * time.Second

// locksInTime is locks, which waits where another larder is about to end.
func (l *Larder) locksInTime(cfg config.Config) error {
	for until := time.Now().Add(longestForLocks); ; time.Sleep(looksForPredecessor) {
		err := l.locks(cfg)
		var held *lock.HeldError
		if !errors.As(err, &held) || l.opts.Before == nil || time.Now().After(until) {
			return err
		}
		l.releaseLocks() // one of them may have been free
	}
}

// looksForPredecessor is how often a larder looks whether one before it is still there.
const looksForPredecessor = 100 * time.Millisecond

// waitsForPredecessors has nothing be cached while larders serve their last clients that others have taken over from.
func (l *Larder) waitsForPredecessors() {
	if l.cfg.State == "" {
		return
	}
	list, err := filepath.Glob(filepath.Join(l.cfg.State, leavingFiles))
	if err != nil || len(list) == 0 {
		return
	}
	l.engine.WaitsForPredecessor()
	settled := true
	gone := func() bool {
		list = slices.DeleteFunc(list, func(path string) bool {
			there, left := l.hasLeft(path)
			settled = settled && (there || left)
			return !there
		})
		if len(list) > 0 {
			return false
		}
		if !settled {
			l.log.Warn("nothing is cached for a minute: the larder that ran before ended while clients were connected, and their statements may still be running")
		}
		l.engine.PredecessorHasGone(settled, time.Now())
		return true
	}
	if gone() {
		return
	}
	l.log.Info("nothing is cached until the larder before has ended, which still serves its last clients")
	l.wg.Go(func() {
		t := time.NewTicker(looksForPredecessor)
		defer t.Stop()
		for !gone() {
			select {
			case <-t.C:
			case <-l.ended:
				return
			}
		}
		l.log.Info("the larder before has ended: results are cached from here on")
	})
}

// hasLeft says whether a larder that holds a lock is still there, and if not, whether it has left nothing behind.
func (l *Larder) hasLeft(path string) (there, left bool) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return false, true
	}
	release, err := lock.File(path)
	var held *lock.HeldError
	if errors.As(err, &held) {
		return true, false
	}
	if err == nil {
		defer release()
		if err := os.Remove(path); err != nil {
			l.log.Warn("the next larder will cache nothing for a minute", "error", err)
		}
	}
	return false, false
}
