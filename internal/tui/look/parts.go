package look

import (
	"fmt"
	"math"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"jollylarder/internal/core/bytesize"
)

// Roomy is the height of a station, in lines, from which on there are lines for what does not matter most.
const Roomy = 16

// Width is how many cells a text takes.
func Width(s string) int { return ansi.StringWidth(s) }

// Cut shortens a text to a width, with an ellipsis if something is lost.
func Cut(s string, width int) string {
	if width <= 0 {
		return ""
	}
	tail := "…"
	if width == 1 {
		tail = ""
	}
	return ansi.Truncate(s, width, tail)
}

// Left brings a text to exactly a width in cells, with blanks behind it.
func Left(s string, width int) string {
	s = Cut(s, width)
	return s + strings.Repeat(" ", max(width-Width(s), 0))
}

// Right brings a text to exactly a width in cells, with blanks before it.
func Right(s string, width int) string {
	s = Cut(s, width)
	return strings.Repeat(" ", max(width-Width(s), 0)) + s
}

// Sentence puts parts into one sentence with commas between them: as many as a width has room for, and at least one.
func (l *Look) Sentence(parts []string, width int) string {
	comma := l.Cream.Render(", ")
	out := ""
	for i, p := range parts {
		if i > 0 && Width(out)+Width(comma)+Width(p)+1 > width {
			break
		}
		if i > 0 {
			out += comma
		}
		out += p
	}
	return out + l.Cream.Render(".")
}

// Flow puts parts into lines of at most a width, with a gap between them, and an indent before each line.
func Flow(parts []string, gap, indent string, width int) (out []string) {
	line := ""
	for _, p := range parts {
		switch {
		case line == "":
			line = indent + p
		case Width(line)+Width(gap)+Width(p) > width:
			out = append(out, Cut(line, width))
			line = indent + p
		default:
			line += gap + p
		}
	}
	return append(out, Cut(line, width))
}

// Fact writes what something is under a label, in as many lines of a width as that takes.
func (l *Look) Fact(label, says string, width int) []string {
	const indent = 19
	out := Wrap(says, width-indent)
	for i := range out {
		before := Left("", indent)
		if i == 0 {
			before = l.Dim.Render(Left("  "+label, indent))
		}
		out[i] = Cut(before+out[i], width)
	}
	return out
}

// Block brings lines to exactly a width and height.
func Block(lines []string, width, height int) []string {
	out := make([]string, height)
	for i := range out {
		s := ""
		if i < len(lines) {
			s = lines[i]
		}
		out[i] = Left(s, width)
	}
	return out
}

// Wrap breaks a text into lines of at most a width, each styled by itself.
func Wrap(s string, width int) []string {
	return strings.Split(lipgloss.Wrap(s, max(width, 8), ""), "\n")
}

// Millis writes a duration given in milliseconds, in seven cells: "0.03 ms", " 1.4 ms", " 132 ms", " 1.20 s".
func Millis(ms float64) string {
	var s string
	switch {
	case ms <= 0:
		s = "–   "
	case ms < 1:
		s = fmt.Sprintf("%.2f ms", ms)
	case ms < 10:
		s = fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		s = fmt.Sprintf("%.0f ms", ms)
	default:
		s = fmt.Sprintf("%.2f s ", ms/1000)
	}
	return Right(s, 7)
}

// Seconds writes waiting given in milliseconds as seconds, in seven cells.
func Seconds(ms float64) string {
	s := ms / 1000
	if s > -0.005 && s < 0 {
		s = 0 // no "-0.00"
	}
	switch {
	case math.Abs(s) < 9.995:
		return fmt.Sprintf("%5.2f s", s)
	case s < 999.5:
		return fmt.Sprintf("%5.1f s", s)
	}
	return fmt.Sprintf("%5.0f s", s)
}

// Count writes a count in at most five cells.
func Count(n uint64) string {
	switch {
	case n < 100_000:
		return fmt.Sprint(n)
	case n < 10_000_000:
		return fmt.Sprintf("%dk", n/1000)
	}
	return fmt.Sprintf("%dM", n/1_000_000)
}

// Some writes a count, or a dash where there is none.
func Some(n uint64) string {
	if n == 0 {
		return "–"
	}
	return Count(n)
}

// Number writes a count with what is counted, one or several.
func Number(n float64, of string) string {
	if math.Round(n) != 1 {
		of += "s"
	}
	return fmt.Sprintf("%.0f %s", n, of)
}

// Bytes writes a size.
func Bytes(n int64) string { return bytesize.About(n) }

// Share writes a part of a whole as a percentage in four cells.
func Share(part, whole float64) string {
	if whole <= 0 {
		return "   –"
	}
	return fmt.Sprintf("%3.0f%%", 100*part/whole)
}

// Stretch is one part of a ribbon.
type Stretch struct {
	Value   float64
	Texture rune
	Style   lipgloss.Style
}

// Ribbon splits a width in the proportion of its stretches. Something above zero is never left out.
func Ribbon(width int, stretches ...Stretch) string {
	var sum float64
	for _, s := range stretches {
		sum += max(s.Value, 0)
	}
	if sum == 0 || width < len(stretches) {
		return strings.Repeat(" ", max(width, 0))
	}
	cells := make([]int, len(stretches))
	widest, used := 0, 0
	for i, s := range stretches {
		cells[i] = int(math.Round(max(s.Value, 0) / sum * float64(width)))
		if s.Value > 0 && cells[i] == 0 {
			cells[i] = 1
		}
		used += cells[i]
		if cells[i] > cells[widest] {
			widest = i
		}
	}
	cells[widest] += width - used
	var b strings.Builder
	for i, s := range stretches {
		b.WriteString(s.Style.Render(strings.Repeat(string(s.Texture), max(cells[i], 0))))
	}
	return b.String()
}

var pillars = []rune(" ▁▂▃▄▅▆▇█")

// Pillars draws values as one row of pillars. The highest stands for most; what is above zero is always to be seen.
func Pillars(values []float64, most float64) string {
	out := make([]rune, len(values))
	for i, v := range values {
		level := 0
		if v > 0 && most > 0 {
			level = min(1+int(v/most*float64(len(pillars)-1)-1e-9), len(pillars)-1)
		}
		out[i] = pillars[level]
	}
	return string(out)
}

// Rule is a thin line with a title in it.
func (l *Look) Rule(title string, width int) string {
	if title == "" {
		return l.Dim.Render(strings.Repeat("─", max(width, 0)))
	}
	left := l.Dim.Render("── ") + l.Strong.Render(title) + " "
	return Left(left+l.Dim.Render(strings.Repeat("─", max(width-Width(left), 0))), width)
}
