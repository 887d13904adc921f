package tui

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/look"
)

// shown is the application on a terminal of some size, with a larder that has said how it is. No larder is behind it:
// what a key asks of one is not done.
func shown(t *testing.T, width, height int) *App {
	a := New(nil, nil, look.Dark)
	a.Update(tea.WindowSizeMsg{Width: width, Height: height})
	began := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	a.Update(answerMsg{
		status: control.Status{State: "caching", Rules: 1, Began: began, Now: began.Add(time.Hour)},
		patterns: &control.PatternList{Patterns: []control.Pattern{
			{ID: "bado-kife-ruma", Text: "select * from fares", Cacheable: true, Advice: &control.Advice{Kind: "cache", TTL: "1m"}},
			{ID: "lomu-vike-sano", Text: "select now()"},
		}},
	})
	require.True(t, a.known)
	return a
}

func pressed(a *App, keys ...string) {
	for _, k := range keys {
		m := tea.KeyPressMsg{Text: k}
		switch k {
		case "esc":
			m = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "enter":
			m = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "down":
			m = tea.KeyPressMsg{Code: tea.KeyDown}
		default:
			m.Code = []rune(k)[0]
		}
		a.Update(m)
	}
}

// situations are what may be shown in a station, by the keys that lead there and what came from the larder.
func situations() map[string]func(a *App) {
	rules := control.RuleBook{Rules: []control.Rule{{Name: "fares", Action: "cache", TTL: "30s", Text: "*"}}}
	books := func(d control.Draft, o *control.Outside) booksMsg {
		b := rules
		b.Outside = o
		return booksMsg{book: b, draft: d, history: []control.Entry{{ID: 2, Who: "ines"}, {ID: 1, Who: "ines"}}}
	}
	at := func(k string, msgs ...tea.Msg) func(a *App) {
		return func(a *App) {
			pressed(a, k)
			for _, m := range msgs {
				a.Update(m)
			}
		}
	}
	guard := control.Guard{
		Tables:  []control.GuardedTable{{Table: control.Table{Name: "fares"}, Cached: 3}},
		Unknown: []control.UnknownWrite{{PatternRef: control.PatternRef{ID: "bado-kife-ruma"}}},
	}
	return map[string]func(a *App){
		"Watch":                         at("1"),
		"Find":                          at("2"),
		"Find, nothing to keep":         func(a *App) { pressed(a, "2", "down") },
		"Find, laid out":                func(a *App) { pressed(a, "2", "enter") },
		"Find, with a draft":            func(a *App) { a.status.Drafted = 1; pressed(a, "2") },
		"Decide, nothing decided":       at("3", booksMsg{}),
		"Decide":                        at("3", books(control.Draft{}, nil)),
		"Decide, a draft":               at("3", books(control.Draft{Open: true}, nil)),
		"Decide, a draft behind":        at("3", books(control.Draft{Open: true, Behind: true}, nil)),
		"Decide, the file edited":       at("3", books(control.Draft{}, &control.Outside{Lines: []string{"removed fares"}})),
		"Decide, the history":           func(a *App) { at("3", books(control.Draft{}, nil))(a); pressed(a, "h") },
		"Guard":                         at("4", guardMsg{guard: guard}),
		"Guard, nothing known":          at("4"),
		"Guard, a table laid out":       func(a *App) { at("4", guardMsg{guard: guard})(a); pressed(a, "enter") },
		"Guard, effects":                func(a *App) { at("4", guardMsg{guard: guard})(a); pressed(a, "l") },
		"Stock, sizes foretold":         at("5"),
		"Stock, nothing kept":           at("5", stockMsg{}, curveMsg{}),
		"Stock":                         at("5", stockMsg{stock: control.Stock{Patterns: []control.Stocked{{}}}}, curveMsg{}),
		"Stock, full":                   func(a *App) { a.status.CachedLimit, a.status.CachedBytes = 100, 100; at("5", curveMsg{})(a) },
		"Prove":                         at("6"),
		"Prove, a trial under way":      func(a *App) { a.prove.BeginTrial(); pressed(a, "6") },
		"Prove, a trial that has ended": func(a *App) { a.prove.BeginTrial(); a.Update(trialMsg{result: &trial.Result{}}); pressed(a, "6") },
	}
}

// What the footer proposes is done by a key that help names for the station, so that neither can be wrong alone.
func TestTheFooterNamesKeysOfTheStation(t *testing.T) {
	for name, tour := range situations() {
		t.Run(name, func(t *testing.T) {
			a := shown(t, 120, 40)
			tour(a)
			require.True(t, strings.HasPrefix(name, a.at.Name()), "%s is shown", a.at.Name())
			var named []key.Binding
			says := a.at.Next(func(text string, k key.Binding, does string) string {
				named = append(named, k)
				return text + does
			})
			assert.NotEmpty(t, says)
			assert.NotEmpty(t, named, "there is always something to do")
			var known []string
			for _, g := range a.keys() {
				for _, k := range g.keys {
					known = append(known, k.Keys()...)
				}
			}
			for _, k := range named {
				assert.Subset(t, known, k.Keys(), "%q: help names %s", says, k.Help().Key)
			}
		})
	}
}

// In each station a key does one thing. Enter is deeper everywhere, and Decide says what that means there.
func TestAKeyDoesOneThing(t *testing.T) {
	a := shown(t, 120, 40)
	for _, st := range a.stations {
		a.goTo(st)
		seen := map[string]string{}
		for _, g := range a.keys() {
			for _, b := range g.keys {
				for _, k := range b.Keys() {
					if k == "enter" {
						continue
					}
					assert.Empty(t, seen[k], "in %s, %s is two things: the other is %q", st.Name(), k, b.Help().Desc)
					seen[k] = b.Help().Desc
				}
			}
		}
	}
}

func TestEveryStationIsGoneToByItsKey(t *testing.T) {
	a := shown(t, 120, 40)
	for i, st := range a.stations {
		pressed(a, fmt.Sprint(i+1))
		assert.Equal(t, st, a.at)
		screen := strings.Join(a.lines(), "\n")
		assert.Contains(t, screen, st.Name())
		pressed(a, "esc")
		assert.Equal(t, st, a.at, "back does not leave it")
	}
}

// Back goes one step at a time: out of what is laid out, out of a filter, and no further.
func TestBackGoesOneStepAtATime(t *testing.T) {
	a := shown(t, 120, 40)
	pressed(a, "2")
	a.find.SetFilter("fares")
	pressed(a, "enter")
	require.True(t, a.find.Deep())
	pressed(a, "esc")
	assert.False(t, a.find.Deep())
	assert.Equal(t, "fares", a.find.Filtered())
	pressed(a, "esc")
	assert.Empty(t, a.find.Filtered())
	assert.Equal(t, station(a.find), a.at)
	pressed(a, "esc")
	assert.Equal(t, station(a.find), a.at)
}

// Whatever is shown of a station, back stays in it.
func TestBackStaysInTheStation(t *testing.T) {
	for name, tour := range situations() {
		a := shown(t, 120, 40)
		tour(a)
		st := a.at
		for range 3 {
			pressed(a, "esc")
			assert.Equal(t, st, a.at, name)
		}
	}
}

// A filter belongs to the station that it was written in, and the others have none.
func TestFiltersBelongToTheirStation(t *testing.T) {
	for name, tour := range situations() {
		a := shown(t, 120, 40)
		tour(a)
		pressed(a, "/")
		assert.Equal(t, slices.Contains([]string{"Watch", "Find"}, a.at.Name()), a.line.open, name)
	}
	a := shown(t, 120, 40)
	pressed(a, "2", "/", "f", "a", "r", "e", "s", "enter")
	assert.Equal(t, "fares", a.find.Filtered())
	assert.Empty(t, a.watch.Filtered())
	pressed(a, "enter")
	require.True(t, a.find.Deep())
	pressed(a, "1", "/", "esc")
	assert.True(t, a.find.Deep(), "a filter on statements leaves Find as it is")
}

// The lead's steps name keys that work in the station in which they are read.
func TestTheTourNamesKeysThatWork(t *testing.T) {
	a := shown(t, 120, 40)
	in := []station{a.watch, a.find, a.find, a.decide, a.decide, a.watch, a.guard, a.stock, a.prove, a.decide, a.decide}
	require.Len(t, tourSteps, len(in))
	for i, step := range tourSteps {
		a.goTo(in[i])
		var known []string
		for _, g := range a.keys() {
			for _, k := range g.keys {
				known = append(known, k.Keys()...)
			}
		}
		assert.Subset(t, known, step.key(a).Keys(), "step %d: %s", i+1, step.does)
	}
}

// The keys of the longest form are all named at the foot of a usual terminal.
func TestTheFootHasRoomForTheKeysOfAForm(t *testing.T) {
	a := shown(t, 80, 24)
	pressed(a, "3")
	a.Update(booksMsg{})
	pressed(a, "n")
	require.NotNil(t, a.dialog)
	foot := a.lines()[23]
	for _, k := range a.dialog.Keys() {
		assert.Contains(t, foot, k.Help().Desc)
	}
}

// Whatever is shown, on whatever terminal: no line is wider than it, and there are as many as it has.
func TestEverySituationFitsEveryTerminal(t *testing.T) {
	for name, tour := range situations() {
		for _, size := range [][2]int{{leastWidth, leastHeight}, {80, 24}, {99, 30}, {100, 30}, {200, 60}} {
			a := shown(t, size[0], size[1])
			tour(a)
			for _, help := range []bool{false, true} {
				a.help, a.page = help, newHelp()
				lines := a.lines()
				assert.Len(t, lines, size[1], "%s at %d × %d", name, size[0], size[1])
				for _, line := range lines {
					assert.LessOrEqual(t, look.Width(line), size[0], "%s at %d × %d: %q", name, size[0], size[1], line)
				}
			}
		}
	}
}

// Where all that comes is only watched, nothing is said of writes and what they drop.
func TestWhatIsOnlyWatched(t *testing.T) {
	a := shown(t, 160, 45)
	watched := control.Origin{Protocol: "mysql", OnlyWatched: true}
	for _, x := range []struct {
		origins []control.Origin
		says    string
	}{{[]control.Origin{watched}, "only watched: [origin.catalog] would let results be cached"}, {[]control.Origin{watched, {Protocol: "postgresql"}}, "writes through here drop at once"}} {
		a.status.Origins = x.origins
		assert.Contains(t, strings.Join(a.band(), "\n"), x.says)
	}
}
