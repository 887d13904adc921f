// Package tui is the terminal application. It knows nothing of a larder but the control API.
package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/watch"
)

// redraw is the time between two looks at the larder: four a second, so that numbers can be read.
const redraw = 250 * time.Millisecond

// The smallest terminal that anything can be shown on.
const (
	leastWidth  = 64
	leastHeight = 18
)

var (
	keyStation = key.NewBinding(key.WithKeys("1", "2", "3", "4", "5", "6"), key.WithHelp("1–6", "go to a station"))
	keyEnter   = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "deeper: from a statement to its pattern"))
	keyKeep    = key.NewBinding(key.WithKeys("k"), key.WithHelp("k", "keep the pattern's results, change or stop that"))
	keyDrop    = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop the pattern's results"))
	keyHold    = key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hold: all keeping off, or on again"))
	keyFilter  = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "show only what holds a text"))
	keyFreeze  = key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "freeze what is shown, or go on"))
	keyHelp    = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "these keys"))
	keyBack    = key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "back"))
	keyQuit    = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "leave"))
)

// stations in the order of the work, each with the question it answers.
var stations = []struct{ name, question string }{
	{"Watch", "What is going on right now, and what became of my statement?"},
	{"Find", "What is worth keeping?"},
	{"Decide", "What shall be kept, and what will it do?"},
	{"Guard", "Is anything old being served?"},
	{"Stock", "Is the memory well used?"},
	{"Prove", "What did it bring?"},
}

// App is the whole application.
type App struct {
	client        *control.Client
	look          *look.Look
	background    look.Background // as said when it was started; Unknown: as the terminal says
	width, height int
	station       int

	watch  watch.Model
	find   find.Model
	status control.Status
	err    error // why the larder does not answer
	known  bool  // it has answered once

	feed   *feed
	asked  bool // an answer is being waited for
	ticks  int
	frozen bool

	dialog    dialog.Dialog
	help      bool
	filtering bool
	input     textinput.Model
	said      string // what the last action came to
	saidAt    time.Time
	saidBad   bool
}

// Run shows the application on the terminal until it is left or the context ends.
func Run(ctx context.Context, client *control.Client, background look.Background) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := New(client, background)
	go a.feed.run(ctx, client)
	_, err := tea.NewProgram(a, tea.WithContext(ctx)).Run()
	if ctx.Err() != nil {
		return nil // it was told to end, perhaps because its terminal has gone
	}
	return err
}

// New makes the application; Run shows it.
func New(client *control.Client, background look.Background) *App {
	in := textinput.New()
	in.Prompt = "/ "
	in.CharLimit = 80
	return &App{client: client, look: look.New(background), background: background, feed: &feed{}, input: in}
}

// feed gathers events between two redraws.
type feed struct {
	mu     sync.Mutex
	events []control.Event
}

func (f *feed) run(ctx context.Context, c *control.Client) {
	for ctx.Err() == nil {
		_ = c.Stream(ctx, func(e control.Event) {
			f.mu.Lock()
			defer f.mu.Unlock()
			if len(f.events) < 20_000 {
				f.events = append(f.events, e)
			}
		})
		select { // the larder is gone: try again
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (f *feed) take() []control.Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	e := f.events
	f.events = nil
	return e
}

type tickMsg time.Time

// answerMsg is what the larder said when asked how it is.
type answerMsg struct {
	status   control.Status
	patterns []control.Pattern
	detail   *control.Pattern
	err      error
}

// doneMsg is what an action came to.
type doneMsg struct {
	text string
	err  error
}

func tick() tea.Cmd { return tea.Tick(redraw, func(t time.Time) tea.Msg { return tickMsg(t) }) }

// Init begins.
func (a *App) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.ask(true), tick()) }

// ask asks the larder how it is.
func (a *App) ask(patterns bool) tea.Cmd {
	a.asked = true
	id := a.find.SelectedID()
	client := a.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m answerMsg
		if m.status, m.err = client.Status(ctx); m.err != nil {
			return m
		}
		if patterns {
			if m.patterns, m.err = client.Patterns(ctx); m.err != nil {
				return m
			}
		}
		if id != "" {
			if p, err := client.Pattern(ctx, id); err == nil {
				m.detail = &p
			}
		}
		return m
	}
}

// Update takes a message.
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = m.Width, m.Height
	case tea.BackgroundColorMsg:
		if a.background == look.Unknown {
			a.look = look.New(map[bool]look.Background{true: look.Dark, false: look.Light}[m.IsDark()])
		}
	case tickMsg:
		a.ticks++
		a.watch.Add(a.feed.take(), time.Time(m))
		if a.asked {
			return a, tick()
		}
		return a, tea.Batch(tick(), a.ask(a.ticks%4 == 0))
	case answerMsg:
		a.asked = false
		a.err = m.err
		if m.err != nil {
			break
		}
		a.known = true
		a.status = m.status
		a.watch.SetStatus(m.status)
		if m.patterns != nil {
			a.find.SetPatterns(m.patterns)
		}
		if m.detail != nil {
			a.find.SetDetail(*m.detail)
		}
	case doneMsg:
		a.said, a.saidAt, a.saidBad = m.text, time.Now(), m.err != nil
		if m.err != nil {
			a.said = m.err.Error()
		}
		return a, a.ask(true)
	case tea.KeyPressMsg:
		return a, a.press(m)
	}
	return a, nil
}

// press takes a key.
func (a *App) press(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	switch {
	case a.filtering:
		return a.pressFilter(k)
	case a.dialog != nil:
		over, do := a.dialog.Update(k)
		if over {
			a.dialog = nil
		}
		return do
	case a.help:
		a.help = false
		return nil
	}
	switch {
	case key.Matches(k, keyQuit):
		return tea.Quit
	case key.Matches(k, keyHelp):
		a.help = true
	case key.Matches(k, keyStation):
		a.station = int(k.String()[0] - '1')
	case key.Matches(k, keyBack):
		if a.filter() != "" {
			a.setFilter("")
		} else {
			a.station = 0
		}
	case key.Matches(k, keyFilter) && a.station < 2:
		a.filtering = true
		a.input.SetValue(a.filter())
		return a.input.Focus()
	case key.Matches(k, keyFreeze):
		a.frozen = !a.frozen
		a.watch.Freeze(a.frozen)
		a.find.Freeze(a.frozen)
	case key.Matches(k, keyHold):
		a.dialog = a.askHold()
	case a.station == 0 && key.Matches(k, keyEnter):
		if id := a.watch.SelectedPattern(); id != "" {
			a.find.SetFilter("")
			a.find.Select(id)
			a.station = 1
			return a.ask(true)
		}
	case a.station == 0:
		a.watch.Update(k)
	case a.station == 1 && key.Matches(k, keyKeep):
		a.askKeep()
	case a.station == 1 && key.Matches(k, keyDrop):
		a.askDrop()
	case a.station == 1:
		a.find.Update(k)
		if !a.asked {
			return a.ask(false)
		}
	}
	return nil
}

func (a *App) filter() string {
	if a.station == 0 {
		return a.watch.Filter
	}
	return a.find.Filter
}

func (a *App) setFilter(text string) {
	if a.station == 0 {
		a.watch.SetFilter(text)
	} else {
		a.find.SetFilter(text)
	}
}

func (a *App) pressFilter(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter", "esc":
		a.filtering = false
		a.input.Blur()
		if k.String() == "esc" {
			a.setFilter("")
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(k)
	a.setFilter(strings.TrimSpace(a.input.Value()))
	return cmd
}

// act does something to the larder and says what it came to.
func act(said string, f func(context.Context) error) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		return doneMsg{said, f(ctx)}
	}
}

func (a *App) askKeep() {
	p := a.find.Selected()
	switch {
	case p == nil:
	case !p.Keepable && p.Rule == nil:
		a.said, a.saidAt, a.saidBad = find.Advice(p), time.Now(), true
	default:
		a.dialog = dialog.NewKeep(*p, func(r control.Rule) tea.Cmd {
			return act("Kept from now on: "+r.Pattern+", for "+r.TTL+".", func(ctx context.Context) error { return a.client.PutRule(ctx, r) })
		}, func(id string) tea.Cmd {
			return act("No longer kept: "+id+".", func(ctx context.Context) error { return a.client.RemoveRule(ctx, id) })
		})
	}
}

func (a *App) askDrop() {
	p := a.find.Selected()
	if p == nil {
		return
	}
	id := p.ID
	a.dialog = &dialog.Sure{
		Title: "Drop the results of " + id,
		Says:  []string{fmt.Sprintf("Its %d kept results are dropped; the next of its statements go to the origin, and are kept again if a rule says so.", p.Kept)},
		Do:    act("Dropped the results of "+id+".", func(ctx context.Context) error { _, err := a.client.Drop(ctx, control.Drop{Pattern: id}); return err }),
	}
}

func (a *App) askHold() dialog.Dialog {
	on := a.status.State != "held"
	d := &dialog.Sure{Title: "Hold", Says: []string{
		"All keeping is switched off: every statement goes to the origin from now on, as if the larder were not there.",
		"What is kept stays in memory, and writes go on dropping it, so that it is right when you go on.",
	}, Do: act("On hold: every statement goes to the origin.", func(ctx context.Context) error { return a.client.Hold(ctx, true) })}
	if !on {
		d = &dialog.Sure{Title: "Go on keeping", Says: []string{"The rules are in force again, and what is still true is answered from memory at once."},
			Do: act("The rules are in force again.", func(ctx context.Context) error { return a.client.Hold(ctx, false) })}
	}
	return d
}

// keys gives the keys that work now, by what they belong to.
func (a *App) keys() []keyGroup {
	groups := []keyGroup{{"everywhere", []key.Binding{keyStation, keyEnter, keyBack, keyFilter, keyFreeze, keyHold, keyHelp, keyQuit}}}
	switch a.station {
	case 0:
		groups = append(groups, keyGroup{"in Watch", watch.Keys})
	case 1:
		groups = append(groups, keyGroup{"in Find", append(slices.Clone(find.Keys), keyKeep, keyDrop)})
	}
	return groups
}

type keyGroup struct {
	title string
	keys  []key.Binding
}
