package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// A larder that ends while clients are busy leaves their statements to the database, which may go on with them: their writes
// are those of nobody then. It leaves a mark in its directory for state from its start to an end at which nothing was
// under way; the next one that finds it waits as long as for any write whose outcome never arrives.

// mark is the file's name.
const mark = "running"

// waitsForEarlier looks for the mark of an earlier larder, and leaves one. One that has been taken over from has its mark
// left to the other, and tells by itself what it leaves behind.
func (l *Larder) waitsForEarlier(takenOver bool, now time.Time) {
	if l.cfg.State == "" {
		return
	}
	path := filepath.Join(l.cfg.State, mark)
	if _, err := os.Stat(path); err == nil && !takenOver {
		l.engine.WaitsForEarlier(now)
		l.log.Warn("nothing is cached for a minute: the larder that ran before ended while clients were connected, and their statements may still be running")
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return // then it cannot be left, either
	}
	if err := os.WriteFile(path, fmt.Appendf(nil, "%d\n", os.Getpid()), 0o600); err != nil {
		l.log.Warn("the next larder will not learn that this one was running: it cannot wait for statements that this one leaves behind", "error", err)
		return
	}
	l.mark = path
}

// rest is how long clients that are at rest have to be gone when everything ends at once.
const rest = 2 * time.Second

// leavesNothing removes the mark if no client is busy whose statement could go on, and none that was lost before may.
func (l *Larder) leavesNothing() {
	path := l.mark
	if l.leaving != nil {
		path = l.leaving.path
	}
	if path == "" {
		return
	}
	if !l.drained { // which has given them their time
		ctx, stop := context.WithTimeout(context.Background(), rest)
		defer stop()
		l.drain(ctx)
	}
	if l.Clients() > 0 || !l.engine.Settled() {
		return
	}
	if err := os.Remove(path); err != nil {
		l.log.Warn("the next larder will cache nothing for a minute", "error", err)
	}
}
