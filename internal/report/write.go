package report

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
	"jollylarder/internal/core/bytesize"
)

// Formats are the formats of reports, by the ends of files' names.
var Formats = append(slices.Clone(chart.Formats), ".json", ".csv", ".md")

// Known says whether reports can be written in the format that a file's name ends with.
func Known(path string) error {
	if end := filepath.Ext(path); !slices.Contains(Formats, end) {
		return fmt.Errorf("%s: the extension chooses the format: expected %s", path, strings.Join(Formats, ", "))
	}
	return nil
}

// WriteFile writes a report into a file, in the format that its name ends with. What was there is replaced only when
// the report is whole.
func (r *Report) WriteFile(path string) error {
	if err := Known(path); err != nil {
		return err
	}
	return chart.Whole(path, func(w io.Writer) error { return r.Write(w, filepath.Ext(path)) })
}

// Write writes it in a format.
func (r *Report) Write(w io.Writer, format string) error {
	switch format {
	case ".json":
		enc := json.NewEncoder(w)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(r)
	case ".csv":
		return r.csv(w)
	case ".md":
		return r.markdown(w)
	}
	return r.page().Write(w, format)
}

// csv writes a row for each step of time, pattern, rule and application.
func (r *Report) csv(w io.Writer) error {
	c := csv.NewWriter(w)
	f := func(x float64) string { return strconv.FormatFloat(x, 'f', 3, 64) }
	_ = c.Write([]string{"kind", "name", "text", "at", "statements", "hits", "waited_ms", "saved_ms", "saved_by_sample_ms", "saved_by_sample_error_ms", "saved_by_before_ms", "before_mean_ms", "after_mean_ms", "larder_added_ms", "shared_fetch_ms"})
	for _, s := range r.Proof.Series {
		_ = c.Write([]string{"time", "", "", s.At.UTC().Format(time.RFC3339), fmt.Sprint(s.Calls), fmt.Sprint(s.Hits), f(s.Waited), f(s.Saved), "", "", "", "", "", "", ""})
	}
	for _, kind := range []struct {
		name string
		list []control.Proved
	}{{"pattern", r.Proof.Patterns}, {"rule", r.Proof.Rules}, {"application", r.Proof.Applications}} {
		for _, p := range kind.list {
			row := []string{kind.name, p.Name, p.Text, "", fmt.Sprint(p.Calls()), fmt.Sprint(p.Hits), f(p.Waited), f(p.Ways.Fetches), "", "", "", "", "", f(p.Own), f(p.Follow)}
			if x := p.Ways.Sample; x != nil {
				row[8], row[9] = f(x.Saved), f(x.Error)
			}
			if x := p.Ways.Before; x != nil {
				row[10] = f(x.Saved)
			}
			if p.BeforeMean > 0 {
				row[11] = f(p.BeforeMean)
			}
			if p.AfterMean > 0 {
				row[12] = f(p.AfterMean)
			}
			_ = c.Write(row)
		}
	}
	c.Flush()
	return c.Error()
}

// figures are what is to be seen first.
func (r *Report) figures() []chart.Figure {
	s := r.Proof.Sums
	return []chart.Figure{
		{Value: seconds(s.Saved), Of: "of time saved"},
		{Value: seconds(s.Waited), Of: "waited for " + count(s.Calls()) + " statements"},
		{Value: percent(float64(s.Hits), float64(s.Calls())), Of: "hit rate: " + count(s.Hits) + " statements never reached the database"},
		{Value: percent(s.Saved, s.Saved+s.Waited), Of: "less time waited"},
	}
}

// ways is the table of the three measures.
func (r *Report) ways() [][]string {
	w := r.Proof.Saved
	out := [][]string{{"saved, measured", "", "by the last fetch, of the same"}}
	out = append(out, []string{"by the last fetch of each result", seconds(w.Fetches), seconds(w.Fetches)})
	if x := w.Sample; x != nil {
		out = append(out, []string{"by control samples, as the database is now", way(x), seconds(x.Like)})
	} else {
		out = append(out, []string{"by control samples: too few samples so far", "–", "–"})
	}
	if x := w.Before; x != nil {
		out = append(out, []string{"before and after", way(x), seconds(x.Like)})
	} else {
		out = append(out, []string{"by before and after: no calls were seen before it was cached", "–", "–"})
	}
	return out
}

const mostRows = 8

// patterns is the table of patterns.
func (r *Report) patterns(most int) [][]string {
	out := [][]string{{"pattern", "statement", "hit rate", "saved", "by samples", "before", "after"}}
	for _, p := range r.Proof.Patterns {
		if p.Hits == 0 || len(out) > most {
			break
		}
		out = append(out, []string{p.Name, p.Text, percent(float64(p.Hits), float64(p.Calls())), seconds(p.Ways.Fetches), way(p.Ways.Sample), millis(p.BeforeMean), millis(p.AfterMean)})
	}
	return out
}

// applications is the table of applications.
func (r *Report) applications(most int) [][]string {
	out := [][]string{{"application", "statements", "hit rate", "waited", "saved", "by samples"}}
	for _, p := range r.Proof.Applications {
		if len(out) > most {
			break
		}
		out = append(out, []string{p.Name, count(p.Calls()), percent(float64(p.Hits), float64(p.Calls())), seconds(p.Waited), seconds(p.Ways.Fetches), way(p.Ways.Sample)})
	}
	return out
}

// predicted is the table of what was foretold of the rules' changes, and what came true.
func (r *Report) predicted(most int) [][]string {
	out := [][]string{{"change of rules", "why", "hit rate, forecast", "actual", "saved, forecast", "actual"}}
	rows := slices.DeleteFunc(slices.Clone(r.Changes), func(e control.Entry) bool { return e.Forecast == nil })
	slices.SortStableFunc(rows, func(a, b control.Entry) int { // those of which there is something to compare come first
		return cmp.Compare(map[bool]int{false: 1}[measured(&a) != nil], map[bool]int{false: 1}[measured(&b) != nil])
	})
	for _, e := range rows[:min(len(rows), most)] {
		m := measured(&e)
		row := []string{e.At.Local().Format("2 Jan 15:04") + ", " + e.Who, e.Why, fmt.Sprintf("%.0f%%", 100*e.Forecast.Draft.OfAll), "–", seconds(e.Forecast.Draft.Saved) + "/min", "–"}
		if m != nil {
			row[3], row[5] = fmt.Sprintf("%.0f%%", 100*m.OfAll), seconds(m.Saved)+"/min"
		}
		out = append(out, row)
	}
	return out
}

// Headline is what there is to repeat, and how sure it is.
func (r *Report) Headline() string {
	s, w := r.Proof.Sums, r.Proof.Saved
	whole := s.Saved + s.Waited
	if s.Calls() == 0 || whole <= 0 {
		return "No statements ran in this period."
	}
	out := fmt.Sprintf("%s clients waited %s less: %s saved of %s; %s statements never reached the database.", r.period(), percent(s.Saved, whole), seconds(s.Saved), seconds(whole), count(s.Hits))
	if s.Saved < 0 {
		out = fmt.Sprintf("%s caching cost clients %s: %s more than the %s that they would have waited.", r.period(), seconds(-s.Saved), percent(-s.Saved, whole), seconds(whole))
	}
	x := w.Sample
	switch {
	case x == nil:
		return out + " There are too few control samples to check this."
	case math.Abs(x.Saved-x.Like) <= x.Error:
		return out + fmt.Sprintf(" Control samples agree: %s.", way(x))
	}
	return out + fmt.Sprintf(" Control samples differ: %s, where this says %s of the same hits.", way(x), seconds(x.Like))
}

// period says in words how long the report is about.
func (r *Report) period() string {
	length := r.To.Sub(r.From)
	switch {
	case length >= 48*time.Hour:
		return fmt.Sprintf("In the last %.0f days", length.Hours()/24)
	case length >= 2*time.Hour:
		return fmt.Sprintf("In the last %.0f h", length.Hours())
	case length >= 2*time.Minute:
		return fmt.Sprintf("In the last %.0f min", length.Minutes())
	}
	return fmt.Sprintf("In the last %.0f s", length.Seconds())
}

func (r *Report) stretch() string {
	return fmt.Sprintf("%s to %s, by a larder in front of %s", stamp(r.From), stamp(r.To), r.Origin)
}

func (r *Report) load() string {
	s := r.Proof.Sums
	length := r.To.Sub(r.From).Seconds()
	if r.Proof.Minutes > 0 {
		length = 60 * float64(r.Proof.Minutes)
	}
	if length <= 0 {
		return ""
	}
	return fmt.Sprintf("The database answered %.1f statements a second instead of %.1f. %s results are cached in %s, of a limit of %s.",
		float64(s.Calls()-s.Hits)/length, float64(s.Calls())/length, count(uint64(r.Cached)), bytesize.About(r.Bytes), bytesize.About(r.Limit))
}

// page lays the report out on one page.
func (r *Report) page() *chart.Page {
	p := &chart.Page{Foot: "Jolly Larder, made " + stamp(r.Made)}
	add := func(x chart.Part) { p.Parts = append(p.Parts, x) }
	add(chart.Part{Title: "Time saved", Large: true, Text: r.Headline()})
	add(chart.Part{Figures: r.figures()})
	p.Foot += "; " + r.stretch()
	add(chart.Part{Chart: Waiting(&r.Proof), Space: 150})
	add(chart.Part{Table: r.ways(), Numbers: 1, Widths: []float64{0.54, 0.23, 0.23}})
	add(chart.Part{Title: "By pattern", Table: r.patterns(mostRows), Numbers: 2, Widths: []float64{0.15, 0.33, 0.09, 0.11, 0.16, 0.08, 0.08}})
	if r.Proof.Memory != nil {
		add(chart.Part{Chart: Times(r.Proof.Memory, r.Proof.Origin), Space: 125})
	}
	if t := r.predicted(3); len(t) > 1 {
		add(chart.Part{Title: "Forecast and actual", Table: t, Numbers: 2, Widths: []float64{0.18, 0.24, 0.17, 0.10, 0.17, 0.14}})
	}
	add(chart.Part{Title: "Freshness and load", Text: strings.Join(r.Fresh, " ") + " " + r.load()})
	add(chart.Part{Title: "How it was measured", Text: r.Method})
	return p
}

// markdown writes it as text.
func (r *Report) markdown(w io.Writer) error {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	table := func(rows [][]string, numbers int) {
		for i, row := range rows {
			var cells []string
			for _, cell := range row {
				cells = append(cells, strings.ReplaceAll(strings.ReplaceAll(cell, "|", "\\|"), "\n", " "))
			}
			say("| %s |\n", strings.Join(cells, " | "))
			if i == 0 {
				for k := range row {
					if k < numbers {
						say("|---")
					} else {
						say("|---:")
					}
				}
				say("|\n")
			}
		}
		say("\n")
	}
	say("# Time saved\n\n%s\n\n%s\n\n", r.Headline(), r.stretch())
	for _, f := range r.figures() {
		say("- **%s** %s\n", f.Value, f.Of)
	}
	say("\n")
	table(r.ways(), 1)
	say("## By pattern\n\n")
	table(r.patterns(30), 2)
	say("## By application\n\n")
	table(r.applications(30), 1)
	if t := r.predicted(20); len(t) > 1 {
		say("## Forecast and actual\n\n")
		table(t, 2)
	}
	say("## Freshness and load\n\n%s %s\n\n## How it was measured\n\n%s\n", strings.Join(r.Fresh, " "), r.load(), r.Method)
	_, err := io.WriteString(w, b.String())
	return err
}
