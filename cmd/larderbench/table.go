package main

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
)

// Ratio is one line of the table: how a figure compares with that of something else, measured in the same rounds.
type Ratio struct {
	Case    string    `json:"case"`
	What    string    `json:"what"`
	Against string    `json:"against"`
	Median  float64   `json:"median"`
	Low     float64   `json:"low"`  // of all rounds
	High    float64   `json:"high"` // of all rounds
	Aim     string    `json:"aim,omitempty"`
	Met     *bool     `json:"met,omitempty"`
	Rounds  []float64 `json:"rounds"`
}

// Figure is a number that is no ratio.
type Figure struct {
	Case  string  `json:"case"`
	What  string  `json:"what"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Aim   string  `json:"aim,omitempty"`
	Met   *bool   `json:"met,omitempty"`
}

// Results is all that was measured in one run.
type Results struct {
	Machine string   `json:"machine"`
	Ratios  []Ratio  `json:"ratios"`
	Figures []Figure `json:"figures"`
	ByHand  []Judged `json:"by_hand,omitempty"`
}

// figure gives one that was measured before.
func (r *Results) figure(in, what string) float64 {
	for _, f := range r.Figures {
		if f.Case == in && f.What == what {
			return f.Value
		}
	}
	return math.NaN()
}

func median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	if n := len(s); n%2 == 0 {
		return (s[n/2-1] + s[n/2]) / 2
	}
	return s[len(s)/2]
}

// quantile gives the value that the share p of all does not exceed.
func quantile(v []float64, p float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[int(p*float64(len(s)-1)+0.5)]
}

// ratio compares two series round by round. Aim is the least that is wanted, or 0.
func ratio(in, what, against string, a, b []float64, aim float64) Ratio {
	r := Ratio{Case: in, What: what, Against: against}
	for i := range a {
		r.Rounds = append(r.Rounds, a[i]/b[i])
	}
	r.Median, r.Low, r.High = median(r.Rounds), slices.Min(r.Rounds), slices.Max(r.Rounds)
	if aim > 0 {
		met := r.Median >= aim
		r.Aim, r.Met = fmt.Sprintf("at least %g", aim), &met
	}
	return r
}

func (f Figure) atMost(aim float64) Figure {
	met := f.Value <= aim
	f.Aim, f.Met = fmt.Sprintf("at most %g", aim), &met
	return f
}

func action(met *bool) string {
	switch {
	case met == nil:
		return ""
	case *met:
		return "met"
	}
	return "NOT MET"
}

// print writes the table.
func (r *Results) print(w io.Writer) {
	fmt.Fprintf(w, "%s\n\n", r.Machine)
	fmt.Fprintf(w, "%-24s %-32s %8s  %-15s %-15s %s\n", "case", "ratio", "median", "of all rounds", "aim", "")
	last := ""
	for _, x := range r.Ratios {
		c := x.Case
		if c == last {
			c = ""
		}
		last = x.Case
		fmt.Fprintf(w, "%-24s %-32s %8.2f  %-15s %-15s %s\n", c, x.What+" / "+x.Against, x.Median, fmt.Sprintf("%.2f to %.2f", x.Low, x.High), x.Aim, action(x.Met))
	}
	fmt.Fprintf(w, "\n%-24s %-32s %12s  %-22s %s\n", "case", "figure", "", "aim", "")
	last = ""
	for _, x := range r.Figures {
		c := x.Case
		if c == last {
			c = ""
		}
		last = x.Case
		fmt.Fprintln(w, strings.TrimRight(fmt.Sprintf("%-24s %-32s %12.4g  %-22s %s", c, x.What+", "+x.Unit, x.Value, x.Aim, action(x.Met)), " "))
	}
	for _, x := range r.ByHand {
		fmt.Fprintf(w, "%-48s %6d reads, %5.1f%% from memory, median %.3f ms, p99 %.3f ms, %d stale\n", x.Way, x.Reads, x.share()*100,
			x.Median.Seconds()*1e3, x.P99.Seconds()*1e3, x.Stale)
	}
}

// share is that of the reads that did not reach the database.
func (j *Judged) share() float64 { return float64(j.FromMemory) / float64(max(j.Reads, 1)) }
