package look

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What does not fit is left out as a whole, from the end.
func TestASentenceOfWhatFits(t *testing.T) {
	l := New(Dark)
	parts := []string{"c puts it into a draft", l.Strong.Render("enter") + " shows details", "x drops it"}
	for _, x := range []struct {
		width int
		want  string
	}{
		{80, "c puts it into a draft, enter shows details, x drops it."},
		{56, "c puts it into a draft, enter shows details, x drops it."},
		{55, "c puts it into a draft, enter shows details."},
		{44, "c puts it into a draft, enter shows details."},
		{43, "c puts it into a draft."},
		{5, "c puts it into a draft."},
	} {
		assert.Equal(t, x.want, ansi.Strip(l.Sentence(parts, x.width)), "%d", x.width)
	}
}

// However narrow: parts come in their order, none is lost as long as it fits into a line, and no line is too long.
func TestPartsFlow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,12}`), 1, 8).Draw(t, "parts")
		width := rapid.IntRange(13, 60).Draw(t, "width")
		lines := Flow(parts, "  ", " ", width)
		assert.Equal(t, parts, strings.Fields(strings.Join(lines, " ")))
		for _, line := range lines {
			assert.LessOrEqual(t, Width(line), width)
		}
	})
}

// A fact goes on below its own beginning, in the style that it has.
func TestAFactOfSeveralLines(t *testing.T) {
	l := New(Dark)
	style := lipgloss.NewStyle().Bold(true)
	lines := l.Fact("change feed", style.Render("none so far, and it would show direct writes"), 40)
	want := []string{"  change feed      none so far, and it", "                   would show direct", "                   writes"}
	for i := range want {
		assert.Equal(t, want[i], strings.TrimRight(ansi.Strip(lines[i]), " "))
		assert.Contains(t, lines[i], "\x1b[1m", "each line has the style of its text")
		assert.Regexp(t, `\x1b\[0?m$`, lines[i], "which does not go on behind it")
	}
	assert.Len(t, lines, len(want))
}
