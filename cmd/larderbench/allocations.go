package main

import "jollylarder/internal/replay"

// allocations counts what the larder allocates for a hit. For that it runs in this process, whose client allocates
// nothing; what else goes on in the process meanwhile is counted too.
func (b *bench) allocations() error {
	for _, x := range replay.Exchanges {
		each, err := replay.Allocations(x)
		if err != nil {
			return err
		}
		b.results.Figures = append(b.results.Figures,
			Figure{Case: "allocations", What: "of a " + x.Name + " hit", Value: each, Unit: "each"}.atMost(0.01))
	}
	return nil
}
