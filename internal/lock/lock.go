// Package lock keeps two programs from using the same file or directory at once.
package lock

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
)

// HeldError says that another process holds a lock.
type HeldError struct {
	Path string
	// Process is the number of the process that holds it, as it has written it down; 0 where it has not.
	Process int
}

func (e *HeldError) Error() string {
	if e.Process == 0 {
		return "another larder uses it: " + e.Path + " is locked"
	}
	return fmt.Sprintf("another larder uses it, process %d: %s is locked", e.Process, e.Path)
}

// File takes the lock of a path, which is made for it, until release is called or the process ends. It does not wait:
// if another process holds it, the error is a HeldError. The file stays behind, since whoever removed it could remove
// that of the next.
func File(path string) (release func(), err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("locking %s: %w", path, err)
		}
		text, _ := io.ReadAll(io.LimitReader(f, 20))
		process, _ := strconv.Atoi(strings.TrimSpace(string(text)))
		return nil, &HeldError{path, process}
	}
	if f.Truncate(0) == nil {
		fmt.Fprintln(f, os.Getpid())
	}
	return func() { f.Close() }, nil
}

// Until gives a listener that gives a lock up when it is closed.
func Until(l net.Listener, release func()) net.Listener { return &listener{l, release} }

// Under gives the listener that Until was given, or the one it is given itself.
func Under(l net.Listener) net.Listener {
	if x, ok := l.(*listener); ok {
		return x.Listener
	}
	return l
}

type listener struct {
	net.Listener
	release func()
}

func (l *listener) Close() error {
	defer l.release()
	return l.Listener.Close()
}
