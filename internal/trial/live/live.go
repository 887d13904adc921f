package live

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/trial"
)

// Live is a trial on the traffic that comes by itself: keeping is switched off and on in turns.
type Live struct {
	Engine *engine.Engine
	// Slice is how long keeping is off, or on, at a time; and Rounds how often both are.
	Slice  time.Duration
	Rounds int
	// Progress, if it is set, is told how much is done, from 0 to 1, and what is being done.
	Progress func(done float64, what string)
}

// settles is the first part of every slice, in which statements that began before still end, and memory comes up to
// what was written: it does not count.
const settles = 8 // an eighth

// liveSlice is one slice of a live trial.
type liveSlice struct {
	sums   engine.RuledSums
	length time.Duration
}

// Check says what is wrong with what is asked for.
func (t *Live) Check() error {
	if t.Slice < trial.ShortestSlice || t.Slice > trial.LongestSlice {
		return fmt.Errorf("a slice of %s: expected %s to %s", t.Slice, trial.ShortestSlice, trial.LongestSlice)
	}
	if t.Rounds < 1 || t.Rounds > trial.MostRounds {
		return fmt.Errorf("%d rounds: expected 1 to %d", t.Rounds, trial.MostRounds)
	}
	return nil
}

// Run makes the trial. However it ends, keeping is on again afterwards.
func (t *Live) Run(ctx context.Context) (trial.Result, error) {
	if err := t.Check(); err != nil {
		return trial.Result{}, err
	}
	defer t.Engine.SetAside(false)
	ways := []string{trial.Off, trial.On}
	slices_, rounds := map[string][]liveSlice{}, map[string][]trial.Figures{}
	ended, set := "", t.Engine.Rules()
	for round := range t.Rounds {
		var done [2]liveSlice
		for i := range ways {
			at := (i + round) % 2 // neither is always first
			if t.Progress != nil {
				t.Progress(
					float64(2*round+i)/float64(2*t.Rounds),
					fmt.Sprintf("round %d of %d: %s", round+1, t.Rounds, ways[at]),
				)
			}
			t.Engine.SetAside(ways[at] == trial.Off)
			s, ok := t.slice(ctx)
			switch {
			case !ok:
				ended = "it was stopped"
			case t.Engine.Rules() != set:
				ended = "the rules were changed meanwhile, so that other statements would be compared"
			case t.Engine.CachingOff():
				ended = "caching was turned off meanwhile"
			}
			if ended != "" {
				break
			}
			done[at] = s
		}
		if ended != "" {
			break
		}
		for i, w := range ways {
			slices_[w] = append(slices_[w], done[i])
			rounds[w] = append(rounds[w], liveFigures(w, done[i]))
		}
	}
	if len(rounds[trial.On]) == 0 {
		return trial.Result{}, fmt.Errorf("no round was completed: %s", ended)
	}
	whole := map[string]trial.Figures{}
	for _, w := range ways {
		sum := liveSlice{sums: engine.RuledSums{Times: map[int64]ledger.Bucket{}}}
		for _, s := range slices_[w] {
			sum.sums.Sums = sum.sums.Plus(s.sums.Sums)
			sum.length += s.length
			for k, b := range s.sums.Times {
				have := sum.sums.Times[k]
				b.Count += have.Count
				sum.sums.Times[k] = b
			}
		}
		whole[w] = liveFigures(w, sum)
	}
	r := trial.Compare(ways, rounds, whole)
	r.Kind, r.Ended = "live", ended
	var sums ledger.Sums
	for _, s := range slices_[trial.On] {
		sums = sums.Plus(s.sums.Sums)
	}
	r.Counts(sums)
	return r, nil
}

// slice lets one slice pass, and gives what was counted in it.
func (t *Live) slice(ctx context.Context) (s liveSlice, ok bool) {
	wait := func(d time.Duration) bool {
		timer := time.NewTimer(d)
		defer timer.Stop()
		select {
		case <-ctx.Done():
			return false
		case <-timer.C:
			return true
		}
	}
	if !wait(t.Slice / settles) {
		return s, false
	}
	before, began := t.Engine.Ruled(), time.Now()
	if !wait(t.Slice - t.Slice/settles) {
		return s, false
	}
	return liveSlice{t.Engine.Ruled().Minus(before), time.Since(began)}, true
}

// liveFigures makes figures of what the ledger counted: its percentiles are right within an eighth.
func liveFigures(way string, s liveSlice) trial.Figures {
	ms := func(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
	origin := s.sums.Calls() - s.sums.Count[ledger.Hit]
	f := trial.Figures{Way: way, Calls: int(s.sums.Calls()), Origin: &origin}
	if f.Calls == 0 {
		return f
	}
	f.PerSecond = float64(f.Calls) / s.length.Seconds()
	f.Mean = ms(s.sums.AllWaited()) / float64(f.Calls)
	var all, n uint64
	for _, b := range s.sums.Times {
		all += uint64(b.Count)
	}
	to := []struct {
		p   float64
		out *float64
	}{{0.5, &f.P50}, {0.9, &f.P90}, {0.99, &f.P99}, {1, &f.Most}}
	for _, k := range slices.Sorted(maps.Keys(s.sums.Times)) {
		b := s.sums.Times[k]
		f.Times = append(f.Times, trial.Bucket{From: ms(b.From), To: ms(b.To), Count: uint64(b.Count)})
		for len(to) > 0 && float64(n+uint64(b.Count)) >= to[0].p*float64(all) {
			*to[0].out = ms(b.From) + ms(b.To-b.From)*(to[0].p*float64(all)-float64(n))/float64(b.Count)
			to = to[1:]
		}
		n += uint64(b.Count)
	}
	return f
}
