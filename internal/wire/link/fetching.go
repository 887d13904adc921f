package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"jollylarder/internal/core/engine"
)

// Fetcher asks ahead for what clients will ask: results that a write dropped, and those remembered from before. It is a
// client of the larder like any other, on an account of its own, so that all that is promised of results holds for
// these too; one at a time, and most of the time at rest, so that it is never in the way of clients.
type Fetcher struct {
	// Engine says what is to be fetched of an origin, by its name. All fields are required.
	Engine *engine.Engine
	Origin string
	// User is whose account it is: results of others are not fetched.
	User string
	// Asker asks.
	Asker Asker

	done, failed atomic.Uint64
	mu           sync.Mutex
	why          string // the last failure
}

// Asker asks an origin, through the larder, over a connection of its own.
type Asker interface {
	// Ask asks for what a client asked for, in the form and with the settings of that, and reads the reply to its end.
	Ask(context.Context, *engine.Asked) error
	// Close ends its connection, if it has one. Ask begins another.
	Close()
}

// rests is how many times as long as a fetch took the fetcher rests behind it, and longestFetch bounds one.
const (
	rests        = 3
	shortestRest = time.Millisecond
	longestRest  = 10 * time.Second
	longestFetch = time.Minute
)

// Run fetches until the context ends.
func (f *Fetcher) Run(ctx context.Context) {
	defer f.Asker.Close()
	for ctx.Err() == nil {
		next, ok, ring := f.Engine.Refetch(f.Origin)
		if !ok {
			select {
			case <-ctx.Done():
			case <-ring:
			case <-time.After(time.Second): // another origin's fetcher may have heard the bell
			}
			continue
		}
		began := time.Now()
		err := f.fetch(ctx, &next)
		if lost(err) && ctx.Err() == nil { // as by an idle timeout: the next connection may last
			f.Asker.Close()
			err = f.fetch(ctx, &next)
		}
		for _, pause := range again { // the write that dropped it may not have ended yet
			if !errors.Is(err, errNotCached) || ctx.Err() != nil {
				break
			}
			time.Sleep(pause)
			err = f.fetch(ctx, &next)
		}
		if err != nil {
			f.failed.Add(1)
			f.mu.Lock()
			f.why = err.Error()
			f.mu.Unlock()
			f.Asker.Close()
		} else {
			f.done.Add(1)
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(max(rests*time.Since(began), shortestRest), longestRest)):
		}
	}
}

// lost says whether a connection has ended.
func lost(err error) bool {
	for _, e := range []error{io.EOF, io.ErrUnexpectedEOF, net.ErrClosed, syscall.EPIPE, syscall.ECONNRESET} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// again is how long the fetcher waits before it tries again, where what it fetched could not be kept.
var again = []time.Duration{10 * time.Millisecond, 50 * time.Millisecond, 250 * time.Millisecond}

var errNotCached = errors.New(
	"what was fetched was not cached: its tables were being written, or its clients ask for it in another format",
)

func (f *Fetcher) fetch(ctx context.Context, a *engine.Asked) error {
	if a.User != "" && a.User != f.User {
		return fmt.Errorf(
			"results of the user %s are not fetched by the account %s: across_users = true in the rule allows it on PostgreSQL, where both may read all of it",
			a.User,
			f.User,
		)
	}
	ctx, cancel := context.WithTimeout(ctx, longestFetch)
	defer cancel()
	if err := f.Asker.Ask(ctx, a); err != nil {
		return err
	}
	if !f.Engine.Has(a.Rule, a.Key) {
		return errNotCached
	}
	return nil
}

// Counts gives how many results were fetched and how many could not be, and why the last one could not.
func (f *Fetcher) Counts() (done, failed uint64, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.done.Load(), f.failed.Load(), f.why
}

// ConnectOwn opens a connection of the larder's own to itself, which nobody else can reach. Serve serves its other end.
func (a *Acceptor) ConnectOwn(serve func(net.Conn)) (net.Conn, error) {
	fds, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		return nil, err
	}
	var ends [2]net.Conn
	for i, fd := range fds {
		syscall.CloseOnExec(fd)
		file := os.NewFile(uintptr(fd), "own")
		ends[i], err = net.FileConn(file)
		file.Close()
		if err != nil {
			return nil, err
		}
	}
	if !a.Go(ends[1], serve) {
		ends[0].Close()
		ends[1].Close()
		return nil, net.ErrClosed
	}
	return ends[0], nil
}
