package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control/client"
	"jollylarder/internal/daemon"
	"jollylarder/internal/demo"
	"jollylarder/internal/protocol"
)

func root() *cobra.Command {
	c := &cobra.Command{
		Use:   "jollylarder",
		Short: "A transparent caching proxy in front of a SQL database",
		Long: `Jolly Larder is a caching proxy between applications and a PostgreSQL, MariaDB or MySQL database. It caches the
results of the statement patterns that you choose, drops them when a write touches their tables, and shows how much time
that saved.`,
		Version:       daemon.Version,
		SilenceUsage:  true,
		SilenceErrors: true, // main says them
	}
	c.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &usageError{err} })
	c.AddCommand(serveCommand(), watchCommand(), statusCommand(), doctorCommand(), rulesCommand(), cachingCommand(), dropCommand(), explainCommand(), feedCommand(), trialCommand(), recordCommand(), reportCommand(), memoryCommand(), handOverCommand(), demoCommand(), manCommand())
	countArguments(c)
	return c
}

// countArguments has a wrong number of arguments count as a command that is not understood, and also what a command that
// only holds others does not hold.
func countArguments(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return &usageError{fmt.Errorf("%w: expected %s", err, c.UseLine())}
			}
			return nil
		}
	}
	if c.HasParent() && c.HasSubCommands() && !c.Runnable() {
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			var names []string
			for _, x := range c.Commands() {
				names = append(names, x.Name())
			}
			return &usageError{fmt.Errorf("there is no command %q of %s: expected %s", args[0], c.CommandPath(), strings.Join(names, ", "))}
		}
	}
	for _, x := range c.Commands() {
		countArguments(x)
	}
}

// interrupted gives a context that ends when the program is told to.
func interrupted() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
}

func watchCommand() *cobra.Command {
	var behind *string
	var to *toLarder
	c := &cobra.Command{
		Use:   "watch [--control SOCKET|URL]",
		Short: "Open the terminal application on a running larder",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			client, err := to.client()
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			if _, err := client.Status(ctx); err != nil {
				return err
			}
			ended, stop := interrupted()
			defer stop()
			return terminal(ended, client, *behind, false)
		},
	}
	behind = background(c)
	to = connecting(c)
	return c
}

func demoCommand() *cobra.Command {
	cfg := demo.Config{Seed: 1}
	var headless, tour bool
	var length time.Duration
	var out string
	var behind *string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run a demo: a made-up ferry company, its database and its applications",
		Long: `Runs everything in one process: a database, a larder before it, and the traffic of five applications of Skerrow
Ferries, which does not exist. Without --origin the database is a stand-in that needs no installation and takes as long
as a server elsewhere would.`,
		Example: `  jollylarder demo
  jollylarder demo --origin postgres://postgres@127.0.0.1:5432/postgres
  jollylarder demo --headless --for 20s --json -`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if !headless && (c.Flags().Changed("for") || c.Flags().Changed("json")) {
				return errors.New("--for and --json go with --headless")
			}
			if length < time.Second || length > time.Hour {
				return fmt.Errorf("--for %s: expected a length from 1s to 1h", length)
			}
			ctx, stop := interrupted()
			defer stop()
			if !headless { // what is logged would be written over the screen
				slog.SetDefault(slog.New(slog.DiscardHandler))
				fmt.Fprintln(os.Stderr, "Loading Skerrow Ferries …")
			}
			d, err := demo.Start(ctx, cfg)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, d.Close()) }()
			if !headless {
				return terminal(ctx, client.NewClient(d.Control), *behind, tour)
			}
			s, err := d.Headless(ctx, length)
			if err != nil {
				return err
			}
			return summarise(s, out)
		},
	}
	behind = background(c)
	f := c.Flags()
	f.StringVar(&cfg.Protocol, "protocol", "", "protocol of the stand-in: "+strings.Join(demo.Protocols(), " or ")+" (default "+protocol.All[0].Name+")")
	f.StringVar(&cfg.Origin, "origin", "", "URL of a real server; a database "+demo.Database+" is made there and removed at the end")
	f.StringVar(&cfg.Listen, "listen", "", "address for the larder (default: a free port)")
	f.Uint64Var(&cfg.Seed, "seed", 1, "seed for data, traffic and delays")
	f.DurationVar(&cfg.Distance, "distance", 1500*time.Microsecond, "typical time on the network to the stand-in")
	f.Float64Var(&cfg.Work, "work", 3, "how many times longer than SQLite the stand-in takes over its work")
	f.BoolVar(&tour, "tour", true, "start with a short tour of the stations")
	f.BoolVar(&headless, "headless", false, "run without a terminal, with a small set of rules, and sum up")
	f.DurationVar(&length, "for", 20*time.Second, "how long to run with --headless")
	f.StringVar(&out, "json", "-", "file for the summary with --headless; - is standard output")
	return c
}

func summarise(s demo.Summary, path string) error {
	var w io.Writer = os.Stdout
	if path != "-" {
		f, err := os.Create(path)
		if err != nil {
			return fmt.Errorf("writing the summary: %w", err)
		}
		defer f.Close()
		w = f
	}
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	if err := enc.Encode(s); err != nil {
		return err
	}
	if s.Stale > 0 {
		return fmt.Errorf("%d answers from memory differed from the database", s.Stale)
	}
	return nil
}
