package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jollylarder/internal/control/client"
	"jollylarder/internal/trial/load"
	"jollylarder/internal/tui"
	"jollylarder/internal/tui/look"
)

// background adds the flag that says what is behind the text, for terminals that do not tell.
func background(c *cobra.Command) *string {
	return c.Flags().String("background", "", "the terminal's background, light or dark (default: as the terminal says)")
}

// terminal shows the terminal application on a larder until it is left.
func terminal(ctx context.Context, c *client.Client, behind string, tour bool) error {
	switch b := look.Background(behind); b {
	case look.Unknown, look.Dark, look.Light:
		return tui.Run(ctx, c, load.Prepare, b, tour)
	}
	return fmt.Errorf("--background %q: expected light or dark", behind)
}
