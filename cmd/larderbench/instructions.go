package main

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"

	"jollylarder/internal/replay"
)

// replayed has an exchange answered from memory so many times, for who counts what that takes.
func replayed(name, times string) error {
	n, err := strconv.Atoi(times)
	if err != nil {
		return err
	}
	for _, x := range replay.Exchanges {
		if x.Name == name {
			return replay.Run(x, n)
		}
	}
	return fmt.Errorf("there is no exchange %q", name)
}

// ofPackage says what the packages do whose instructions are told apart.
var ofPackage = map[string]string{
	"jollylarder/internal/wire/postgres":  "the protocol: messages parsed, locks, the reply put together",
	"jollylarder/internal/wire/mysql":     "the protocol: messages parsed, locks, the reply put together",
	"jollylarder/internal/core/engine":    "the decision, and its end",
	"jollylarder/internal/core/ledger":    "counting",
	"jollylarder/internal/core/freshness": "clocks compared",
	"jollylarder/internal/core/store":     "the way to what is cached",
	"time":                                "times compared",
}

// instructions counts what a hit takes of the processor within the larder, system calls left out.
func (b *bench) instructions() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, x := range replay.Exchanges {
		got, err := replay.Count(self, "replay", x.Name)
		if err != nil {
			return err
		}
		times, err := replay.Times(x, b.rounds)
		if err != nil {
			return err
		}
		slices.Sort(times)
		b.results.Figures = append(b.results.Figures,
			Figure{Case: "a " + x.Name + " hit within the larder", What: "median of rounds", Value: float64(times[len(times)/2].Nanoseconds()), Unit: "ns"})
		name := "instructions of a " + x.Name + " hit"
		b.results.Figures = append(b.results.Figures, Figure{Case: name, What: "in all", Value: got.Total, Unit: "each"})
		rest := got.Total
		for _, p := range slices.Sorted(maps.Keys(ofPackage)) {
			if got.ByPackage[p] == 0 { // the other protocol's
				continue
			}
			rest -= got.ByPackage[p]
			b.results.Figures = append(b.results.Figures, Figure{Case: name, What: ofPackage[p], Value: got.ByPackage[p], Unit: "each"})
		}
		b.results.Figures = append(b.results.Figures, Figure{Case: name, What: "hashing, looking up, copying, the clock, the runtime", Value: rest, Unit: "each"})
	}
	return nil
}
