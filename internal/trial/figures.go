// Package trial compares the same statements asked of the database directly, through the larder with keeping off, and
// through it with keeping on: what was waited, and whether the answers were the same.
package trial

import (
	"fmt"
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"jollylarder/internal/core/ledger"
)

// The ways a statement is asked.
const (
	Direct = "direct"
	Off    = "through, off"
	On     = "through, on"
)

// Figures is what was measured of one way. Times are in milliseconds.
type Figures struct {
	Way       string  `json:"way"`
	Calls     int     `json:"calls"`
	Errors    int     `json:"errors"`
	PerSecond float64 `json:"per_second"`
	Mean      float64 `json:"mean_ms"`
	P50       float64 `json:"p50_ms"`
	P90       float64 `json:"p90_ms"`
	P99       float64 `json:"p99_ms"`
	Most      float64 `json:"max_ms"`
	// Origin is how many statements the database had to answer for them, where that is known.
	Origin *uint64 `json:"origin_statements,omitempty"`
	// Times are how many statements took how long, shortest first; those between two of them have no statement.
	Times []Bucket `json:"times,omitempty"`
}

// Bucket is how many statements took from so long to so long, in milliseconds.
type Bucket struct {
	From  float64 `json:"from_ms"`
	To    float64 `json:"to_ms"`
	Count uint64  `json:"count"`
}

// bucketsPerDecade is how fine Times are.
const bucketsPerDecade = 20

// buckets counts sorted times.
func buckets(sorted []float64) (out []Bucket) {
	for _, ms := range sorted {
		at := math.Floor(math.Log10(max(ms, 0.001)) * bucketsPerDecade)
		from := math.Pow(10, at/bucketsPerDecade)
		if n := len(out); n > 0 && out[n-1].From == from {
			out[n-1].Count++
			continue
		}
		out = append(out, Bucket{from, math.Pow(10, (at+1)/bucketsPerDecade), 1})
	}
	return out
}

// Estimate is a number with half of its interval of 95%; Error is nil where too few rounds were made to say.
type Estimate struct {
	Value float64  `json:"value"`
	Error *float64 `json:"error,omitempty"`
}

// Difference is how one way differs from another, round by round: positive where it took longer. Times are in
// milliseconds, and Rate is the one's statements per second as a part of the other's.
type Difference struct {
	Way     string   `json:"way"`
	Against string   `json:"against"`
	Mean    Estimate `json:"mean_ms"`
	P50     Estimate `json:"p50_ms"`
	P90     Estimate `json:"p90_ms"`
	P99     Estimate `json:"p99_ms"`
	Rate    Estimate `json:"rate"`
	// Each is how the means of each round differ, in the order of the rounds.
	Each []float64 `json:"each_mean_ms,omitempty"`
}

// Result is what a trial came to.
type Result struct {
	Kind    string       `json:"kind"` // load or live
	Rounds  int          `json:"rounds"`
	Clients int          `json:"clients,omitempty"`
	Ways    []Figures    `json:"ways"`
	Against []Difference `json:"differences"`
	// Saved is what keeping spared in all of the rounds, by the trial; Counted what the larder itself counted for the
	// same statements, by the last fetch of each result, and Sampled by the control samples; in milliseconds. The
	// latter are nil where the larder was not asked, or too few samples were taken.
	Saved   *Estimate `json:"saved_ms,omitempty"`
	Counted *float64  `json:"larder_counted_ms,omitempty"`
	Sampled *Estimate `json:"larder_sampled_ms,omitempty"`
	Answers *Answers  `json:"answers,omitempty"`
	// Inconclusive says why nothing can be concluded from it, or only with reservation; empty if something can. Where
	// nothing can, Saved is nil.
	Inconclusive string `json:"inconclusive,omitempty"`
	// LeftOut says what of the statements was not run, and why; Ended why the trial ended before its time.
	LeftOut []string `json:"left_out,omitempty"`
	Ended   string   `json:"ended_early,omitempty"`
}

// Answers is what came of comparing answers: of each statement the direct one, that from the larder, and the direct one
// again.
type Answers struct {
	Equal     int `json:"equal"`
	Different int `json:"different"`
	// Changing are those of which the two direct ones differed already.
	Changing int `json:"changing"`
	// First are the first few statements whose answers were different.
	First []string `json:"first,omitempty"`
}

// Slice is one way's part of one round.
type Slice struct {
	Took   []float64 // of each statement, in milliseconds
	Length float64   // in seconds
	Errors int
	Sums   ledger.Sums // what the larder counted meanwhile
	// Bounds is how many statements were sent besides, to begin transactions and to roll them back.
	Bounds int
}

// Sum makes the figures of one way of its slices.
func Sum(way string, list []Slice) Figures {
	f := Figures{Way: way}
	var all []float64
	var length float64
	for _, s := range list {
		all = append(all, s.Took...)
		length += s.Length
		f.Errors += s.Errors
	}
	f.Calls = len(all)
	if f.Calls == 0 {
		return f
	}
	slices.Sort(all)
	if length > 0 {
		f.PerSecond = float64(len(all)) / length
	}
	f.Mean, f.Most = stat.Mean(all, nil), all[len(all)-1]
	f.P50, f.P90, f.P99 = quantile(all, 0.5), quantile(all, 0.9), quantile(all, 0.99)
	f.Times = buckets(all)
	return f
}

func quantile(sorted []float64, p float64) float64 {
	return stat.Quantile(p, stat.Empirical, sorted, nil)
}

// difference compares two ways by their rounds: noise of the machine that lasts longer than one is in both.
func difference(way, against string, a, b []Figures) Difference {
	d := Difference{Way: way, Against: against}
	of := func(f func(Figures) float64) Estimate {
		var each []float64
		for i := range min(len(a), len(b)) {
			each = append(each, f(a[i])-f(b[i]))
		}
		return Mean(each)
	}
	d.Mean = of(func(f Figures) float64 { return f.Mean })
	d.P50 = of(func(f Figures) float64 { return f.P50 })
	d.P90 = of(func(f Figures) float64 { return f.P90 })
	d.P99 = of(func(f Figures) float64 { return f.P99 })
	for i := range min(len(a), len(b)) {
		d.Each = append(d.Each, a[i].Mean-b[i].Mean)
	}
	var rates []float64
	for i := range min(len(a), len(b)) {
		if b[i].PerSecond > 0 {
			rates = append(rates, a[i].PerSecond/b[i].PerSecond)
		}
	}
	d.Rate = Mean(rates)
	return d
}

// fewestRounds is from how many rounds on intervals are given.
const fewestRounds = 3

// concludesNothing notes that nothing can be concluded.
func (r *Result) concludesNothing(why string) { r.Inconclusive, r.Saved = why, nil }

// Mean estimates a mean from a few measurements, by Student's distribution.
func Mean(each []float64) Estimate {
	n := len(each)
	if n == 0 {
		return Estimate{}
	}
	m, sd := stat.MeanStdDev(each, nil)
	if n < fewestRounds {
		return Estimate{Value: m}
	}
	half := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(n - 1)}.Quantile(0.975) * sd / math.Sqrt(float64(n))
	return Estimate{m, &half}
}

// Compare makes a result's figures and differences of what was measured, round by round: the last of ways is held
// against all others.
func Compare(ways []string, rounds map[string][]Figures, whole map[string]Figures) (r Result) {
	for _, w := range ways {
		r.Ways = append(r.Ways, whole[w])
		r.Rounds = len(rounds[w])
	}
	last := ways[len(ways)-1]
	for _, w := range ways[:len(ways)-1] {
		r.Against = append(r.Against, difference(last, w, rounds[last], rounds[w]))
	}
	if len(ways) > 2 {
		r.Against = append(r.Against, difference(Off, Direct, rounds[Off], rounds[Direct]))
	}
	var each []float64
	for i := range min(len(rounds[On]), len(rounds[Off])) {
		on, off := rounds[On][i], rounds[Off][i]
		each = append(each, (off.Mean-on.Mean)*float64(on.Calls))
	}
	if n := float64(len(each)); n > 0 {
		e := Mean(each)
		e.Value *= n
		if e.Error != nil {
			half := *e.Error * n
			e.Error = &half
		}
		r.Saved = &e
	}
	switch {
	case whole[last].Calls == 0:
		r.concludesNothing("no statement was sent that could have been a hit")
	case r.Rounds < fewestRounds:
		r.Inconclusive = fmt.Sprintf("with fewer than %d rounds there is no interval, and the difference may be chance", fewestRounds)
	}
	return r
}

// Counts takes what the larder counted of the statements with keeping on.
func (r *Result) Counts(s ledger.Sums) {
	ms := func(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
	if s.Calls() > 0 && s.Count[ledger.Hit] == 0 {
		r.concludesNothing(fmt.Sprintf("none of the %d statements was a hit while caching was on", s.Calls()))
	}
	counted := ms(s.Saved)
	r.Counted = &counted
	if e := s.BySample(); e.Known {
		half := ms(e.Error)
		r.Sampled = &Estimate{ms(e.Time), &half}
	}
}

// Agreement is how what the trial found compares with what the larder's control samples say of the same statements.
type Agreement string

// The agreements. A trial that loads the machine to the full may find more, since with keeping on the database has less
// to do, and what it still answers is faster too; or less, since hits that come without a pause are load as well, under
// which what is fetched in between takes longer.
const (
	Unknown Agreement = "" // one of them has no interval
	Agree   Agreement = "they agree within their intervals"
	More    Agreement = "the trial finds more: statements that still went to the database may also have been faster"
	Less    Agreement = "the trial finds less: statements between hits took longer than with caching off"
)

// Agrees compares them.
func (r *Result) Agrees() Agreement {
	if r.Saved == nil || r.Saved.Error == nil || r.Sampled == nil {
		return Unknown
	}
	switch d := r.Saved.Value - r.Sampled.Value; {
	case math.Abs(d) <= math.Hypot(*r.Saved.Error, *r.Sampled.Error):
		return Agree
	case d > 0:
		return More
	}
	return Less
}
