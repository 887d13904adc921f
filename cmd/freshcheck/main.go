// Command freshcheck looks for old answers for a while, before a PostgreSQL server that it starts for that alone.
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

func main() {
	length := flag.Duration("for", time.Minute, "how long to look")
	seed := flag.Uint64("seed", 1, "the first seed; each is a schema and a script")
	feed := flag.Bool("feed", false, "have some writes come around the larder, with a change feed")
	generated := flag.Bool("generated", false, "have random statements asked of random tables")
	focus := flag.String("focus", "", "have the random tables be about this")
	steps := flag.Int("steps", 1000, "steps of each script")
	atOnce := flag.Int("at-once", 2, "scripts at once")
	flag.Parse()
	if err := run(*length, *seed, *feed, *generated, *focus, *steps, *atOnce); err != nil {
		fmt.Fprintln(os.Stderr, "freshcheck:", err)
		os.Exit(1)
	}
}

func run(length time.Duration, seed uint64, feed, generated bool, focus string, steps, atOnce int) error {
	server, err := privatepg.Start("", "wal_level=logical", "max_replication_slots=20", "max_wal_senders=20", "max_prepared_transactions=50", "autovacuum=off", "max_connections=200")
	if err != nil {
		return err
	}
	defer server.Stop()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	c := freshcheck.Checker{Address: server.Address(), Feed: feed, Generated: generated, Steps: steps}
	if focus != "" {
		c.Focus = []string{focus}
	}
	began, last := time.Now(), time.Now()
	sum, found, err := c.Run(ctx, seed, length, atOnce, func(n freshcheck.Counts) {
		if time.Since(last) > 10*time.Second {
			last = time.Now()
			fmt.Fprintf(os.Stderr, "%s: %d scripts, %d operations, %d hits judged\n", time.Since(began).Round(time.Second), n.Scripts, n.Operations, n.Hits)
		}
	})
	if err != nil {
		return err
	}
	violations := 0
	if found != nil {
		violations = 1
		fmt.Println(found)
	}
	fmt.Printf("seeds from %d: %d scripts, %d operations, %d writes around, %d reads of which %d were answered from memory and judged, %d violations\n",
		seed, sum.Scripts, sum.Operations, sum.Around, sum.Reads, sum.Hits, violations)
	fmt.Printf("%d results dropped; of those fetched again, %d had changed and %d had not\n", sum.Drops, sum.Changed, sum.Same)
	if violations > 0 {
		return fmt.Errorf("an old answer was found")
	}
	return nil
}
