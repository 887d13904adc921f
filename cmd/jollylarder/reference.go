package main

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	"jollylarder/internal/daemon"
)

// reference writes every command with its flags as Markdown, in the order in which they are listed by --help.
func reference(c *cobra.Command) string {
	var b strings.Builder
	writeReference(&b, c)
	return b.String()
}

func writeReference(b *strings.Builder, c *cobra.Command) {
	if c.HasParent() {
		fmt.Fprintf(b, "## %s\n\n", c.CommandPath())
	}
	long := c.Long
	if long == "" {
		long = c.Short + "."
	}
	b.WriteString(long + "\n\n")
	if c.Runnable() && !c.HasSubCommands() {
		fmt.Fprintf(b, "    %s\n\n", c.UseLine())
	}
	if flags := c.NonInheritedFlags(); flags.HasAvailableFlags() {
		b.WriteString("| flag | meaning |\n|---|---|\n")
		flags.VisitAll(func(f *pflag.Flag) {
			if f.Hidden || f.Name == "help" || f.Name == "version" {
				return
			}
			value, usage := pflag.UnquoteUsage(f)
			if value != "" {
				value = " " + value
			}
			if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "[]" && f.DefValue != "0s" {
				usage += " (default `" + f.DefValue + "`)"
			}
			fmt.Fprintf(b, "| `--%s%s` | %s |\n", f.Name, value, usage)
		})
		b.WriteString("\n")
	}
	for _, x := range c.Commands() {
		if x.IsAvailableCommand() && x.Name() != "completion" && x.Name() != "help" {
			writeReference(b, x)
		}
	}
}

func manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man DIRECTORY", Short: "Write man pages of all commands to a directory", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("cannot write man pages: %w", err)
			}
			began := time.Date(2026, time.January, 1, 0, 0, 0, 0, time.UTC) // so that equal programs write equal pages
			header := &doc.GenManHeader{Section: "1", Source: "Jolly Larder " + daemon.Version, Manual: "Jolly Larder", Date: &began}
			if err := doc.GenManTree(c.Root(), header, args[0]); err != nil {
				return fmt.Errorf("cannot write man pages: %w", err)
			}
			return nil
		},
	}
}
