// Package tui is the terminal application. It knows nothing of a larder but the control API.
package tui

import (
	"context"
	"time"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// redraw is the time between two looks at the larder: four a second, so that numbers can be read.
const redraw = 250 * time.Millisecond

// The smallest terminal that anything can be shown on.
const (
	leastWidth  = 64
	leastHeight = 18
)

// App is the whole application.
type App struct {
	client        *client.Client
	look          *look.Look
	background    look.Background // as said when it was started; Unknown: as the terminal says
	width, height int

	// The stations by name are for going from one to another.
	watch  *watching
	find   *finding
	decide *deciding
	guard  *guarding
	stock  *stocking
	prove  *proving

	stations []station // in the order of the work
	at       station   // the one that is shown

	status control.Status
	err    error // why the larder does not answer
	trials Trials
	known  bool // it has answered once
	lost   bool // it did not answer when it was last asked

	feed   *feed
	asked  bool // an answer is being waited for
	ticks  int
	frozen bool

	tour    tour
	dialog  dialog.Dialog
	help    bool
	page    viewport.Model // of help
	line    filterLine
	values  bool   // literals and parameters are shown
	said    string // what the last action came to
	saidAt  time.Time
	saidBad bool
}

// Run shows the application on the terminal until it is left or the context ends.
// With lead, it begins with a lead through the stations.
func Run(ctx context.Context, client *client.Client, trials Trials, background look.Background, tour bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := New(client, trials, background)
	a.tour.on = tour
	go a.feed.run(ctx, client)
	_, err := tea.NewProgram(a, tea.WithContext(ctx)).Run()
	if ctx.Err() != nil {
		return nil // it was told to end, perhaps because its terminal has gone
	}
	return err
}

// Trials makes a trial with statements of its own ready, or says what is wrong with it.
type Trials func(trial.Wanted) (run func(context.Context) (*trial.Result, error), err error)

// New makes the application; Run shows it. Trials with statements of their own are made by trials.
func New(client *client.Client, trials Trials, background look.Background) *App {
	a := &App{
		client: client, trials: trials, look: look.New(background), background: background,
		feed: newFeed(), line: newFilterLine(),
	}
	a.watch, a.find, a.decide = &watching{a: a}, &finding{a: a}, &deciding{a: a}
	a.find.Drafted = a.decide.Drafted
	a.guard, a.stock, a.prove = &guarding{a: a}, &stocking{a: a}, &proving{a: a}
	a.stations = []station{a.watch, a.find, a.decide, a.guard, a.stock, a.prove}
	a.at = a.watch
	return a
}

type tickMsg time.Time

// answerMsg is what the larder said when asked how it is.
type answerMsg struct {
	status   control.Status
	patterns *control.PatternList
	detail   *control.Pattern
	err      error
}

// doneMsg is what an action came to.
type doneMsg struct {
	text string
	err  error
}

// failure gives why an action has come to nothing, or nil.
func (m doneMsg) failure() error { return m.err }

// refusedMsg is what an action came to that a dialog has asked for, and that was refused.
type refusedMsg struct {
	asked dialog.Refusable
	err   error
	msg   tea.Msg
}

// answering runs what a dialog has asked for. The dialog comes back with all that was entered if that is refused.
func answering(asked dialog.Dialog, do tea.Cmd) tea.Cmd {
	r, ok := asked.(dialog.Refusable)
	if !ok || do == nil {
		return do
	}
	return func() tea.Msg {
		m := do()
		if f, ok := m.(interface{ failure() error }); ok && f.failure() != nil {
			return refusedMsg{r, f.failure(), m}
		}
		return m
	}
}

func tick() tea.Cmd { return tea.Tick(redraw, func(t time.Time) tea.Msg { return tickMsg(t) }) }

// Init begins.
func (a *App) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.ask(true), tick()) }

// ask asks the larder how it is.
func (a *App) ask(patterns bool) tea.Cmd {
	a.asked = true
	id := a.find.SelectedID()
	client := a.client
	filter := a.find.Filter
	order, reversed := a.find.Order()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m answerMsg
		if m.status, m.err = client.Status(ctx); m.err != nil {
			return m
		}
		if patterns {
			list, err := client.Patterns(ctx, filter, order, reversed)
			if m.err = err; err != nil {
				return m
			}
			m.patterns = &list
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
	defer a.followTour()
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = m.Width, m.Height
	case tea.BackgroundColorMsg:
		if a.background == look.Unknown {
			a.look = look.New(map[bool]look.Background{true: look.Dark, false: look.Light}[m.IsDark()])
		}
	case tickMsg:
		return a, a.tick(time.Time(m))
	case answerMsg:
		a.answered(m)
		if m.patterns != nil && !a.frozen && a.status.Drafted != len(a.decide.Draft().Changes) { // a draft of before, or from elsewhere
			return a, a.decide.Refresh()
		}
	case valuesMsg:
		a.values = true
		a.feed.show(true)
		a.watch.Singles()
		a.say("Values are shown: "+keyValues.Help().Key+" hides them.", false)
	case doneMsg:
		a.say(m.text, false)
		if m.err != nil {
			a.say(m.err.Error(), true)
		}
		return a, tea.Batch(a.ask(true), a.decide.Refresh())
	case refusedMsg:
		if a.dialog == nil {
			m.asked.Refuse(m.err.Error())
			a.dialog = m.asked
		}
		return a.Update(m.msg)
	case tea.KeyPressMsg:
		return a, a.press(m)
	case tea.MouseWheelMsg:
		if k, ok := moving.Wheel(m); ok {
			return a, a.press(k)
		}
	case tea.MouseClickMsg:
		if st := a.clicked(m); st != nil {
			return a, a.goTo(st)
		}
		if m.Button == tea.MouseLeft && a.known && a.dialog == nil && !a.help && !a.line.open {
			return a, a.at.Clicked(m.X-a.railWidth()-1, m.Y-bandHeight)
		}
	default:
		var cmds []tea.Cmd
		for _, st := range a.stations {
			cmds = append(cmds, st.Take(msg))
		}
		return a, tea.Batch(cmds...)
	}
	return a, nil
}

// aSecond is how many ticks it has.
const aSecond = int(time.Second / redraw)

// tick has the stations follow what has happened, and asks the larder how it is.
func (a *App) tick(now time.Time) tea.Cmd {
	a.ticks++
	events := a.feed.take()
	for _, st := range a.stations {
		st.Follow(events, now)
	}
	cmds := []tea.Cmd{tick()}
	if a.ticks%aSecond == aSecond/2 && !a.frozen {
		cmds = append(cmds, a.at.Refresh())
	}
	if !a.asked {
		cmds = append(cmds, a.ask(a.ticks%aSecond == 0))
	}
	return tea.Batch(cmds...)
}

// answered takes what the larder said when asked how it is.
func (a *App) answered(m answerMsg) {
	a.asked = false
	if a.err = m.err; m.err != nil {
		a.lost = a.known
		return
	}
	switch {
	case a.known && !a.status.Began.Equal(m.status.Began):
		a.say("The larder restarted: its counters start at zero and its memory is empty.", true)
	case a.lost:
		a.say("The larder answers again.", false)
	}
	a.known, a.lost = true, false
	a.status = m.status
	for _, st := range a.stations {
		st.SetStatus(m.status)
	}
	if m.patterns != nil {
		a.find.SetPatterns(*m.patterns)
	}
	if m.detail != nil {
		a.find.SetDetail(*m.detail)
	}
}

// press takes a key.
func (a *App) press(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return tea.Quit
	}
	switch {
	case a.line.open:
		return a.pressFilter(k)
	case a.dialog != nil:
		asked := a.dialog
		over, do := asked.Update(k)
		if !over {
			return do
		}
		a.dialog = nil
		return answering(asked, do)
	case a.help:
		a.pressHelp(k)
		return nil
	}
	for _, st := range a.stations {
		if key.Matches(k, a.keyTo(st)) {
			return a.goTo(st)
		}
	}
	switch {
	case key.Matches(k, keyQuit):
		return tea.Quit
	case key.Matches(k, keyHelp):
		a.help, a.page = true, newHelp()
	case key.Matches(k, keyBack):
		return a.back()
	case key.Matches(k, keyFilter) && a.filtered() != nil:
		return a.beginFilter()
	case key.Matches(k, keyValues):
		return a.askValues()
	case key.Matches(k, keyFreeze):
		a.frozen = !a.frozen
		for _, st := range a.stations {
			st.Freeze(a.frozen)
		}
	case key.Matches(k, keyCaching):
		a.dialog = a.askCaching()
	case key.Matches(k, keyTour):
		a.tour = tour{on: !a.tour.on}
	case key.Matches(k, keyExport):
		a.askExport()
	default:
		return a.at.Press(k)
	}
	return nil
}

// back goes one step back: within the station, then to all it shows. The station itself is left by the key of another.
func (a *App) back() tea.Cmd {
	if a.at.Back() {
		return nil
	}
	if f := a.filtered(); f != nil && f.Filtered() != "" {
		return f.SetFilter("")
	}
	return nil
}

// say says something at the foot for a while.
func (a *App) say(text string, bad bool) { a.said, a.saidAt, a.saidBad = text, time.Now(), bad }
