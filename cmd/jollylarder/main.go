// Command jollylarder is a transparent caching proxy in front of a SQL database, with its terminal.
package main

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

func main() {
	keepErrors()
	err := root().Execute()
	code := exitCode(err)
	if err != nil && code != exitDiffers {
		fmt.Fprintln(os.Stderr, "jollylarder:", err)
	}
	os.Exit(code)
}

// standardError is the program's standard error output as it was at the start. It is kept for as long as the program
// runs: a file that nobody refers to any more is closed when it is collected, and then the next connection would be
// given its descriptor, into which the grammar's library puts a pipe and the runtime writes what it has to say.
var standardError = os.Stderr

// keepErrors gives what is logged and told a descriptor of its own. While a statement is read, the grammar's library
// has a pipe in the place of the standard error output, and what anybody else writes there meanwhile is lost.
func keepErrors() {
	if fd, err := unix.FcntlInt(standardError.Fd(), unix.F_DUPFD_CLOEXEC, 3); err == nil {
		os.Stderr = os.NewFile(uintptr(fd), standardError.Name())
	}
}
