package look

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestATable(t *testing.T) {
	l := New(Dark)
	columns := []Column{{Width: 2}, {Title: "table", Width: 8}, {Title: "writes", Width: 8, Right: true}, {Title: "  statement"}}
	rows := [][]string{
		{"▌ ", l.Strong.Render("fares"), l.Plum.Render("12"), "  select price from fares"},
		{"  ", "passengers", "7", "  select 1"},
	}
	want := []string{
		"  table     writes  statement ",
		"▌ fares         12  select pr…",
		"  passeng…       7  select 1  ",
	}
	var got []string
	for _, line := range l.Table(30, columns, rows) {
		got = append(got, ansi.Strip(line))
	}
	assert.Equal(t, want, got)
}

// Whatever there is to show, and however little room: there are as many lines as rows and one more, each of the width.
func TestTablesFit(t *testing.T) {
	l := New(Dark)
	rapid.Check(t, func(t *rapid.T) {
		width := rapid.IntRange(1, 120).Draw(t, "width")
		columns := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Column {
			return Column{rapid.StringN(0, 12, -1).Filter(plain).Draw(t, "title"), rapid.IntRange(0, 30).Draw(t, "cells"), rapid.Bool().Draw(t, "right")}
		}), 1, 8).Draw(t, "columns")
		rows := rapid.SliceOfN(rapid.SliceOfN(rapid.StringN(0, 40, -1).Filter(plain), len(columns), len(columns)), 0, 5).Draw(t, "rows")
		lines := l.Table(width, columns, rows)
		assert.Len(t, lines, len(rows)+1)
		for _, line := range lines {
			assert.Equal(t, width, Width(line), "%q", line)
		}
	})
}

// plain says whether a text has nothing that a terminal would take for more than a character.
func plain(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > 0x24f || r == 0x7f || r >= 0x80 && r < 0xa1 })
}
