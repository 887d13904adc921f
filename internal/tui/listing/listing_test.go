package listing

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/tui/look"
)

type ship struct {
	name   string
	berths int
}

var (
	sorts   = []Sort[ship]{Most("berths", func(s *ship) int { return s.berths }), Text("ship", func(s *ship) string { return s.name })}
	columns = []look.Column{{Width: 2}, {Title: "ship", Width: 10}, {Title: "berths", Width: 8, Right: true}, {Title: "  note"}}
	fleet   = []ship{{"Tern", 40}, {"Fulmar", 300}, {"Gannet", 120}}
)

func names(s *List[ship]) (out []string) {
	list := slices.Clone(fleet)
	s.Sort(list)
	for _, x := range list {
		out = append(out, x.name)
	}
	return out
}

func heads(s *List[ship]) string {
	lines := s.Draw(look.New(look.Dark), 3, 40, 2, columns, 0, len(fleet), func(i int) []string { return []string{"", fleet[i].name, fmt.Sprint(fleet[i].berths), ""} })
	return strings.Join(strings.Fields(ansi.Strip(lines[0])), " ")
}

// A key goes from column to column, another turns the order round, and the head of the column says so.
func TestKeysSort(t *testing.T) {
	s := &List[ship]{Sorts: sorts}
	press := func(text string) { assert.True(t, s.Press(tea.KeyPressMsg{Code: rune(text[0]), Text: text})) }
	assert.Equal(t, []string{"Fulmar", "Gannet", "Tern"}, names(s))
	assert.Equal(t, "ship berths▾ note", heads(s))
	press("O")
	assert.Equal(t, []string{"Tern", "Gannet", "Fulmar"}, names(s))
	assert.Equal(t, "ship berths▴ note", heads(s))
	press("o")
	assert.Equal(t, []string{"Fulmar", "Gannet", "Tern"}, names(s), "by name, and no longer turned round")
	assert.Equal(t, "ship▴ berths note", heads(s))
	press("o")
	assert.Equal(t, "ship berths▾ note", heads(s))
	assert.False(t, s.Press(tea.KeyPressMsg{Code: 'x', Text: "x"}))
}

// A click on a head sorts by its column, and again turns that round; one on a row gives the row; others do nothing.
func TestClicks(t *testing.T) {
	s := &List[ship]{Sorts: sorts}
	row, sorted := s.Click(3, 3)
	assert.Equal(t, []any{-1, false}, []any{row, sorted}, "nothing is drawn yet")
	heads(s)
	for _, c := range []struct {
		x, y, row int
		sorted    bool
		by        string
	}{
		{4, 3, -1, true, "ship▴ berths note"}, {4, 3, -1, true, "ship▾ berths note"}, {13, 3, -1, true, "ship berths▾ note"},
		{0, 3, -1, false, "ship berths▾ note"}, {25, 3, -1, false, "ship berths▾ note"},
		{4, 4, 0, false, "ship berths▾ note"}, {30, 5, 1, false, "ship berths▾ note"},
		{4, 6, -1, false, "ship berths▾ note"}, {4, 2, -1, false, "ship berths▾ note"}, {40, 4, -1, false, "ship berths▾ note"}, {-1, 4, -1, false, "ship berths▾ note"},
	} {
		row, sorted := s.Click(c.x, c.y)
		assert.Equal(t, []any{c.row, c.sorted, c.by}, []any{row, sorted, heads(s)}, "%+v", c)
	}
}

// However a list is drawn, the chosen row is among those that are shown, and a click on the line where it is gives it.
func TestTheRowThatIsClickedIsTheOneDrawnThere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := &List[ship]{Sorts: sorts}
		rows := rapid.IntRange(1, 60).Draw(t, "rows")
		at := rapid.IntRange(0, rows-1).Draw(t, "at")
		room := rapid.IntRange(1, 20).Draw(t, "room")
		line := rapid.IntRange(0, 30).Draw(t, "line")
		lines := s.Draw(look.New(look.Dark), line, 60, room, columns, at, rows, func(i int) []string { return []string{"", fmt.Sprint("row", i), "", ""} })
		found := false
		for i, text := range lines[1:] {
			row, _ := s.Click(5, line+1+i)
			assert.Equal(t, fmt.Sprint("row", row), strings.TrimSpace(ansi.Strip(text)))
			found = found || row == at
		}
		assert.True(t, found)
		row, _ := s.Click(5, line+len(lines))
		assert.Equal(t, -1, row, "below the last")
	})
}
