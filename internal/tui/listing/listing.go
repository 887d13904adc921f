// Package listing is a list with columns: by which of them it is sorted, what of it is shown, and what keys and clicks
// do to that.
package listing

import (
	"cmp"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// The keys that sort.
var (
	KeyOrder = key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "sort by the next column; a click on its head sorts too"))
	KeyTurn  = key.NewBinding(key.WithKeys("O"), key.WithHelp("O", "turn the order round"))
)

// Sort is one way to sort, by the column of its title.
type Sort[T any] struct {
	Title string
	// Ascends is set where the least comes first.
	Ascends bool
	// Compare says which of two comes first; nil where another sorts.
	Compare func(a, b *T) int
}

// Most has the largest number come first.
func Most[T any, N cmp.Ordered](title string, of func(*T) N) Sort[T] {
	return Sort[T]{title, false, func(a, b *T) int { return cmp.Compare(of(b), of(a)) }}
}

// Text sorts by the alphabet.
func Text[T any](title string, of func(*T) string) Sort[T] {
	return Sort[T]{title, true, func(a, b *T) int { return strings.Compare(of(a), of(b)) }}
}

// List is a list as it is shown. It is sorted by the first of its sorts until another is chosen.
type List[T any] struct {
	Sorts []Sort[T]

	at     int
	turned bool

	// What was drawn last: where the line of heads is and how wide, the first row that is shown, and how many are.
	columns      []look.Column
	width, head  int
	first, shown int
}

// By gives the way it is sorted, and whether that is turned round.
func (s *List[T]) By() (by Sort[T], turned bool) {
	if s.at >= len(s.Sorts) {
		return by, false
	}
	return s.Sorts[s.at], s.turned
}

// Sort sorts a list. What is equal stays in the order that it has.
func (s *List[T]) Sort(list []T) {
	by, turned := s.By()
	if by.Compare == nil {
		return
	}
	slices.SortStableFunc(list, func(a, b T) int {
		if turned {
			return by.Compare(&b, &a)
		}
		return by.Compare(&a, &b)
	})
}

// Press takes a key that sorts, and says whether it was one.
func (s *List[T]) Press(k tea.KeyPressMsg) bool {
	switch {
	case len(s.Sorts) == 0:
		return false
	case key.Matches(k, KeyOrder):
		s.at, s.turned = (s.at+1)%len(s.Sorts), false
	case key.Matches(k, KeyTurn):
		s.turned = !s.turned
	default:
		return false
	}
	return true
}

// Draw draws the heads and as many rows as there is room for, so that one of them is among them. The line of heads is
// drawn as the given one of the station's.
func (s *List[T]) Draw(l *look.Look, line, width, room int, columns []look.Column, at, rows int, row func(int) []string) []string {
	s.columns, s.width, s.head = columns, width, line
	s.first = moving.First(max(at, 0), room)
	s.shown = min(max(rows-s.first, 0), room)
	var cells [][]string
	for i := range s.shown {
		cells = append(cells, row(s.first+i))
	}
	by, turned := s.By()
	marked := slices.Clone(columns)
	for i := range marked {
		if strings.TrimSpace(marked[i].Title) != by.Title || by.Title == "" {
			continue
		}
		mark := "▾"
		if by.Ascends != turned {
			mark = "▴"
		}
		marked[i].Title += mark
	}
	return l.Table(width, marked, cells)
}

// Click takes a click at a place of the station. It gives the row that was clicked, or -1, and says whether the list is
// sorted otherwise now.
func (s *List[T]) Click(x, y int) (row int, sorted bool) {
	if s.columns == nil || x < 0 || x >= s.width {
		return -1, false
	}
	if y > s.head && y <= s.head+s.shown {
		return s.first + y - s.head - 1, false
	}
	if y != s.head {
		return -1, false
	}
	title := strings.TrimSpace(look.ColumnAt(s.width, s.columns, x).Title)
	i := slices.IndexFunc(s.Sorts, func(o Sort[T]) bool { return o.Title == title })
	if title == "" || i < 0 {
		return -1, false
	}
	s.at, s.turned = i, i == s.at && !s.turned
	return -1, true
}
