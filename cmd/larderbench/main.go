// Command larderbench measures a larder in one run against what it is to be held to: the database itself, a relay that
// only copies bytes, a stub that answers every request with the same bytes, and a lookup in an in-memory key-value
// server. All of it runs on this machine's loopback, and ends by itself.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"regexp"
	"time"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "larderbench:", err)
		os.Exit(1)
	}
}

func run() error {
	// The peers are this program again, as processes of their own.
	if len(os.Args) == 4 && os.Args[1] == "relay" {
		return relay(os.Args[2], os.Args[3], pump)
	}
	if len(os.Args) == 5 && os.Args[1] == "delayed" {
		d, err := time.ParseDuration(os.Args[4])
		if err != nil {
			return err
		}
		return delayed(os.Args[2], os.Args[3], d)
	}
	if len(os.Args) == 4 && os.Args[1] == "replay" {
		return replayed(os.Args[2], os.Args[3])
	}
	if len(os.Args) == 3 && os.Args[1] == "standin" {
		return standIn(os.Args[2])
	}
	if len(os.Args) == 4 && os.Args[1] == "mysqlstub" {
		return mysqlStub(os.Args[2], os.Args[3])
	}
	if len(os.Args) == 4 && os.Args[1] == "stub" {
		text, err := os.ReadFile(os.Args[3])
		if err != nil {
			return err
		}
		var c canned
		if err := json.Unmarshal(text, &c); err != nil {
			return err
		}
		return accepts(os.Args[2], c.serve)
	}
	if len(os.Args) == 3 && os.Args[1] == "parts" {
		return writeParts(os.Stdin, os.Args[2])
	}
	var b bench
	only := flag.String("only", "", "measure only the cases whose names this regular expression finds: "+caseNames())
	out := flag.String("json", "", "file to write the results to as JSON")
	page := flag.String("page", "", "file whose tables to write anew, in Markdown")
	flag.StringVar(&b.program, "larder", "bin/jollylarder", "the program to measure")
	flag.StringVar(&b.just, "just", "", "load only this target (bypass, hit, ...) and give no ratios: for looking at it with a profiler")
	flag.IntVar(&b.rounds, "rounds", 21, "rounds of every comparison")
	flag.DurationVar(&b.slice, "slice", 150*time.Millisecond, "how long each thing is measured in a round")
	flag.IntVar(&b.idle, "idle", 5000, "how many idle connections are opened")
	flag.Parse()
	wanted, err := regexp.Compile(*only)
	if err != nil {
		return fmt.Errorf("-only: %w", err)
	}
	b.results.Machine = fmt.Sprintf("%s; client, larder and database share them. %d rounds of %s each", machine(), b.rounds, b.slice)
	defer b.stop()
	if err := b.start(); err != nil {
		return err
	}
	for _, c := range cases {
		if !wanted.MatchString(c.name) {
			continue
		}
		fmt.Fprintln(os.Stderr, "measuring", c.name)
		if err := c.run(&b); err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
	}
	b.results.print(os.Stdout)
	if *page != "" {
		if err := b.results.writePage(*page); err != nil {
			return err
		}
	}
	if *out != "" {
		text, err := json.MarshalIndent(&b.results, "", "  ")
		if err != nil {
			return err
		}
		return os.WriteFile(*out, append(text, '\n'), 0o644)
	}
	return nil
}
