// Command freshcheck looks for stale answers for a while, before a database server that it starts for that alone.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"time"

	"jollylarder/internal/freshcheck"
	"jollylarder/internal/privatepg"
)

// options are those of the command line.
type options struct {
	protocol  string
	length    time.Duration
	seed      uint64
	feed      bool
	generated bool
	focus     string
	steps     int
	atOnce    int
	pairs     bool
	changes   int
}

func main() {
	var o options
	flag.StringVar(&o.protocol, "protocol", "postgresql", "the kind of server: postgresql or mysql")
	flag.DurationVar(&o.length, "for", time.Minute, "how long to look")
	flag.Uint64Var(&o.seed, "seed", 1, "the first seed; each is a schema and a script")
	flag.BoolVar(&o.feed, "feed", false, "have some writes come around the larder, with a change feed")
	flag.BoolVar(&o.generated, "generated", false, "have random statements asked of random tables")
	flag.StringVar(&o.focus, "focus", "", "have the random tables be about this")
	flag.IntVar(&o.steps, "steps", 1000, "steps of each script")
	flag.IntVar(&o.atOnce, "at-once", 2, "scripts at once")
	flag.BoolVar(&o.pairs, "pairs", false, "have each of a list of changes meet each of a list of cached queries")
	flag.IntVar(&o.changes, "changes", 1, "with -pairs: how many changes, one after the other; more than one are chosen at random, for as long as -for says")
	flag.Parse()
	if err := run(o); err != nil {
		fmt.Fprintln(os.Stderr, "freshcheck:", err)
		os.Exit(1)
	}
}

// serverOf starts a server of a kind, and gives how it is checked.
func serverOf(protocol string) (c freshcheck.Checker, stop func(), err error) {
	switch protocol {
	case "postgresql":
		s, err := privatepg.Start("", freshcheck.PostgreSQLSettings...)
		if err != nil {
			return c, nil, err
		}
		return freshcheck.Checker{Database: freshcheck.PostgreSQL, Address: s.Address()}, s.Stop, nil
	case "mysql":
		s, err := freshcheck.MariaDBOptions.Start()
		if err != nil {
			return c, nil, err
		}
		return freshcheck.Checker{Database: freshcheck.MariaDB, Address: s.Address()}, s.Stop, nil
	}
	return c, nil, fmt.Errorf("-protocol %s: there are postgresql and mysql", protocol)
}

func run(o options) error {
	c, end, err := serverOf(o.protocol)
	if err != nil {
		return err
	}
	defer end()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	c.Feed, c.Generated, c.Steps = o.feed, o.generated, o.steps
	if o.focus != "" {
		c.Focus = []string{o.focus}
	}
	began, last := time.Now(), time.Now()
	progress := func(n freshcheck.Counts) {
		if time.Since(last) > 10*time.Second {
			last = time.Now()
			fmt.Fprintf(os.Stderr, "%s: %d scripts, %d operations, %d hits judged\n", time.Since(began).Round(time.Second), n.Scripts, n.Operations, n.Hits)
		}
	}
	look := c.Run
	if o.pairs {
		look = func(ctx context.Context, first uint64, length time.Duration, atOnce int, progress func(freshcheck.Counts)) (freshcheck.Counts, *freshcheck.Violation, error) {
			return c.Pairs(ctx, first, o.changes, length, atOnce, progress)
		}
	}
	sum, found, err := look(ctx, o.seed, o.length, o.atOnce, progress)
	if err != nil {
		return err
	}
	violations := 0
	if found != nil {
		violations = 1
		fmt.Println(found)
	}
	fmt.Printf("seeds from %d: %d scripts, %d operations, %d writes around, %d reads of which %d were answered from memory and judged, %d violations\n",
		o.seed, sum.Scripts, sum.Operations, sum.Around, sum.Reads, sum.Hits, violations)
	fmt.Printf("%d results dropped; of those fetched again, %d had changed and %d had not\n", sum.Drops, sum.Changed, sum.Same)
	if violations > 0 {
		return fmt.Errorf("a stale answer was found")
	}
	return nil
}
