package report

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
	"jollylarder/internal/trial"
)

// Waiting draws what was spared and waited over time.
func Waiting(p *control.Proof) *chart.Chart {
	unit, per := time.Minute, "seconds a minute"
	switch step := time.Duration(p.Step * float64(time.Millisecond)); {
	case step < time.Minute:
		unit, per = time.Second, "seconds a second"
	case step >= 24*time.Hour:
		unit, per = 24*time.Hour, "hours a day"
	case step >= time.Hour:
		unit, per = time.Hour, "minutes an hour"
	}
	in := map[time.Duration]float64{time.Second: 1000, time.Minute: 1000, time.Hour: 60_000, 24 * time.Hour: 3_600_000}[unit]
	c := &chart.Chart{Title: "Time waited", Kind: chart.Stacked, X: chart.Axis{Scale: chart.Clock}, Y: chart.Axis{Label: per}, Width: p.Step / 1000, Location: time.Local}
	series := []chart.Series{{Name: "saved", Ink: chart.Saved}, {Name: "waited, could be cached", Ink: chart.Could}, {Name: "waited, the rest", Ink: chart.Rest}}
	for _, s := range p.Series {
		x := float64(s.At.Unix()) + p.Step/2000
		series[0].Points = append(series[0].Points, chart.Point{X: x, Y: s.Saved / in})
		series[1].Points = append(series[1].Points, chart.Point{X: x, Y: s.Could / in})
		series[2].Points = append(series[2].Points, chart.Point{X: x, Y: max(s.Waited-s.Could, 0) / in})
	}
	c.Series = series
	return c
}

// Times draws how long answers took, from memory and from the origin.
func Times(memory, origin *control.Distribution) *chart.Chart {
	c := &chart.Chart{Title: "Reply times", X: chart.Axis{Scale: chart.Log}, Y: chart.Axis{Label: "share of replies", Scale: chart.Share}}
	for _, x := range []struct {
		name string
		ink  chart.Ink
		of   *control.Distribution
	}{{"hits", chart.Saved, memory}, {"from the database", chart.Could, origin}} {
		if x.of == nil {
			continue
		}
		s := chart.Series{Name: x.name, Ink: x.ink}
		var all, n float64
		for _, b := range x.of.Buckets {
			all += float64(b.Count)
		}
		for _, b := range x.of.Buckets {
			n += float64(b.Count)
			s.Points = append(s.Points, chart.Point{X: max(b.To, 0.001), Y: n / all})
		}
		c.Series = append(c.Series, s)
	}
	return c
}

// mostBars is how many patterns a chart shows.
const mostBars = 8

// ByPattern draws what was spared of each pattern, by its last fetches and by the control samples.
func ByPattern(list []control.Proved, title string) *chart.Chart {
	c := &chart.Chart{Title: title, Kind: chart.Bars, X: chart.Axis{Label: "seconds"}}
	fetches := chart.Series{Name: "by the last fetch of each result", Ink: chart.Saved}
	sample := chart.Series{Name: "by control samples, with an interval of 95%", Ink: chart.Could}
	for _, p := range list {
		if len(c.Names) == mostBars || p.Hits == 0 {
			break
		}
		x := float64(len(c.Names))
		c.Names = append(c.Names, p.Name)
		fetches.Points = append(fetches.Points, chart.Point{X: x, Y: p.Ways.Fetches / 1000})
		if w := p.Ways.Sample; w != nil {
			sample.Points = append(sample.Points, chart.Point{X: x, Y: w.Saved / 1000})
			sample.Errors = append(sample.Errors, w.Error/1000)
		}
	}
	c.Series = []chart.Series{fetches, sample}
	return c
}

// Memory draws the hits to be expected at several sizes of memory, of all rules and of those most asked.
func Memory(m *control.MemoryCurve) *chart.Chart {
	c := &chart.Chart{Title: "Hit rate by memory size", X: chart.Axis{Label: "limit", Scale: chart.Size}, Y: chart.Axis{Label: "of the calls that rules match", Scale: chart.Share}}
	all := chart.Series{Name: "all rules", Ink: chart.Saved}
	spread := map[string][2]float64{}
	for _, p := range m.Points {
		all.Points = append(all.Points, chart.Point{X: float64(p.Limit), Y: p.Share})
		if p.Present {
			c.Marks = []chart.Mark{{X: float64(p.Limit), Name: "now"}}
		}
		for name, share := range p.Rules {
			have, ok := spread[name]
			if !ok {
				have = [2]float64{share, share}
			}
			spread[name] = [2]float64{min(have[0], share), max(have[1], share)}
		}
	}
	c.Series = []chart.Series{all}
	var names []string
	for name := range spread {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(spread[b][1]-spread[b][0], spread[a][1]-spread[a][0]), cmp.Compare(a, b))
	})
	for i, name := range names[:min(len(names), 3)] { // those that memory matters to most
		s := chart.Series{Name: name, Ink: []chart.Ink{chart.Could, chart.Rest, chart.Trouble}[i]}
		for _, p := range m.Points {
			s.Points = append(s.Points, chart.Point{X: float64(p.Limit), Y: p.Rules[name]})
		}
		c.Series = append(c.Series, s)
	}
	return c
}

// Trial draws what one statement took on average each way, with the percentiles.
func Trial(r *trial.Result) *chart.Chart {
	c := &chart.Chart{Title: "A trial: the same statements in each mode", Kind: chart.Bars, X: chart.Axis{Label: "ms"}}
	mean := chart.Series{Name: "mean", Ink: chart.Saved}
	p50 := chart.Series{Name: "p50", Ink: chart.Rest}
	p90 := chart.Series{Name: "90% within", Ink: chart.Could}
	for i, f := range r.Ways {
		c.Names = append(c.Names, f.Way)
		x := float64(i)
		mean.Points = append(mean.Points, chart.Point{X: x, Y: f.Mean})
		p50.Points = append(p50.Points, chart.Point{X: x, Y: f.P50})
		p90.Points = append(p90.Points, chart.Point{X: x, Y: f.P90})
	}
	c.Series = []chart.Series{mean, p50, p90}
	if s := r.Saved; s != nil && s.Error != nil {
		c.Note = fmt.Sprintf("%d rounds; caching saved %.3f ± %.3f s in them.", r.Rounds, s.Value/1000, *s.Error/1000)
	}
	return c
}
