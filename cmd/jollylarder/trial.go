package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
	"jollylarder/internal/trial/load"
)

// trialFlags are the flags of a trial.
type trialFlags struct {
	statements, recording, direct, through string
	clients, rounds                        int
	length, slice                          time.Duration
	timed, allowWrites, cut, live, asJSON  bool
}

func trialCommand() *cobra.Command {
	var f trialFlags
	var to *toLarder
	c := &cobra.Command{
		Use:   "trial --statements FILE | --recording FILE | --live",
		Short: "Compare the same statements directly, and through the larder with caching off and on",
		Long: `A load trial sends the statements of a file, or of a recording, three ways in turns: to the database directly, through the
larder with caching off, and through the larder with caching on. It compares times and answers.

A live trial turns caching off and on in turns for the clients' traffic. While caching is off, every statement goes to the
database: choose an hour when the database can take that.`,
		Example: `  jollylarder trial --statements reads.sql --direct postgres://ines@db:5432/skerrow --through postgres://ines@larder:5433/skerrow
  jollylarder trial --recording monday.jsonl --timed --through postgres://ines@larder:5433/skerrow
  jollylarder trial --live --slice 30s --rounds 6`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return runTrial(c, to, f) },
	}
	to = connecting(c)
	fs := c.Flags()
	fs.StringVar(&f.statements, "statements", "", "file of SQL statements, each ended by a semicolon")
	fs.StringVar(&f.recording, "recording", "", "file that jollylarder record wrote")
	fs.BoolVar(&f.live, "live", false, "turn caching off and on in turns for the clients' traffic")
	fs.StringVar(&f.direct, "direct", "", "URL of the database; without it, only caching off and on are compared")
	fs.StringVar(&f.through, "through", "", "URL of the same database through the larder")
	fs.IntVar(&f.clients, "clients", 8, "number of connections")
	fs.DurationVar(&f.length, "for", 30*time.Second, "how long a load trial lasts, about")
	fs.IntVar(&f.rounds, "rounds", 10, "number of rounds")
	fs.DurationVar(&f.slice, "slice", 30*time.Second, "duration of one turn of a live trial")
	fs.BoolVar(&f.timed, "timed", false, "send the statements of a recording at their recorded times; otherwise as fast as possible")
	fs.BoolVar(&f.cut, "cut", false, "use the complete lines of a truncated recording")
	fs.BoolVar(&f.allowWrites, "allow-writes", false, "run statements that may write, each in a transaction that is rolled back")
	fs.BoolVar(&f.asJSON, "json", false, "print JSON")
	c.MarkFlagsOneRequired("statements", "recording", "live")
	c.MarkFlagsMutuallyExclusive("statements", "recording", "live")
	return c
}

func runTrial(c *cobra.Command, to *toLarder, f trialFlags) error {
	ctx, stop := interrupted()
	defer stop()
	said := ""
	progress := func(done float64, what string) {
		if line := fmt.Sprintf("%3.0f%%  %s", 100*done, what); line != said && !f.asJSON {
			said = line
			fmt.Fprintln(c.ErrOrStderr(), line)
		}
	}
	var r trial.Result
	if f.live {
		client, err := to.client()
		if err != nil {
			return err
		}
		out, err := client.Trial(ctx, control.Trial{Slice: float64(f.slice) / float64(time.Millisecond), Rounds: f.rounds}, progress)
		if err != nil {
			return err
		}
		r = *out
	} else {
		load, err := f.load(to)
		if err != nil {
			return err
		}
		list, leftOut, err := f.list(load.Protocol)
		if err != nil {
			return err
		}
		load.Statements, load.Progress = list, progress
		if r, err = load.Run(ctx); err != nil {
			return err
		}
		r.LeftOut = leftOut
	}
	if f.asJSON {
		return printJSON(c, r)
	}
	printTrial(c.OutOrStdout(), &r)
	return nil
}

// load makes a load trial of the flags.
func (f *trialFlags) load(to *toLarder) (*load.Load, error) {
	switch {
	case f.through == "":
		return nil, &usageError{errors.New("--through is needed: the URL of the database through the larder")}
	case f.clients < 1 || f.clients > 1000:
		return nil, &usageError{fmt.Errorf("--clients %d: expected 1 to 1000", f.clients)}
	case f.rounds < 1 || f.rounds > 1000:
		return nil, &usageError{fmt.Errorf("--rounds %d: expected 1 to 1000", f.rounds)}
	case f.length < time.Second || f.length > time.Hour:
		return nil, &usageError{fmt.Errorf("--for %s: expected 1s to 1h", f.length)}
	case f.timed && f.recording == "":
		return nil, &usageError{errors.New("--timed goes with --recording")}
	}
	p, err := load.Protocol(f.direct, f.through)
	if err != nil {
		return nil, &usageError{err}
	}
	load := &load.Load{Protocol: p, Direct: f.direct, Through: f.through, Clients: f.clients, Length: f.length, Rounds: f.rounds, Timed: f.timed, OptOut: engine.OptOutComment}
	if to.control != "" {
		client, err := to.client()
		if err != nil {
			return nil, err
		}
		load.Count = client.CountOf
	}
	return load, nil
}

// list reads the statements.
func (f *trialFlags) list(p *protocol.Protocol) ([]trial.Statement, []string, error) {
	var list []trial.Statement
	switch {
	case f.recording != "":
		file, err := os.Open(f.recording)
		if err != nil {
			return nil, nil, fmt.Errorf("--recording: %w", err)
		}
		defer file.Close()
		var cut *trial.CutError
		if _, list, err = trial.ReadRecording(f.recording, file); errors.As(err, &cut) && f.cut {
			err = nil
		} else if cut != nil {
			err = fmt.Errorf("%w; --cut uses them", err)
		}
		if err != nil {
			return nil, nil, err
		}
	default:
		text, err := os.ReadFile(f.statements)
		if err != nil {
			return nil, nil, fmt.Errorf("--statements: %w", err)
		}
		if list, err = load.ReadFile(f.statements, string(text), p); err != nil {
			return nil, nil, err
		}
	}
	out, leftOut, err := load.Sort(list, p, f.allowWrites)
	var refused *load.RefusedError
	if errors.As(err, &refused) {
		err = fmt.Errorf("%w (--allow-writes)", err)
	}
	return out, leftOut, err
}

// printTrial writes a trial's table.
func printTrial(w io.Writer, r *trial.Result) {
	fmt.Fprintf(w, "\n%-14s %9s %9s %9s %9s %9s %9s %9s %7s %9s\n", "", "calls", "/s", "mean ms", "p50", "p90", "p99", "max", "errors", "of origin")
	for _, f := range r.Ways {
		origin := "–"
		if f.Origin != nil {
			origin = fmt.Sprint(*f.Origin)
		}
		fmt.Fprintf(w, "%-14s %9d %9.0f %9.3f %9.3f %9.3f %9.3f %9.1f %7d %9s\n", f.Way, f.Calls, f.PerSecond, f.Mean, f.P50, f.P90, f.P99, f.Most, f.Errors, origin)
	}
	fmt.Fprintf(w, "\n%-34s %22s %22s %22s %16s\n", fmt.Sprintf("differences, %d rounds", r.Rounds), "mean ms", "p50", "p99", "statements/s")
	for _, d := range r.Against {
		fmt.Fprintf(w, "%-34s %22s %22s %22s %16s\n", d.Way+" – "+d.Against, interval(d.Mean, "%+.3f"), interval(d.P50, "%+.3f"), interval(d.P99, "%+.3f"), "×"+interval(d.Rate, "%.2f"))
	}
	fmt.Fprintln(w)
	if r.Saved != nil {
		fmt.Fprintf(w, "saved by caching, all rounds: %s s", interval(thousandth(*r.Saved), "%.3f"))
		if r.Counted != nil {
			fmt.Fprintf(w, "; the larder itself counted %.3f s by last fetches", *r.Counted/1000)
		}
		if r.Sampled != nil {
			fmt.Fprintf(w, ", and %s s by control samples", interval(thousandth(*r.Sampled), "%.3f"))
		}
		if a := r.Agrees(); a != trial.Unknown {
			fmt.Fprintf(w, ": %s", a)
		}
		fmt.Fprintln(w)
	}
	if r.Inconclusive != "" {
		fmt.Fprintf(w, "no conclusion: %s\n", r.Inconclusive)
	}
	if a := r.Answers; a != nil {
		fmt.Fprintf(w, "answers: %d equal, %d different, %d changing meanwhile\n", a.Equal, a.Different, a.Changing)
		for _, s := range a.First {
			fmt.Fprintf(w, "  different: %s\n", s)
		}
	}
	for _, x := range r.LeftOut {
		fmt.Fprintf(w, "left out: %s\n", x)
	}
	if r.Ended != "" {
		fmt.Fprintf(w, "ended early: %s; the figures are from the %d completed rounds\n", r.Ended, r.Rounds)
	}
}

// thousandth turns milliseconds into seconds.
func thousandth(e trial.Estimate) trial.Estimate {
	e.Value /= 1000
	if e.Error != nil {
		half := *e.Error / 1000
		e.Error = &half
	}
	return e
}

// interval writes an estimate with its interval of 95%.
func interval(e trial.Estimate, format string) string {
	out := fmt.Sprintf(format, e.Value)
	if e.Error != nil {
		out += " ± " + fmt.Sprintf(strings.Replace(format, "+", "", 1), *e.Error)
	}
	return out
}
