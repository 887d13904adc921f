package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
)

// printRate writes what a choice brings, if it is known.
func printRate(r *control.Rate, print func(string)) {
	if r == nil {
		return
	}
	text := fmt.Sprintf("%.2f s/min saved, hit rate %.1f%% of %.1f calls/min", r.Saved/1000, 100*r.Share(), r.Calls)
	if r.Minutes > 0 {
		text += fmt.Sprintf(", in %.0f min", r.Minutes)
	}
	print(text)
}

func choicesCommand(to *toLarder, asJSON *bool) *cobra.Command {
	var rule string
	c := &cobra.Command{
		Use: "choices [--rule NAME]", Short: "List what the larder has chosen within advised rules", Args: cobra.NoArgs,
		Long: "Lists the patterns that the larder caches within rules with action \"advised\", what was forecast of each and what came\nof it since its last change; and those that it has withdrawn, and until when.",
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Choices, error) { return l.Choices(ctx, rule) }, func(x control.Choices) {
				if len(x.Chosen) == 0 {
					fmt.Fprintln(c.OutOrStdout(), "The larder has chosen nothing so far.")
				}
				for _, one := range x.Chosen {
					printChoice(c, &one)
				}
			})
		},
	}
	c.Flags().StringVar(&rule, "rule", "", "only within this rule")
	_ = c.RegisterFlagCompletionFunc("rule", completed(to, ruleNames))
	return c
}

func printChoice(c *cobra.Command, x *control.Choice) {
	p := func(format string, args ...any) { fmt.Fprintf(c.OutOrStdout(), format+"\n", args...) }
	if x.TTL == "" {
		p("%s  withdrawn, not again before %s  within %s", x.Pattern, x.Until.Local().Format("2006-01-02 15:04:05"), x.Rule)
	} else {
		p("%s  cached for %s since %s  within %s", x.Pattern, x.TTL, x.Changed.Local().Format("2006-01-02 15:04:05"), x.Rule)
	}
	if x.Text != "" {
		p("     %s", x.Text)
	}
	printRate(x.Forecast, func(text string) { p("     forecast: %s", text) })
	printRate(x.Actual, func(text string) { p("     actual: %s", text) })
}

func refuseCommand(to *toLarder, asJSON *bool) *cobra.Command {
	var in control.Refusal
	c := &cobra.Command{
		Use: "refuse RULE PATTERN [--off]", Short: "Take back what the larder chose within an advised rule, for good", Args: cobra.ExactArgs(2),
		Long:              "Adds the pattern to never_patterns of the rule: its statements go to the database, and the larder does not choose it again.",
		ValidArgsFunction: completedChoice(to),
		RunE: func(c *cobra.Command, args []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Entry, error) {
				in.Pattern = args[1]
				return l.Refuse(ctx, args[0], in)
			}, func(e control.Entry) { printEntry(c, e) })
		},
	}
	c.Flags().BoolVar(&in.Off, "off", false, "let the larder choose it again")
	c.Flags().StringVar(&in.Why, "why", "", "the reason")
	return c
}

func adoptCommand(to *toLarder, asJSON *bool) *cobra.Command {
	var in control.Adoption
	c := &cobra.Command{
		Use: "adopt RULE PATTERN", Short: "Make a rule of its own of what the larder chose within an advised rule", Args: cobra.ExactArgs(2),
		Long:              "Adds a rule that caches the pattern for the TTL that the larder chose, above the advised rule and for the same callers.",
		ValidArgsFunction: completedChoice(to),
		RunE: func(c *cobra.Command, args []string) error {
			return ask(c, to, *asJSON, func(ctx context.Context, l *client.Client) (control.Entry, error) {
				in.Pattern = args[1]
				return l.Adopt(ctx, args[0], in)
			}, func(e control.Entry) { printEntry(c, e) })
		},
	}
	c.Flags().StringVar(&in.Why, "why", "", "the reason")
	return c
}

// completedChoice completes an advised rule, and then a pattern that the larder chose within it.
func completedChoice(to *toLarder) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
		return completed(to, func(ctx context.Context, l *client.Client) (out []string) {
			if len(args) == 0 {
				return ruleNames(ctx, l)
			}
			if x, err := l.Choices(ctx, args[0]); err == nil {
				for _, one := range x.Chosen {
					out = append(out, one.Pattern+"\t"+one.Text)
				}
			}
			return out
		})(c, args, begun)
	}
}
