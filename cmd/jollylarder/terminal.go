package main

import (
	"jollylarder/internal/control"
	"jollylarder/internal/tui"
)

// terminal shows the terminal application on a larder until it is left.
func terminal(c *control.Client) error { return tui.Run(c) }
