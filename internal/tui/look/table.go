package look

import (
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
)

// Column is one of a table. Its width is in cells, with the blank that stands behind it, or 0 for what is left.
type Column struct {
	Title string
	Width int
	Right bool
}

// Table draws a head and rows of cells, which have their colours already, in lines of exactly a width. What does not
// fit into a cell is cut.
func (l *Look) Table(width int, columns []Column, rows [][]string) []string {
	widths := widthsOf(width, columns)
	cell := func(text string, i int) string {
		if columns[i].Right {
			return Right(text, widths[i])
		}
		return Left(text, widths[i])
	}
	var shown []int // those without a cell are not there
	for i, w := range widths {
		if w > 0 {
			shown = append(shown, i)
		}
	}
	if len(shown) == 0 {
		return Block(nil, max(width, 0), len(rows)+1)
	}
	line := func(text func(i int) string) (out []string) {
		for _, i := range shown {
			out = append(out, cell(text(i), i))
		}
		return out
	}
	t := table.New().Headers(line(func(i int) string { return l.Dim.Render(columns[i].Title) })...).Wrap(false).
		Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).
		BorderHeader(false).BorderColumn(false).BorderRow(false).
		StyleFunc(func(_, col int) lipgloss.Style { return lipgloss.NewStyle().Width(widths[shown[col]]) })
	for _, r := range rows {
		t.Row(line(func(i int) string { return r[i] })...)
	}
	lines := strings.Split(t.String(), "\n")
	for i := range lines {
		lines[i] = Left(lines[i], width)
	}
	return lines
}

// widthsOf gives how wide the columns of a table are.
func widthsOf(width int, columns []Column) []int {
	widths, left := make([]int, len(columns)), width
	for i, c := range columns {
		widths[i] = min(c.Width, left)
		left -= widths[i]
	}
	for i, c := range columns {
		if c.Width == 0 {
			widths[i], left = left, 0
		}
	}
	return widths
}

// ColumnAt gives the column of a table at a place of its lines; one without a title stands for none.
func ColumnAt(width int, columns []Column, x int) Column {
	for i, w := range widthsOf(width, columns) {
		if x < w {
			return columns[i]
		}
		x -= w
	}
	return Column{}
}
