package decide

import (
	"fmt"
	"math"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// column is one column of the comparison.
type column struct {
	title  string
	o      *control.Outcome
	honest bool // it was measured
}

// forecastTable draws what the draft would do beside what is in force; or, without a draft, what was foretold of the
// rules in force beside what came true.
func (m *Model) forecastTable(l *look.Look, width int) []string {
	var columns []column
	title := ""
	minute := m.minute()
	if m.draft.Open {
		f := m.Forecast()
		switch {
		case m.running:
			return m.progress(l, width)
		case f == nil && m.stopped:
			say := "The forecast was stopped."
			if m.problem != "" {
				say = "No forecast: " + m.problem + "."
			}
			return []string{l.Rule("forecast", width), l.Cream.Render("  "+say+" ") + l.Key(KeyForecast, "makes it again")}
		case f == nil:
			return []string{l.Rule("forecast", width), ""}
		}
		title = fmt.Sprintf("forecast, from the traffic of the last %s", span(f.Span))
		columns = []column{{"last minute", minute, true}, {"in force", &f.Present, false}, {"with the draft", &f.Draft, false}}
		if f.Full {
			title += ": memory would be full, and results evicted"
		}
		if f.Short() {
			title += fmt.Sprintf(": too short for a TTL of %s", span(f.Longest))
		}
	} else {
		title = "actual"
		columns = []column{{"last minute", minute, true}}
		if e := m.last(); e != nil {
			title = fmt.Sprintf("actual, change %d by %s at %s", e.ID, e.Who, e.At.Local().Format("02 Jan 15:04"))
			columns = m.true(e)
			if e.Since == nil || e.Since.Minutes >= 1 {
				columns = append(columns, column{"last minute", minute, true})
			}
		}
	}
	return m.compare(l, title, columns, width)
}

// true gives what was foretold of an entry, and what came true so far.
func (m *Model) true(e *control.Entry) (columns []column) {
	if f := e.Forecast; f != nil {
		columns = append(columns, column{"before", &f.Present, false}, column{"forecast", &f.Draft, false})
	}
	for _, x := range []struct {
		title string
		m     *control.Measured
	}{{since(e.Since), e.Since}, {first("hour", e.Hour), e.Hour}, {first("day", e.Day), e.Day}} {
		if x.m != nil && (x.m.Some() || x.m == e.Since) {
			columns = append(columns, column{x.title, &control.Outcome{OfAll: x.m.OfAll, Saved: x.m.Saved, Origin: x.m.Origin, Drops: x.m.Drops, Memory: x.m.Memory}, true})
		}
	}
	return columns
}

// first says over which time something was measured, where the next change came before its end.
func first(unit string, m *control.Measured) string {
	if m == nil || m.Until == "" {
		return "first " + unit
	}
	return fmt.Sprintf("its %d min in force", m.Minutes)
}

// since says since when something was measured: after a restart of the larder that is less than since the change.
func since(m *control.Measured) string {
	if m == nil || m.Minutes == 0 {
		return "since then"
	}
	return fmt.Sprintf("since then, %d min", m.Minutes)
}

// minute is what the last minute brought.
func (m *Model) minute() *control.Outcome {
	s := m.status.Minute
	elapsed := min(max(m.status.Now.Sub(m.status.Began).Seconds(), 1), 60)
	return &control.Outcome{OfAll: float64(s.Hits) / float64(max(s.Calls(), 1)), Saved: s.Saved * 60 / elapsed, Origin: float64(s.Calls()-s.Hits) / elapsed, Memory: float64(m.status.CachedBytes)}
}

// last gives the entry by which the rules in force came.
func (m *Model) last() *control.Entry {
	for i := range m.history {
		if m.history[i].Choice == nil {
			return &m.history[i]
		}
	}
	return nil
}

func (m *Model) compare(l *look.Look, title string, columns []column, width int) []string {
	out := []string{l.Rule(title, width)}
	wide := max((width-17)/len(columns), 16)
	head := strings.Repeat(" ", 17)
	for _, c := range columns {
		style := l.Dim
		if c.honest {
			style = l.Moss
		}
		head += style.Render(look.Left(c.title, wide))
	}
	out = append(out, look.Cut(head, width))
	barWidth := min(max(wide-18, 0), 24)
	row := func(label string, texture rune, style interface{ Render(...string) string }, value func(*control.Outcome) float64, text func(*control.Outcome) string, of float64) {
		most := of
		for _, c := range columns {
			most = max(most, value(c.o))
		}
		line := l.Dim.Render(look.Left(label, 17))
		for _, c := range columns {
			n := 0
			if most > 0 {
				n = int(math.Round(max(value(c.o), 0) / most * float64(barWidth))) // what a rule costs more than it spares is below zero
			}
			bar := ""
			if barWidth > 0 {
				bar = style.Render(strings.Repeat(string(texture), n)) + strings.Repeat(" ", barWidth-n) + " "
			}
			say := text(c.o)
			if look.Width(say) > wide-look.Width(bar)-1 {
				bar = "" // it needs the room
			}
			line += bar + l.Cream.Render(look.Left(say, wide-look.Width(bar)))
		}
		out = append(out, look.Cut(line, width))
	}
	row("hit rate", look.TextureSaved, l.Honey, func(o *control.Outcome) float64 { return o.OfAll }, func(o *control.Outcome) string { return fmt.Sprintf("%.0f%% of all", 100*o.OfAll) }, 1)
	row("saved", look.TextureSaved, l.Honey, func(o *control.Outcome) float64 { return o.Saved }, func(o *control.Outcome) string { return seconds(o.Saved) + "/min" }, 0)
	row("to the origin", look.TextureCould, l.Slate, func(o *control.Outcome) float64 { return o.Origin }, func(o *control.Outcome) string { return fmt.Sprintf("%.1f/s", o.Origin) }, 0)
	row("memory", look.TextureRest, l.Cream, func(o *control.Outcome) float64 { return o.Memory }, func(o *control.Outcome) string { return look.Bytes(int64(o.Memory)) }, 0)
	if m.draft.Open {
		row("drops", look.TextureRest, l.Plum, func(o *control.Outcome) float64 { return o.Drops }, func(o *control.Outcome) string {
			if o == columns[0].o {
				return "" // the totals do not say of which minute
			}
			return fmt.Sprintf("%.1f/min", o.Drops)
		}, 0)
		row("age of answers", look.TextureRest, l.Dim, func(o *control.Outcome) float64 { return 0 }, func(o *control.Outcome) string {
			if o.Oldest == 0 {
				return ""
			}
			if text := short(o.Age) + ", most < " + short(o.Oldest); look.Width(text) <= wide {
				return text
			}
			return short(o.Age) + ", < " + short(o.Oldest)
		}, 0)
	}
	return out
}

func (m *Model) progress(l *look.Look, width int) []string {
	plot := max(min(width-40, 60), 10)
	n := int(m.done * float64(plot))
	return []string{l.Rule("forecast", width),
		"  " + l.Cream.Render("Replaying the traffic ") + l.Slate.Render(strings.Repeat(string(look.TextureCould), n)) + l.Dim.Render(strings.Repeat("·", plot-n)) +
			l.Cream.Render(fmt.Sprintf(" %3.0f%%  ", 100*m.done)) + l.Key(KeyStop, "stops it")}
}

func span(ms float64) string {
	if ms < 120_000 {
		return fmt.Sprintf("%.0f s", ms/1000)
	}
	return fmt.Sprintf("%.0f min", ms/60_000)
}
