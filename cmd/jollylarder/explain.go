package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control/client"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/explain"
	"jollylarder/internal/protocol"
)

func explainCommand() *cobra.Command {
	var origin, name, rulesFile string
	var asJSON bool
	var to *toLarder
	c := &cobra.Command{
		Use:   "explain [--origin URL] [--control PATH] [--json] 'SQL'",
		Short: "Show what a statement reads and writes, and whether its result can be cached",
		Long: `Prints a statement's pattern, the tables it reads and writes and how it reaches each, the columns that identify its rows by
key, whether its result can be cached or why not, and its labels.

With --origin it reads the database's catalog, which shows what a view or a function reads. Without --origin it prints what it
cannot know. With - it reads the statement from standard input. It does not run the statement.

With --control it also prints the pattern's hit rate in the last hour, the reasons for the bypasses, and the setting or
rule that would turn them into hits.`,
		Example: `  jollylarder explain 'select * from open_sailings where id = 3'
  jollylarder explain --origin postgres://ines@127.0.0.1/skerrow --json 'select route_name(1)'`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			sql := args[0]
			if sql == "-" {
				text, err := io.ReadAll(io.LimitReader(os.Stdin, longestRead))
				if err != nil {
					return fmt.Errorf("cannot read the statement: %w", err)
				}
				sql = string(text)
			}
			if strings.TrimSpace(sql) == "" {
				return errors.New("there is no statement: expected SQL in quotes, or - to read it from standard input")
			}
			set := rules.NewSet(nil)
			if rulesFile != "" && origin == "" {
				return errors.New("--rules goes with --origin: what is declared is of a database's tables and functions")
			}
			if rulesFile != "" {
				text, err := os.ReadFile(rulesFile)
				if err != nil {
					return fmt.Errorf("cannot read the rules: %w", err)
				}
				if set, err = rules.Parse(text); err != nil {
					return fmt.Errorf("%s: %w", rulesFile, err)
				}
			}
			kind, err := protocol.Named(name)
			if err == nil && name == "" {
				kind, err = protocol.OfURL(origin, protocol.Described)
			}
			if err != nil {
				return &usageError{err}
			}
			var db *explain.Database
			if origin != "" {
				ctx, stop := interrupted()
				defer stop()
				var err error
				if db, err = describe(ctx, kind, origin, set); err != nil {
					return err
				}
			}
			x := explain.Statement(sql, kind.Dialect, db)
			if to.control != "" {
				ctx, stop := interrupted()
				defer stop()
				var err error
				if x.Calls, err = calls(ctx, to, string(x.Pattern)); err != nil {
					return err
				}
			}
			if asJSON {
				enc := json.NewEncoder(os.Stdout)
				enc.SetIndent("", "  ")
				enc.SetEscapeHTML(false)
				return enc.Encode(x)
			}
			x.Print(os.Stdout)
			return nil
		},
	}
	to = connecting(c)
	f := c.Flags()
	f.StringVar(&origin, "origin", "", "URL of the database whose catalog is asked, such as postgres://user@host/database")
	f.StringVar(&name, "protocol", "", "protocol of the database, where its URL does not tell: "+strings.Join(protocol.Names(), ", "))
	f.StringVar(&rulesFile, "rules", "", "rules file whose declarations count")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// longestRead bounds what is read of a statement, in bytes: more than any grammar takes.
const longestRead = 16 << 20

// calls asks a larder what became of a pattern's calls; of one that it has not seen there are none.
func calls(ctx context.Context, to *toLarder, id string) (*explain.Calls, error) {
	l, err := to.client()
	if err != nil {
		return nil, err
	}
	p, err := l.Pattern(ctx, id)
	var refused *client.RefusedError
	if errors.As(err, &refused) && refused.Missing() {
		return &explain.Calls{}, nil
	}
	if err != nil || p.Lately == nil {
		return nil, err
	}
	out := &explain.Calls{Over: time.Duration(p.Lately.Span * float64(time.Millisecond)), Calls: p.Lately.Calls, Hits: p.Lately.Hits, Misses: p.Lately.Misses}
	for _, r := range p.Lately.Bypassed {
		out.Bypassed = append(out.Bypassed, explain.Bypassed{Reason: r.Reason, Calls: r.Count, Would: r.Would})
	}
	return out, nil
}

// describe reads a database's catalog over a connection of its own.
func describe(ctx context.Context, p *protocol.Protocol, url string, set *rules.Set) (*explain.Database, error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	described, path, err := p.Describe(ctx, url)
	if err != nil {
		return nil, err
	}
	return &explain.Database{Schema: described.Schema().With(set.Functions()), Path: path, Declared: set.Declared}, nil
}
