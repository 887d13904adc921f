// Command jollylarder is a transparent caching proxy in front of a SQL database, with its terminal.
package main

import (
	"os"
)

func main() {
	if err := root().Execute(); err != nil {
		os.Exit(1)
	}
}
