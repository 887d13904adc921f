package tui

import (
	"slices"
	"strconv"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/look"
)

// station is one step of the work, with a screen and keys of its own. The application shows one of them at a time. It
// takes the keys that are the same everywhere, and leaves the others to the station.
type station interface {
	// Name is a word, and Question what the station answers.
	Name() string
	Question() string
	// View draws it, with the lines of a question below where something is asked. Charts are what it draws, for files.
	View(l *look.Look, width, height int, question []string) []string
	Charts() []*chart.Chart
	// Badge stands beside its name where it wants attention; else it is empty.
	Badge(l *look.Look) string
	// Next says what would be sensible to do in it, by the keys that do it, the most sensible first.
	Next(say sayer) []string
	// Keys are those that work in it alone, and Press takes one of them.
	Keys() []key.Binding
	Press(k tea.KeyPressMsg) tea.Cmd
	// Clicked takes a click of the mouse at a place of what View drew.
	Clicked(x, y int) tea.Cmd
	// Back goes one step back within it, and says whether there was one.
	Back() bool
	// Enter is called when it is gone to, and Refresh every second while it is shown and not frozen.
	Enter() tea.Cmd
	Refresh() tea.Cmd
	// Freeze has what it shows stand still, or go on.
	Freeze(on bool)
	// Follow is told at every tick what has happened, and SetStatus how the larder is, whether it is shown or not. Take
	// takes a message if it is for this station.
	Follow(events []control.Event, now time.Time)
	SetStatus(s control.Status)
	Take(msg tea.Msg) tea.Cmd
}

// filtered is a station of which a filter shows a part.
type filtered interface {
	station
	Filtered() string
	SetFilter(text string) tea.Cmd
	// Fields are those a filter may name, and Filters says of what they are.
	Fields() []filter.Field
	Filters() string
}

// signed is a station with signs of its own, which help explains.
type signed interface {
	Signs(l *look.Look) []string
}

// sayer puts a key between what speaks for it and what it does.
type sayer func(text string, k key.Binding, does string) string

// still is a station that has nothing to do with most of what happens.
type still struct{}

func (still) Badge(*look.Look) string           { return "" }
func (still) Back() bool                        { return false }
func (still) Clicked(int, int) tea.Cmd          { return nil }
func (still) Enter() tea.Cmd                    { return nil }
func (still) Refresh() tea.Cmd                  { return nil }
func (still) Follow([]control.Event, time.Time) {}
func (still) Take(tea.Msg) tea.Cmd              { return nil }

// goTo shows a station.
func (a *App) goTo(st station) tea.Cmd {
	a.at = st
	return st.Enter()
}

// keyTo gives the key that goes to a station.
func (a *App) keyTo(st station) key.Binding {
	n := strconv.Itoa(slices.Index(a.stations, st) + 1)
	return key.NewBinding(key.WithKeys(n), key.WithHelp(n, "go to "+st.Name()))
}

// keyStations gives the keys that go to stations as one.
func (a *App) keyStations() key.Binding {
	var keys []string
	for _, st := range a.stations {
		keys = append(keys, a.keyTo(st).Help().Key)
	}
	return key.NewBinding(key.WithKeys(keys...), key.WithHelp(keys[0]+"–"+keys[len(keys)-1], "go to a station"))
}

// reached says whether a station, or one behind it in the order of the work, is shown.
func (a *App) reached(st station) bool {
	return slices.Index(a.stations, a.at) >= slices.Index(a.stations, st)
}

// goToPattern lays a pattern out in Find.
func (a *App) goToPattern(id string) tea.Cmd {
	a.find.Model.SetFilter("")
	a.find.Select(id)
	a.find.SetDeep(true)
	a.at = a.find
	return a.ask(true)
}
