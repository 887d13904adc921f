package find

import (
	"fmt"
	"math"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// curve draws the hits to be expected at each lifetime: what writes leave of them, and behind that what they take away.
func curve(l *look.Look, p *control.Pattern, width int) []string {
	o := p.Outlook
	if o == nil {
		return []string{l.Dim.Render("forecast by TTL: no inputs were observed yet")}
	}
	followed := time.Duration(o.Followed) * time.Millisecond
	out := []string{l.Dim.Render("forecast by TTL, from ") + l.Cream.Render(fmt.Sprintf("%.0f calls in %s", o.Calls, span(followed)))}
	plot := max(width-40, 8)
	for _, s := range o.Steps {
		ttl, err := time.ParseDuration(s.TTL)
		name := s.TTL
		if err != nil {
			name = "no limit"
		}
		label := l.Dim.Render(look.Right(name, 8) + " ")
		if err == nil && ttl > followed { // what it would bring was not seen
			out = append(out, label+l.Dim.Render("not seen for so long yet"))
			continue
		}
		n := int(math.Round(s.Hits * float64(plot)))
		more := max(int(math.Round(s.Aged*float64(plot)))-n, 0)
		bar := l.Honey.Render(strings.Repeat(string(look.TextureSaved), n)) + l.Slate.Render(strings.Repeat(string(look.TextureCould), more)) +
			strings.Repeat(" ", max(plot-n-more, 0))
		text := l.Honey.Render(fmt.Sprintf(" %3.0f%%", 100*s.Hits))
		if s.Error >= 0.005 {
			text += l.Dim.Render(fmt.Sprintf(" ±%.0f", 100*s.Error))
		}
		if s.Aged > s.Hits+0.02 {
			text += l.Slate.Render(fmt.Sprintf("  %.0f%% without writes", 100*s.Aged))
		}
		out = append(out, label+bar+text)
	}
	return out
}

// results draws how inputs and results behave.
func results(l *look.Look, p *control.Pattern, width int) []string {
	o := p.Outlook
	if o == nil {
		return nil
	}
	var out []string
	say := func(format string, args ...any) {
		for _, part := range look.Wrap(fmt.Sprintf(format, args...), width) {
			out = append(out, l.Cream.Render(part))
		}
	}
	say("About %s; %.0f%% of calls repeat one.", look.Number(o.Inputs, "input"), 100*o.Repeats)
	if o.Half > 0 && o.Inputs >= 10 {
		say("Half of the calls use %.0f%% of them.", 100*o.Half)
	}
	switch {
	case o.Compared < 1:
		out = append(out, l.Dim.Render("No results were compared yet."))
	case o.Changed < 1:
		say("%.0f results compared with the one before: none had changed.", o.Compared)
	default:
		var stayed []string
		for _, s := range o.Steps {
			if s.Stayed >= 0.5 {
				stayed = append(stayed, fmt.Sprintf("%.0f within %s", s.Stayed, strings.Replace(s.TTL, "none", "longer", 1)))
			}
		}
		say("%.0f results compared with the one before: %.0f had changed, %s.", o.Compared, o.Changed, strings.Join(stayed, ", "))
		if o.Unseen >= 1 {
			say("%.0f of those with no write seen.", o.Unseen)
		}
	}
	say("%s to its tables in the last minute.", look.Number(float64(p.WritesMinute), "write"))
	return out
}

func span(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}
