package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/report"
)

func reportCommand() *cobra.Command {
	var to *toLarder
	var since, out string
	c := &cobra.Command{
		Use:   "report --out FILE.svg|.pdf|.json|.csv|.md",
		Short: "Write a report on the time saved",
		Long: `One page: how much time was saved and by which patterns, how that was measured and how sure it is, how fresh the answers
were, and how much load the database has less. JSON and CSV contain the numbers.`,
		Example: `  jollylarder report --since 24h --out monday.pdf`,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := report.Known(out); err != nil {
				return &usageError{err}
			}
			client, err := to.client()
			if err != nil {
				return err
			}
			ctx, stop := interrupted()
			defer stop()
			r, err := report.Gather(ctx, client, since)
			if err != nil {
				return err
			}
			if err := r.WriteFile(out); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), out)
			return nil
		},
	}
	to = connecting(c)
	c.Flags().StringVar(&since, "since", "24h", "the period: start, change (the last change of the rules), or a duration such as 1h, 24h or 720h")
	c.Flags().StringVar(&out, "out", "", "the file; its extension (.svg, .pdf, .md, .json, .csv) chooses the format")
	_ = c.MarkFlagRequired("out")
	return c
}

func memoryCommand() *cobra.Command {
	var to *toLarder
	var asJSON, evict, curve bool
	c := &cobra.Command{
		Use:   "memory [SIZE]",
		Short: "Show memory use and the hit rate at other sizes, or set another limit",
		Long: `Without SIZE it shows what the memory is used for. With SIZE it sets the limit until the larder restarts; a limit below what
is in use needs --evict. With --curve it forecasts the hit rate at several sizes, and at SIZE, and changes nothing.`,
		Example: `  jollylarder memory
  jollylarder memory 512MiB --curve
  jollylarder memory 512MiB`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			size := int64(0)
			if len(args) > 0 {
				var err error
				if size, err = bytesize.Parse(args[0]); err != nil {
					return &usageError{err}
				}
			}
			switch {
			case curve:
				return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (*control.MemoryCurve, error) {
					return l.MemoryCurve(ctx, size, nil)
				}, func(m *control.MemoryCurve) { printCurve(c, m) })
			case size > 0:
				return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (control.Limit, error) {
					in := control.Limit{Bytes: size, Evict: evict}
					err := l.SetLimit(ctx, in)
					var refused *client.RefusedError
					if errors.As(err, &refused) && refused.Conflict() {
						err = fmt.Errorf("%w (--evict)", err)
					}
					return in, err
				}, func(l control.Limit) {
					fmt.Fprintf(c.OutOrStdout(), "The limit is %s until the larder restarts; set memory in its configuration to make it permanent.\n", bytesize.Format(l.Bytes))
				})
			}
			return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (control.Stock, error) { return l.Stock(ctx) }, func(s control.Stock) { printStock(c, &s) })
		},
	}
	to = connecting(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&evict, "evict", false, "allow a limit below what is in use: the least used results are evicted")
	c.Flags().BoolVar(&curve, "curve", false, "forecast the hit rate at several sizes")
	return c
}

func printStock(c *cobra.Command, s *control.Stock) {
	p := func(format string, args ...any) { fmt.Fprintf(c.OutOrStdout(), format+"\n", args...) }
	p("%d results in %s of %s; the whole process takes %s", s.Results, bytesize.About(s.Bytes), bytesize.About(s.Limit), bytesize.About(s.Process.Resident))
	var unused, unusedBytes float64
	for _, b := range s.Ages {
		unused, unusedBytes = unused+b.Unused, unusedBytes+b.UnusedBytes
	}
	p("not used yet: %.0f results in %s", unused, bytesize.About(int64(unusedBytes)))
	p("\n%-18s %9s %10s %9s %9s %9s %9s %9s  %s", "pattern", "results", "bytes", "hits", "cached ever", "unused", "evicted", "dropped", "statement")
	for _, x := range s.Patterns {
		p("%-18s %9d %10s %9d %9d %9d %9d %9d  %s", x.ID, x.Results, bytesize.About(x.Bytes), x.Hits, x.Stored, x.Unused, x.Evicted, x.Dropped, x.Text)
		if x.TooLarge > 0 {
			p("%-18s %9d were too large, up to %s", "", x.TooLarge, bytesize.About(x.Largest))
		}
	}
	for _, x := range s.Shares {
		p("rule %s has %s of %s of its own", x.Rule, bytesize.About(x.Bytes), bytesize.About(x.Limit))
	}
}

func printCurve(c *cobra.Command, m *control.MemoryCurve) {
	p := func(format string, args ...any) { fmt.Fprintf(c.OutOrStdout(), format+"\n", args...) }
	p("%12s %8s %16s %12s", "limit", "hits", "saved s/min", "takes")
	for _, x := range m.Points {
		mark := ""
		if x.Present {
			mark = "  now"
		}
		p("%12s %7.1f%% %14.2f s %12s%s", bytesize.About(x.Limit), 100*x.Share, x.Saved/1000, bytesize.About(int64(x.Memory)), mark)
	}
	p("of the %.0f calls a minute that rules match, from the traffic of the last %.0f minutes", m.Calls, m.Span/60_000)
}
