package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/trial"
)

func recordCommand() *cobra.Command {
	var to *toLarder
	var out, filter string
	var length time.Duration
	var values bool
	c := &cobra.Command{
		Use:   "record --out FILE",
		Short: "Record the statements of live traffic in a file, for a trial",
		Long: `Writes the statements that end while it runs to a file, one line of JSON each; docs/trials.md describes the format. Without
--values the file holds no values, and a trial cannot send the statements again. With --values it holds what your
applications' users typed: only you can read the file; remove it when you no longer need it.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if length < time.Second || length > 24*time.Hour {
				return &usageError{fmt.Errorf("--for %s: expected 1s to 24h", length)}
			}
			client, err := to.client()
			if err != nil {
				return err
			}
			ctx, stop := interrupted()
			defer stop()
			ctx, cancel := context.WithTimeout(ctx, length)
			defer cancel()
			n, missed, err := record(ctx, client, out, filter, values)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%d statements recorded in %s", n, out)
			if missed > 0 {
				fmt.Fprintf(c.OutOrStdout(), "; %d more came too fast", missed)
			}
			fmt.Fprintln(c.OutOrStdout())
			return nil
		},
	}
	to = connecting(c)
	c.Flags().StringVar(&out, "out", "", "file to write; it must not exist yet")
	c.Flags().DurationVar(&length, "for", time.Minute, "how long to record")
	c.Flags().BoolVar(&values, "values", false, "record literals and parameters; needs show_values = true in the larder's configuration")
	c.Flags().StringVar(&filter, "filter", "", "only statements that match a filter, such as app=booking-web")
	_ = c.MarkFlagRequired("out")
	return c
}

// nothingRecorded says why there may have been nothing.
func nothingRecorded(filter string, missed uint64) error {
	switch {
	case missed > 0:
		return fmt.Errorf("nothing was recorded: %d statements came too fast or had been sent before; record for longer", missed)
	case filter != "":
		return fmt.Errorf("nothing was recorded: no statement that matches the filter %q ended in that time; jollylarder status lists the applications", filter)
	}
	return errors.New("nothing was recorded: no statement ended in that time; record for longer, or point an application at the larder's address")
}

// record writes a recording until the context ends. Nothing is left of one without statements.
func record(ctx context.Context, client *client.Client, path, filter string, values bool) (n int, missed uint64, err error) {
	if _, err := client.Status(ctx); err != nil {
		return 0, 0, err
	}
	file, err := os.OpenFile(filepath.Clean(path), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return 0, 0, fmt.Errorf("--out: %w", err)
	}
	defer func() {
		err = errors.Join(err, file.Close())
		if n > 0 {
			return
		}
		_ = os.Remove(path) // nothing is in it, and it would stand in the way of the next try
		if err == nil {
			err = &codeError{exitConflict, nothingRecorded(filter, missed)}
		}
	}()
	w, err := trial.NewWriter(file, time.Now(), values)
	if err != nil {
		return 0, 0, err
	}
	var failed error
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	err = client.StreamAll(ctx, filter, values, func(e control.Event) {
		if failed != nil {
			return
		}
		switch e.Kind {
		case "lost":
			missed += e.Count
			return
		case "statement":
		default:
			return
		}
		if values && e.Statement == "" { // it had been sent before anybody wanted its values
			missed++
			return
		}
		began := e.At.Add(-time.Duration(e.Took * float64(time.Millisecond)))
		line := trial.Line{Session: e.Client, Application: e.Application, User: e.User, Database: e.Database, Pattern: e.Pattern, SQL: e.Text, Outcome: e.Outcome, Took: e.Took}
		if values {
			line.SQL, line.Protocol, line.Parameters, line.Types = e.Statement, e.Protocol, e.Parameters, e.Types
		}
		if failed = w.Add(began, line); failed != nil {
			cancel()
		}
	})
	switch {
	case failed != nil:
		return w.Statements(), missed, fmt.Errorf("writing %s: %w", path, failed)
	case ctx.Err() == nil:
		_ = w.End(missed)
		return w.Statements(), missed, fmt.Errorf("the recording was interrupted: %w", err)
	}
	return w.Statements(), missed, w.End(missed)
}
