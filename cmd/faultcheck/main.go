// Command faultcheck runs a larder before a PostgreSQL server under load, has everything go wrong that may, and judges
// every answer: none may be older than what its client, or anybody else, had been told before it asked.
package main

import (
	"flag"
	"fmt"
	"os"
	"time"
)

func main() {
	binary := flag.String("larder", "bin/jollylarder", "the larder's program")
	each := flag.Duration("each", 4*time.Second, "how long the load goes on after each fault")
	around := flag.Bool("around", false, "write around the larder without a change feed, so that there are old answers to be found")
	only := flag.String("only", "", "the one fault to try")
	flag.Parse()
	if err := run(*binary, *each, *around, *only); err != nil {
		fmt.Fprintln(os.Stderr, "faultcheck:", err)
		os.Exit(1)
	}
}

func run(binary string, each time.Duration, around bool, only string) error {
	y, err := newYard(binary, around)
	if err != nil {
		return err
	}
	defer y.close()
	if err := y.begin(); err != nil {
		return err
	}
	tried := 0
	for _, f := range faults {
		if only != "" && f.name != only {
			continue
		}
		tried++
		before := y.load.counts()
		if err := f.do(y); err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
		if err := y.settle(each); err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
		n := y.load.counts().minus(before)
		fmt.Printf("%-34s %7d reads judged, %6d of them hits, %6d writes, %5d failed, %d old answers\n", f.name, n.reads, n.hits, n.writes, n.failed, n.old)
	}
	if tried == 0 {
		return fmt.Errorf("there is no fault %q", only)
	}
	all := y.load.counts()
	fmt.Printf("%-34s %7d reads judged, %6d of them hits, %6d writes, %5d failed, %d old answers\n", "in all", all.reads, all.hits, all.writes, all.failed, all.old)
	if all.old > 0 {
		return fmt.Errorf("old answers were found, the first: %s", y.load.first())
	}
	if all.hits == 0 {
		return fmt.Errorf("nothing was answered from memory, so nothing was judged")
	}
	return nil
}
