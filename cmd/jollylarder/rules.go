package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/core/rules"
)

func rulesCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "rules", Short: "Check, compare, forecast, apply and undo rules",
		Long: `Works on the rules of a running larder.

Exit codes: 0 success; 1 failure; 2 wrong usage; 3 errors in a rules file; 4 nothing was done because of a conflict, such as
rules that somebody else changed; 5 diff found differences.`,
	}
	to := connecting(c)
	var asJSON bool
	c.PersistentFlags().BoolVar(&asJSON, "json", false, "print JSON")
	list := &cobra.Command{
		Use: "list", Short: "List the rules in force", Args: cobra.NoArgs,
		Long: "Lists the rules in force in the order in which they decide: the name; for how many patterns it decides, of how many that it\nmatches; and what it does.",
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (control.RuleBook, error) { return l.Rules(ctx) }, func(b control.RuleBook) {
				if len(b.Rules) == 0 {
					fmt.Fprintln(c.OutOrStdout(), "No rule is in force.")
				}
				for i, r := range b.Rules {
					reach := ""
					if i < len(b.Reach) {
						reach = fmt.Sprintf("%d of %d", b.Reach[i].Decides, b.Reach[i].Matches)
					}
					chosen := ""
					if r.Action == "advised" && i < len(b.Reach) {
						chosen = fmt.Sprintf("%d chosen; ", b.Reach[i].Chosen)
					}
					fmt.Fprintf(c.OutOrStdout(), "%3d  %-24s %9s  %s%s\n", i+1, r.Name, reach, chosen, inWords(&r))
				}
			})
		},
	}
	c.AddCommand(checkCommand(&asJSON), list, diffCommand(to, &asJSON), forecastCommand(to, &asJSON), applyCommand(to, &asJSON), undoCommand(to, &asJSON), redoCommand(to, &asJSON), historyCommand(to, &asJSON), pauseCommand(to, &asJSON),
		choicesCommand(to, &asJSON), refuseCommand(to, &asJSON), adoptCommand(to, &asJSON))
	return c
}

// inWords says what a rule does, on a line.
func inWords(r *control.Rule) string {
	out := r.Action
	switch r.Action {
	case "cache":
		out += " " + r.TTL
	case "advised":
		out += ", up to " + r.MaxTTL
	}
	if r.Mode == rules.TTLOnly {
		out += ", TTL only"
	}
	if r.Paused {
		out += ", paused"
	}
	if r.When != nil {
		out += ", for some callers"
	}
	for _, what := range []string{r.Statement, r.Text} {
		if what != "" {
			return out + ": " + what
		}
	}
	if len(r.Tables) > 0 {
		return out + ": what reads " + strings.Join(r.Tables, " or ")
	}
	return out
}

// readFile reads a rules file that is named on the command line; - is standard input.
func readFile(path string) (string, error) {
	if path == "-" {
		path = "/dev/stdin"
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

func checkCommand(asJSON *bool) *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Check a rules file for errors; needs no larder", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readFile(args[0])
			if err != nil {
				return err
			}
			set, err := rules.Parse([]byte(text))
			out := control.Checked{}
			if err != nil {
				out.Problems = control.Problems(err)
			} else {
				out.Rules = len(set.List())
				for _, d := range set.Doubts() {
					out.Warnings = append(out.Warnings, "rule "+d.Rule+": "+d.Text)
				}
			}
			if *asJSON {
				if err := printJSON(c, out); err != nil {
					return err
				}
			} else if err == nil {
				fmt.Fprintf(c.OutOrStdout(), "The file has no errors; rules: %d.\n", out.Rules)
				warn(c, out.Warnings)
			}
			return wrongFile(c, args[0], out, *asJSON)
		},
	}
}

// warn says what is allowed in a rules file and hardly meant.
func warn(c *cobra.Command, warnings []string) {
	for _, line := range warnings {
		fmt.Fprintln(c.ErrOrStderr(), "warning:", line)
	}
}

// wrongFile says what is wrong with a file, in the form that editors jump to.
func wrongFile(c *cobra.Command, path string, x control.Checked, said bool) error {
	if len(x.Problems) == 0 {
		return nil
	}
	for _, p := range x.Problems {
		if !said {
			fmt.Fprintf(c.ErrOrStderr(), "%s:%d:%d: %s\n", path, p.Line, p.Column, p.Problem)
		}
	}
	return &codeError{exitWrongFile, fmt.Errorf("the rules file %s has %d errors", path, len(x.Problems))}
}

func diffCommand(to *toLarder, asJSON *bool) *cobra.Command {
	return &cobra.Command{
		Use: "diff FILE", Short: "Show how a rules file differs from the rules in force", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readFile(args[0])
			if err != nil {
				return err
			}
			var found control.Checked
			err = ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Checked, error) {
				var err error
				found, err = l.Check(ctx, text)
				return found, err
			}, func(x control.Checked) {
				for _, line := range x.Lines {
					fmt.Fprintln(c.OutOrStdout(), line)
				}
				warn(c, x.Warnings)
			})
			switch {
			case err != nil:
				return err
			case len(found.Problems) > 0:
				return wrongFile(c, args[0], found, *asJSON)
			case len(found.Changes) > 0:
				return &codeError{exitDiffers, fmt.Errorf("%d differences", len(found.Changes))}
			}
			return nil
		},
	}
}

func forecastCommand(to *toLarder, asJSON *bool) *cobra.Command {
	return &cobra.Command{
		Use: "forecast FILE", Short: "Forecast the effect of a rules file from recent traffic", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := readFile(args[0])
			if err != nil {
				return err
			}
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (*control.Forecast, error) {
				found, err := l.Check(ctx, text)
				if err != nil {
					return nil, err
				}
				if err := wrongFile(c, args[0], found, false); err != nil {
					return nil, err
				}
				warn(c, found.Warnings)
				return l.Forecast(ctx, &text, nil)
			}, func(f *control.Forecast) {
				row := func(name string, o *control.Outcome) {
					if o != nil {
						fmt.Fprintf(c.OutOrStdout(), "%-34s %5.1f%% hits  %8.2f s/min saved  %8.1f/s to the origin  %7.1f drops/min  %6.1f MiB\n", name, 100*o.OfAll, o.Saved/1000, o.Origin, o.Drops, o.Memory/(1<<20))
					}
				}
				length := func(ms float64) time.Duration {
					return time.Duration(ms * float64(time.Millisecond)).Round(time.Second)
				}
				fmt.Fprintf(c.OutOrStdout(), "From the traffic of the last %s:\n", length(f.Span))
				if f.Short() {
					warn(c, []string{fmt.Sprintf("that is too short for a forecast with a TTL of %s", length(f.Longest))})
				}
				row("in force", &f.Present)
				row("with "+args[0], &f.Draft)
				for _, r := range f.Rules {
					row("  "+r.Rule+" in force", r.Present)
					row("  "+r.Rule+" then", r.Draft)
				}
			})
		},
	}
}

func applyCommand(to *toLarder, asJSON *bool) *cobra.Command {
	var why, base string
	var file bool
	c := &cobra.Command{
		Use: "apply FILE --why TEXT | apply --edited --why TEXT", Short: "Put a rules file in force, for all connections at once",
		Long: `Replaces all rules in force with those of FILE, and writes them to the larder's rules file. With --edited it takes the changes
that were made to the larder's rules file itself.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if file == (len(args) == 1) {
				return &usageError{errors.New("expected a rules file, or --edited")}
			}
			a := control.Apply{Why: why, File: file, Base: base}
			if !file {
				text, err := readFile(args[0])
				if err != nil {
					return err
				}
				if _, err := rules.Parse([]byte(text)); err != nil {
					return wrongFile(c, args[0], control.Checked{Problems: control.Problems(err)}, false)
				}
				a.Text = &text
			}
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Entry, error) {
				if a.Text != nil {
					if found, err := l.Check(ctx, *a.Text); err == nil {
						warn(c, found.Warnings)
					}
				}
				return l.Apply(ctx, a)
			}, func(e control.Entry) { printEntry(c, e) })
		},
	}
	f := c.Flags()
	f.StringVar(&why, "why", "", "the reason, shown in the history")
	f.StringVar(&base, "base", "", "apply only if this revision is in force (see rules list --json)")
	f.BoolVar(&file, "edited", false, "apply the changes made to the larder's rules file")
	_ = c.MarkFlagRequired("why")
	return c
}

func undoCommand(to *toLarder, asJSON *bool) *cobra.Command {
	c, u := restoreCommand(to, asJSON, (*client.Client).Undo)
	c.Use, c.Short = "undo [--to N]", "Undo the last change of the rules, or go back to an earlier entry"
	c.Flags().Int64Var(&u.To, "to", 0, "the entry of the history to go back to (default: the one before the last change)")
	return c
}

func redoCommand(to *toLarder, asJSON *bool) *cobra.Command {
	c, _ := restoreCommand(to, asJSON, (*client.Client).Redo)
	c.Use, c.Short = "redo", "Redo the change that was undone last"
	return c
}

// restoreCommand makes a command that puts rules of the history in force again, and gives what it will ask for.
func restoreCommand(to *toLarder, asJSON *bool, do func(*client.Client, context.Context, control.Undo) (control.Entry, error)) (*cobra.Command, *control.Undo) {
	u := &control.Undo{}
	c := &cobra.Command{
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Entry, error) { return do(l, ctx, *u) }, func(e control.Entry) { printEntry(c, e) })
		},
	}
	c.Flags().StringVar(&u.Why, "why", "", "the reason")
	return c, u
}

func historyCommand(to *toLarder, asJSON *bool) *cobra.Command {
	limit := 20
	c := &cobra.Command{
		Use: "history", Short: "List the changes of the rules: who, when, why, forecast and actual", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) ([]control.Entry, error) { return l.History(ctx, limit) }, func(list []control.Entry) {
				for _, e := range list {
					printEntry(c, e)
				}
			})
		},
	}
	c.Flags().IntVar(&limit, "limit", limit, "how many entries; the latest come first")
	return c
}

func printEntry(c *cobra.Command, e control.Entry) {
	p := func(format string, args ...any) { fmt.Fprintf(c.OutOrStdout(), format+"\n", args...) }
	if e.Unchanged {
		p("These rules are in force already.")
		return
	}
	if c := e.Choice; c != nil {
		p("-  %s  %s by %s: %s", e.At.Local().Format("2006-01-02 15:04:05"), c.Kind, e.Who, e.Why)
		for _, line := range e.Changes {
			p("     %s", line)
		}
		if c.Text != "" {
			p("     %s", c.Text)
		}
		printRate(c.Forecast, func(text string) { p("     forecast: %s", text) })
		printRate(c.Actual, func(text string) { p("     actual: %s", text) })
		return
	}
	kind := map[string]string{"apply": "applied", "undo": "undone", "redo": "redone", "file": "taken from the file", "start": "found at the start"}[e.Kind]
	p("%d  %s  %s by %s: %s", e.ID, e.At.Local().Format("2006-01-02 15:04:05"), kind, e.Who, e.Why)
	for _, line := range e.Changes {
		p("     %s", line)
	}
	if f := e.Forecast; f != nil {
		p("     forecast: hit rate %.1f%% of all statements, %.2f s/min saved, %.1f/s to the database", 100*f.Draft.OfAll, f.Draft.Saved/1000, f.Draft.Origin)
	}
	for _, x := range []struct {
		name string
		m    *control.Measured
	}{{"hour", e.Hour}, {"day", e.Day}} {
		switch m := x.m; {
		case m == nil:
		case !m.Some():
			p("     in force for no whole minute; nothing was measured")
		default:
			p("     actual, first %s (%d min): hit rate %.1f%%, %.2f s/min saved, %.1f/s to the database", x.name, m.Minutes, 100*m.OfAll, m.Saved/1000, m.Origin)
		}
	}
}

func pauseCommand(to *toLarder, asJSON *bool) *cobra.Command {
	var off bool
	var why string
	c := &cobra.Command{
		Use: "pause NAME [--off]", Short: "Pause one rule, or resume it", Args: cobra.ExactArgs(1),
		ValidArgsFunction: completed(to, ruleNames),
		RunE: func(c *cobra.Command, args []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Entry, error) {
				return l.Pause(ctx, args[0], !off, why)
			}, func(e control.Entry) { printEntry(c, e) })
		},
	}
	c.Flags().BoolVar(&off, "off", false, "resume it")
	c.Flags().StringVar(&why, "why", "", "the reason")
	return c
}
