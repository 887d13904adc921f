package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/feed"
	"jollylarder/internal/protocol"
)

func feedCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "feed",
		Short: "Prepare a database so that direct writes are seen, or undo that",
		Long: `A larder sees the writes that its clients send. With a change feed it also sees direct writes. In front of PostgreSQL the
feed uses the database's replication stream, for which the database needs a publication, a slot and a role that may
replicate. In front of MariaDB it uses the server's binary log, for which it needs an account that may replicate. These
commands show what they will do, and do it with --yes.

A slot that no larder reads makes a PostgreSQL server retain its log, which in time fills the disk. Run "feed remove" when
you no longer use the larder.`,
	}
	c.AddCommand(feedPlanCommand("setup", "Show what a database needs for a change feed; with --yes, set it up", feed.Planner.SetUp),
		feedPlanCommand("remove", "Show what removes the change feed from a database; with --yes, remove it", feed.Planner.Remove))
	return c
}

func feedPlanCommand(use, short string, plan func(feed.Planner, context.Context, feed.Names) (feed.Plan, error)) *cobra.Command {
	var url, slot, publication, role string
	var yes, asJSON bool
	c := &cobra.Command{
		Use:   use + " --database URL",
		Short: short,
		Example: "  jollylarder feed " + use + " --database postgres://postgres@db1:5432/skerrow --role larder_feed\n" +
			"  jollylarder feed " + use + " --database mysql://root@db2:3306 --role larder_feed",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if url == "" {
				return &usageError{errors.New("--database is missing: expected the URL of the database itself, not of the larder")}
			}
			kind, err := protocol.OfURL(url, protocol.Followed)
			if err != nil {
				return &usageError{fmt.Errorf("--database: %w", err)}
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			planner, err := kind.Plan(ctx, url)
			if err != nil {
				return fmt.Errorf("--database: %w", err)
			}
			defer planner.Close()
			names := planner.UsualNames()
			names.Role = role
			if names.Slot == "" && (slot != "" || publication != "") {
				return &usageError{fmt.Errorf("--slot and --publication have no use with %s: leave them out", kind.Title)}
			}
			if slot != "" {
				names.Slot = slot
			}
			if publication != "" {
				names.Publication = publication
			}
			p, err := plan(planner, ctx, names)
			if err != nil {
				return err
			}
			return carryOut(ctx, c.OutOrStdout(), planner, p, use == "setup", names, yes, asJSON)
		},
	}
	f := c.Flags()
	f.StringVar(&url, "database", "", "URL of the database, as a user who may make what is shown")
	f.StringVar(&slot, "slot", "", `name of the slot (default "jolly_larder_" and the database's name)`)
	f.StringVar(&publication, "publication", "", `name of the publication (default "jolly_larder")`)
	f.StringVar(&role, "role", "", "role or account to create for the larder, or to remove; without it, use an existing one")
	f.BoolVar(&yes, "yes", false, "make the changes")
	f.BoolVar(&asJSON, "json", false, "print as JSON")
	return c
}

// carryOut shows a plan, and runs it if that is wanted and possible.
func carryOut(ctx context.Context, w io.Writer, planner feed.Planner, p feed.Plan, setup bool, n feed.Names, yes, asJSON bool) error {
	done := false
	var failed error
	if yes && len(p.Obstacles) == 0 {
		failed = planner.Run(ctx, p)
		done = failed == nil
	}
	if asJSON {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		if err := e.Encode(struct {
			Steps, Notes, Obstacles []string
			Done                    bool
		}{p.Steps, p.Notes, p.Obstacles, done}); err != nil {
			return err
		}
	} else {
		if len(p.Steps) == 0 {
			fmt.Fprintln(w, "There is nothing to do.")
		}
		for _, s := range p.Steps {
			fmt.Fprintf(w, "%s;\n", s)
		}
		for _, s := range p.Notes {
			fmt.Fprintf(w, "\n-- %s\n", s)
		}
	}
	switch {
	case failed != nil:
		return failed
	case len(p.Obstacles) > 0:
		return fmt.Errorf("nothing was done: %s", p.Obstacles[0])
	case asJSON:
	case done && len(p.Steps) > 0:
		fmt.Fprintln(w, "\nDone.")
	case len(p.Steps) > 0:
		fmt.Fprintln(w, "\nNothing was done: run this again with --yes.")
	}
	if setup && done && !asJSON {
		user := n.Role
		if user == "" {
			user = "a role that may replicate"
		}
		fmt.Fprintf(w, "\nFor the larder's configuration:\n\n[origin.feed]\nuser = %q\n%s", user, planner.Configuration(n))
	}
	return nil
}
