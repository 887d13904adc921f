package main

import (
	"io"
	"log"
	"os"
	"os/exec"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// collectInstead has the test program be what TestStandardErrorOutlivesCollection starts.
const collectInstead = "JOLLYLARDER_TEST_COLLECT"

// collects ends with 1 if the collector has closed the standard error output.
func collects() {
	keepErrors()
	log.SetOutput(io.Discard) // as soon as the program logs in its own way, this package refers to it no more
	// A file that is collected is closed some time later, in no certain order; those made and forgotten behind it tell
	// when it must have been.
	for range 5 {
		for forgotten := forget(); open(forgotten); {
			runtime.GC()
			runtime.Gosched()
		}
	}
	if !open(2) {
		os.Exit(1)
	}
	os.Exit(0)
}

// forget opens a file that nobody refers to any more, and gives its descriptor.
func forget() int {
	f, err := os.Open(os.DevNull)
	if err != nil {
		os.Exit(2)
	}
	return int(f.Fd())
}

func open(fd int) bool {
	_, err := unix.FcntlInt(uintptr(fd), unix.F_GETFD, 0)
	return err == nil
}

// A client's connection must never be given the descriptor of the standard error output: the grammar's library puts a
// pipe in its place while a statement is read, and the runtime writes there.
func TestStandardErrorOutlivesCollection(t *testing.T) {
	c := exec.Command(os.Args[0])
	c.Env = append(os.Environ(), collectInstead+"=1")
	require.NoError(t, c.Run(), "descriptor 2 was closed by the collector")
}
