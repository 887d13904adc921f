// Command jollylarder is a transparent caching proxy in front of a SQL database, with its terminal.
package main

import (
	"fmt"
	"os"
)

func main() {
	err := root().Execute()
	code := exitCode(err)
	if err != nil && code != exitDiffers {
		fmt.Fprintln(os.Stderr, "jollylarder:", err)
	}
	os.Exit(code)
}
