package report

import (
	"time"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
)

// Lanes draws the last minute of each application, spared and waited.
func Lanes(s control.Status) (out []*chart.Chart) {
	for _, a := range s.Applications {
		c := &chart.Chart{Title: a.Name, Kind: chart.Stacked, X: chart.Axis{Scale: chart.Clock}, Y: chart.Axis{Label: "ms waited per second"}, Width: 1, Location: time.Local}
		saved, waited := chart.Series{Name: "saved", Ink: chart.Saved}, chart.Series{Name: "waited", Ink: chart.Could}
		some := false
		for i, x := range a.Seconds {
			at := float64(s.Now.Unix() - int64(len(a.Seconds)-i))
			saved.Points = append(saved.Points, chart.Point{X: at, Y: x.Saved})
			waited.Points = append(waited.Points, chart.Point{X: at, Y: x.Waited})
			some = some || x.Calls() > 0
		}
		if c.Series = []chart.Series{saved, waited}; some {
			out = append(out, c)
		}
	}
	return out
}

// Lifetimes draws the hits to be expected of a pattern at each lifetime, with what writes leave of them and without.
func Lifetimes(p *control.Pattern) *chart.Chart {
	if p.Outlook == nil {
		return nil
	}
	c := &chart.Chart{Title: "Forecast hit rate by TTL: " + p.ID, Kind: chart.Bars, X: chart.Axis{Scale: chart.Share}, Note: p.Text}
	kept, aged := chart.Series{Name: "dropped by writes, with an interval of 95%", Ink: chart.Saved}, chart.Series{Name: "if writes dropped nothing", Ink: chart.Could}
	for i, s := range p.Outlook.Steps {
		name := s.TTL
		if name == "none" {
			name = "no limit"
		}
		c.Names = append(c.Names, name)
		kept.Points, kept.Errors = append(kept.Points, chart.Point{X: float64(i), Y: s.Hits}), append(kept.Errors, s.Error)
		aged.Points = append(aged.Points, chart.Point{X: float64(i), Y: s.Aged})
	}
	c.Series = []chart.Series{kept, aged}
	return c
}

// Forecast draws what is foretold of each rule, by the rules in force and by the draft.
func Forecast(f *control.Forecast) *chart.Chart {
	if f == nil {
		return nil
	}
	c := &chart.Chart{Title: "Forecast: saved per minute", Kind: chart.Bars, X: chart.Axis{Label: "seconds a minute"}}
	draft, present := chart.Series{Name: "the draft", Ink: chart.Saved}, chart.Series{Name: "the rules in force", Ink: chart.Could}
	add := func(name string, d, p *control.Outcome) {
		x := float64(len(c.Names))
		c.Names = append(c.Names, name)
		if d != nil {
			draft.Points = append(draft.Points, chart.Point{X: x, Y: d.Saved / 1000})
		}
		if p != nil {
			present.Points = append(present.Points, chart.Point{X: x, Y: p.Saved / 1000})
		}
	}
	add("all", &f.Draft, &f.Present)
	for _, r := range f.Rules[:min(len(f.Rules), 12)] {
		add(r.Rule, r.Draft, r.Present)
	}
	c.Series = []chart.Series{draft, present}
	return c
}

// Actual draws what was foretold of the last changes of the rules, and what came true; nothing if nothing was
// predicted of any.
func Actual(history []control.Entry) *chart.Chart {
	c := &chart.Chart{Title: "Forecast and actual: saved per minute", Kind: chart.Bars, X: chart.Axis{Label: "seconds a minute"}}
	predicted, actualOf := chart.Series{Name: "forecast", Ink: chart.Could}, chart.Series{Name: "actual", Ink: chart.Saved}
	for i := range history {
		e := &history[i]
		if e.Forecast == nil || len(c.Names) == mostBars {
			continue
		}
		x := float64(len(c.Names))
		c.Names = append(c.Names, e.At.Local().Format("2 Jan 15:04"))
		predicted.Points = append(predicted.Points, chart.Point{X: x, Y: e.Forecast.Draft.Saved / 1000})
		if m := measured(e); m != nil {
			actualOf.Points = append(actualOf.Points, chart.Point{X: x, Y: m.Saved / 1000})
		}
	}
	c.Series = []chart.Series{predicted, actualOf}
	return c
}

// measured gives what came true of a change of the rules, over as long as it was measured.
func measured(e *control.Entry) *control.Measured {
	m := e.Since
	for _, x := range []*control.Measured{e.Hour, e.Day} {
		if x.Some() {
			m = x
		}
	}
	return m
}

// Writes draws how many writes each table had, and how many results they dropped.
func Writes(g *control.Guard) *chart.Chart {
	c := &chart.Chart{Title: "Writes, and results dropped by them", Kind: chart.Bars}
	writes, drops := chart.Series{Name: "writes", Ink: chart.Could}, chart.Series{Name: "results dropped", Ink: chart.Trouble}
	for _, t := range g.Tables {
		if len(c.Names) == 12 {
			break
		}
		x := float64(len(c.Names))
		c.Names = append(c.Names, t.Name)
		writes.Points = append(writes.Points, chart.Point{X: x, Y: float64(t.Writes)})
		drops.Points = append(drops.Points, chart.Point{X: x, Y: float64(t.Drops)})
	}
	c.Series = []chart.Series{writes, drops}
	return c
}
