package main

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
)

// The codes that the program ends with.
const (
	exitDone      = 0
	exitFailed    = 1
	exitUsage     = 2 // the command was not understood
	exitWrongFile = 3 // a rules file is wrong
	exitConflict  = 4 // refused because of what is, such as rules that were changed meanwhile
	exitDiffers   = 5 // rules diff found differences
)

// usageError is a command that is not understood.
type usageError struct{ error }

// codeError ends the program with a code; its text is said unless it is empty.
type codeError struct {
	code int
	error
}

// misunderstood finds what the command line's library says of commands and flags.
var misunderstood = regexp.MustCompile(`^(unknown command|required flag|at least one of the flags|if any flags in the group)`)

func exitCode(err error) int {
	var usage *usageError
	var coded *codeError
	var refused *client.RefusedError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &coded):
		return coded.code
	case errors.As(err, &usage), misunderstood.MatchString(err.Error()):
		return exitUsage
	case errors.As(err, &refused) && refused.Conflict():
		return exitConflict
	}
	return exitFailed
}

// toLarder is how a command reaches the larder that it is for.
type toLarder struct{ control, tokenFile, ca string }

// standardSocket is where the example configuration has the control socket.
const standardSocket = "/run/jollylarder/larder.sock"

// connecting adds the flags that say where the larder is.
func connecting(c *cobra.Command) *toLarder {
	t := &toLarder{}
	usual := os.Getenv(variablePrefix + "CONTROL")
	c.PersistentFlags().StringVar(&t.control, "control", usual, "the larder's control socket, or https://host:port (default "+standardSocket+", or "+variablePrefix+"CONTROL)")
	c.PersistentFlags().StringVar(&t.tokenFile, "token-file", "", "with a URL: the file with the larder's token")
	c.PersistentFlags().StringVar(&t.ca, "ca", "", "with a URL: a PEM file of authorities that are trusted (default: the system's)")
	return t
}

func (t *toLarder) client() (*client.Client, error) {
	if !strings.HasPrefix(t.control, "https://") {
		if t.control == "" {
			t.control = standardSocket
			if _, err := os.Stat(t.control); err != nil {
				return nil, &usageError{errors.New("--control is needed: the path that the larder was started with; there is none at " + standardSocket)}
			}
		}
		return client.NewClient(t.control), nil
	}
	text, err := os.ReadFile(t.tokenFile)
	if err != nil {
		return nil, fmt.Errorf("--token-file: %w", err)
	}
	var roots *x509.CertPool
	if t.ca != "" {
		pem, err := os.ReadFile(t.ca)
		if err != nil {
			return nil, fmt.Errorf("--ca: %w", err)
		}
		if roots = x509.NewCertPool(); !roots.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("--ca %s: there is no certificate in it: expected a PEM file", t.ca)
		}
	}
	return client.NewTLSClient(t.control, strings.TrimSpace(string(text)), roots), nil
}

// ask does something with the larder, and prints what came of it: as JSON if that is wanted, else as say says.
func ask[T any](c *cobra.Command, t *toLarder, asJSON bool, f func(context.Context, *client.Client) (T, error), say func(T)) error {
	client, err := t.client()
	if err != nil {
		return err
	}
	ctx, stop := interrupted()
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	out, err := f(ctx, client)
	if err != nil {
		return err
	}
	if !asJSON {
		say(out)
		return nil
	}
	return printJSON(c, out)
}

func printJSON(c *cobra.Command, v any) error {
	enc := json.NewEncoder(c.OutOrStdout())
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// completed gives what a flag or an argument may be completed to.
func completed(t *toLarder, list func(context.Context, *client.Client) []string) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		client, err := t.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		return list(ctx, client), cobra.ShellCompDirectiveNoFileComp
	}
}

func ruleNames(ctx context.Context, c *client.Client) (out []string) {
	if b, err := c.Rules(ctx); err == nil {
		for _, r := range b.Rules {
			out = append(out, r.Name+"\t"+r.Action+" "+r.TTL)
		}
	}
	return out
}

func patternIDs(ctx context.Context, c *client.Client) (out []string) {
	if list, err := c.Patterns(ctx, "", "waited", false); err == nil {
		for _, p := range list.Patterns {
			out = append(out, p.ID+"\t"+p.Text)
		}
	}
	return out
}

func tableNames(ctx context.Context, c *client.Client) (out []string) {
	if s, err := c.Status(ctx); err == nil {
		for _, d := range s.Databases {
			out = append(out, d.Tables...)
		}
	}
	return out
}

func statusCommand() *cobra.Command {
	var to *toLarder
	var asJSON bool
	c := &cobra.Command{
		Use: "status", Short: "Show the status of a running larder", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (control.Status, error) { return l.Status(ctx) }, func(s control.Status) { printStatus(c, s) })
		},
	}
	to = connecting(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func printStatus(c *cobra.Command, s control.Status) {
	p := func(format string, args ...any) { fmt.Fprintf(c.OutOrStdout(), format+"\n", args...) }
	p("%s; rules: %d, paused: %d; clients: %d; before %s", s.State, s.Rules, s.Paused, s.Clients, s.Origin)
	m := s.Minute
	calls := max(m.Calls(), 1)
	p("last minute: %d statements, hit rate %.1f%%, %.2f s waited, %.2f s saved", m.Calls(), 100*float64(m.Hits)/float64(calls), m.Waited/1000, m.Saved/1000)
	p("cached: %d results, %d of %d bytes; %d dropped by writes since %s", s.Cached, s.CachedBytes, s.CachedLimit, s.Drops, s.Began.Local().Format("2006-01-02 15:04"))
	for _, f := range s.Fetching {
		p("fetched ahead: %d, not possible: %d %s", f.Done, f.Failed, f.Why)
	}
	for _, f := range s.Feeds {
		switch f.Mode {
		case "stream":
			p("changes of %s by the replication stream: %d rows, lag %.0f ms, %d gaps; the server retains %d of %d bytes", f.Database, f.Rows, f.LagMS, f.Gaps, f.Held, f.Bound)
		case "poll":
			p("changes of %s by counters, up to %.0f s late", f.Database, f.LagMS/1000)
		}
		if f.Problem != "" {
			p("problem with the changes of %s: %s", f.Database, f.Problem)
		}
	}
	if s.Stale > 0 {
		p("stale answers found by control samples: %d", s.Stale)
	}
	if o := s.Outside; o != nil {
		if o.Problem != "" {
			p("the rules file was edited: %s", o.Problem)
		}
		for _, l := range o.Lines {
			p("the rules file was edited, and is not in force: %s", l)
		}
	}
	for _, x := range s.Problems {
		p("problem: %s", x)
	}
}

func cachingCommand() *cobra.Command {
	var to *toLarder
	var asJSON bool
	c := &cobra.Command{
		Use: "caching on|off", Short: "Turn caching off or on for all statements", ValidArgs: []string{"on", "off"},
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 || args[0] != "on" && args[0] != "off" {
				return &usageError{errors.New("expected on or off")}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			on := args[0] == "on"
			return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (map[string]bool, error) {
				return map[string]bool{"on": on}, l.SetCaching(ctx, on)
			}, func(map[string]bool) {
				if on {
					fmt.Fprintln(c.OutOrStdout(), "Caching is on: the rules are in force.")
				} else {
					fmt.Fprintln(c.OutOrStdout(), "Caching is off: every statement goes to the database. Cached results stay in memory, and writes still drop them.")
				}
			})
		},
	}
	to = connecting(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func dropCommand() *cobra.Command {
	var to *toLarder
	var asJSON bool
	var d control.Drop
	c := &cobra.Command{
		Use: "drop --all | --pattern ID | --rule NAME | --table SCHEMA.NAME", Short: "Drop cached results", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return ask(c, to, asJSON, func(ctx context.Context, l *client.Client) (control.Dropped, error) {
				n, err := l.Drop(ctx, d)
				return control.Dropped{Results: n}, err
			}, func(x control.Dropped) { fmt.Fprintf(c.OutOrStdout(), "%d results dropped.\n", x.Results) })
		},
	}
	to = connecting(c)
	f := c.Flags()
	f.BoolVar(&asJSON, "json", false, "print JSON")
	f.BoolVar(&d.All, "all", false, "drop everything")
	f.StringVar(&d.Pattern, "pattern", "", "drop the results of a pattern")
	f.StringVar(&d.Rule, "rule", "", "drop a rule's results")
	f.StringVar(&d.Table, "table", "", "drop the results that depend on a table, such as public.sailings")
	c.MarkFlagsOneRequired("all", "pattern", "rule", "table")
	c.MarkFlagsMutuallyExclusive("all", "pattern", "rule", "table")
	for flag, list := range map[string]func(context.Context, *client.Client) []string{"pattern": patternIDs, "rule": ruleNames, "table": tableNames} {
		_ = c.RegisterFlagCompletionFunc(flag, completed(to, list))
	}
	return c
}
