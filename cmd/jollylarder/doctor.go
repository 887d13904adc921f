package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"github.com/spf13/cobra"

	"jollylarder/internal/daemon"
)

func doctorCommand() *cobra.Command {
	var f serveFlags
	var asJSON bool
	var database string
	c := &cobra.Command{
		Use:   "doctor [--config FILE | --listen ADDRESS --origin ADDRESS]",
		Short: "Look for what is wrong with a larder's configuration and surroundings",
		Long: `Looks at what a larder needs: its configuration, rules and directories, the origins, the accounts there and their rights,
change feeds, clocks, descriptors and memory. If a larder runs by the configuration, it is asked, too. For each thing the
command says what it found, and what to do about it. It changes nothing.

The flags are those of serve. Run the command as the user that the larder runs as, or as root.

Exit codes: 0 if nothing is worse than a warning; 1 if there is a problem.`,
		Example: `  jollylarder doctor --config /etc/jollylarder/larder.toml
  jollylarder doctor --config larder.toml --json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := fromEnvironment(c.Flags()); err != nil {
				return err
			}
			cfg, err := f.load(c.Flags())
			var x daemon.Examination
			if err != nil {
				x = daemon.Unreadable(err)
			} else {
				ctx, stop := interrupted()
				defer stop()
				ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
				defer cancel()
				x = daemon.Examine(ctx, cfg, database)
			}
			if asJSON {
				if err := printJSON(c, x); err != nil {
					return err
				}
			} else {
				printExamination(c.OutOrStdout(), x)
			}
			if x.Worst == daemon.Bad {
				return &codeError{exitFailed, errors.New("the doctor found problems: do what it says, and run it again")}
			}
			return nil
		},
	}
	fs := c.Flags()
	f.define(fs)
	fs.StringVar(&database, "database", "", "database to try accounts with, where each is for itself (default: one of [origin.feed], or that clients use, or postgres)")
	fs.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// printExamination prints what was found: the state, what it is about, what was found, and under that what to do.
func printExamination(w io.Writer, x daemon.Examination) {
	widths := [2]int{}
	columns := func(f *daemon.Finding) [2]string {
		return [2]string{string(f.State), strings.TrimSpace(f.Subject + " " + f.About)}
	}
	for i := range x.Findings {
		for k, text := range columns(&x.Findings[i]) {
			widths[k] = max(widths[k], lipgloss.Width(text))
		}
	}
	count := map[daemon.State]int{}
	for i := range x.Findings {
		f := &x.Findings[i]
		count[f.State]++
		for k, text := range columns(f) {
			fmt.Fprint(w, text, strings.Repeat(" ", widths[k]-lipgloss.Width(text)+2))
		}
		indent := strings.Repeat(" ", widths[0]+widths[1]+4)
		fmt.Fprintln(w, strings.ReplaceAll(strings.TrimSpace(f.Found), "\n", "\n"+indent))
		if f.Remedy != "" && f.State != daemon.Fine {
			fmt.Fprintln(w, indent+"to do: "+f.Remedy)
		}
	}
	fmt.Fprintf(w, "\nproblems: %d; warnings: %d; not checked: %d\n", count[daemon.Bad], count[daemon.Doubtful], count[daemon.Unchecked])
}
