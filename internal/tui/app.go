// Package tui is the terminal application. It knows nothing of a larder but the control API.
package tui

import (
	"context"
	"math"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/guard"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/prove"
	"jollylarder/internal/tui/stock"
	"jollylarder/internal/tui/watch"
)

// redraw is the time between two looks at the larder: four a second, so that numbers can be read.
const redraw = 250 * time.Millisecond

// The smallest terminal that anything can be shown on.
const (
	leastWidth  = 64
	leastHeight = 18
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
	client        *client.Client
	look          *look.Look
	background    look.Background // as said when it was started; Unknown: as the terminal says
	width, height int
	station       int

	watch  watch.Model
	find   find.Model
	decide decide.Model
	guard  guard.Model
	stock  stock.Model
	prove  prove.Model
	status control.Status
	err    error // why the larder does not answer
	trials Trials
	known  bool // it has answered once
	lost   bool // it did not answer when it was last asked

	feed   *feed
	asked  bool // an answer is being waited for
	ticks  int
	frozen bool

	foretelling *forecasting // the forecast under way, or the last
	curving     *working     // the curve of memory under way, or the last
	trying      *working     // the trial under way, or the last

	lead     lead
	dialog   dialog.Dialog
	help     bool
	helpFrom int // the first line of it that is shown
	line     filterLine
	values   bool   // literals and parameters are shown
	said     string // what the last action came to
	saidAt   time.Time
	saidBad  bool
}

// Run shows the application on the terminal until it is left or the context ends.
// With lead, it begins with a lead through the stations.
func Run(ctx context.Context, client *client.Client, trials Trials, background look.Background, lead bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := New(client, trials, background)
	a.lead.on = lead
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
	return &App{client: client, trials: trials, look: look.New(background), background: background, feed: newFeed(), line: newFilterLine()}
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

func tick() tea.Cmd { return tea.Tick(redraw, func(t time.Time) tea.Msg { return tickMsg(t) }) }

// Init begins.
func (a *App) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, a.ask(true), tick()) }

// ask asks the larder how it is.
func (a *App) ask(patterns bool) tea.Cmd {
	a.asked = true
	id := a.find.SelectedID()
	client := a.client
	filter, order := a.find.Filter, a.find.Order()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m answerMsg
		if m.status, m.err = client.Status(ctx); m.err != nil {
			return m
		}
		if patterns {
			list, err := client.Patterns(ctx, filter, order)
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
	defer a.followLead()
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = m.Width, m.Height
	case tea.BackgroundColorMsg:
		if a.background == look.Unknown {
			a.look = look.New(map[bool]look.Background{true: look.Dark, false: look.Light}[m.IsDark()])
		}
	case tickMsg:
		a.ticks++
		events := a.feed.take()
		a.watch.Add(events, time.Time(m))
		a.find.Add(events)
		if a.foretelling != nil {
			a.decide.Progress(math.Float64frombits(a.foretelling.done.Load()))
		}
		cmds := []tea.Cmd{tick()}
		if a.station == 2 && a.ticks%4 == 2 && !a.frozen {
			cmds = append(cmds, a.askBooks())
		}
		if a.station == 3 && a.ticks%4 == 1 && !a.frozen {
			cmds = append(cmds, a.askGuard())
		}
		if a.curving != nil {
			done, _ := a.curving.state()
			a.stock.Progress(done)
		}
		if a.trying != nil {
			a.prove.Progress(a.trying.state())
		}
		if a.station == 4 && a.ticks%4 == 3 && !a.frozen {
			cmds = append(cmds, a.askStock())
		}
		if a.station == 5 && a.ticks%4 == 3 && !a.frozen {
			cmds = append(cmds, a.askProve())
		}
		if !a.asked {
			cmds = append(cmds, a.ask(a.ticks%4 == 0))
		}
		return a, tea.Batch(cmds...)
	case answerMsg:
		a.asked = false
		a.err = m.err
		if m.err != nil {
			a.lost = a.known
			break
		}
		switch {
		case a.known && !a.status.Began.Equal(m.status.Began):
			a.say("The larder was started again: its counts begin anew, and nothing is kept yet.", true)
		case a.lost:
			a.say("The larder answers again.", false)
		}
		a.known, a.lost = true, false
		a.status = m.status
		a.watch.SetStatus(m.status)
		a.decide.SetStatus(m.status)
		a.prove.SetStatus(m.status)
		if m.patterns != nil {
			a.find.SetPatterns(*m.patterns)
		}
		if m.detail != nil {
			a.find.SetDetail(*m.detail)
		}
	case valuesMsg:
		a.values = true
		a.feed.show(true)
		a.watch.Singles()
		a.said, a.saidAt, a.saidBad = "Values are shown: v hides them.", time.Now(), false
	case booksMsg:
		if m.err == nil && !a.frozen {
			a.decide.Set(m.book, m.draft, m.history)
			return a, a.forecast()
		}
	case guardMsg:
		if m.err == nil {
			a.guard.Set(m.guard)
		}
	case stockMsg:
		if m.err == nil {
			a.stock.Set(m.stock)
		}
	case curveMsg:
		a.stock.EndCurve(m.curve, m.err)
	case proofMsg:
		if m.err == nil {
			a.prove.Set(m.proof)
			a.prove.SetPattern(m.pattern)
		}
	case trialMsg:
		a.prove.EndTrial(m.result, m.err)
	case draftedMsg:
		switch {
		case m.err != nil:
			a.say(m.err.Error(), true)
		case m.said != "":
			a.say(m.said, false)
		}
		if m.err == nil {
			a.status.Drafted = len(m.draft.Changes)
			a.decide.SetDraft(m.draft)
		}
		return a, tea.Batch(a.askBooks(), a.ask(true))
	case forecastMsg:
		a.decide.EndForecast(m.of, m.f, m.err)
		return a, a.forecast()
	case doneMsg:
		a.said, a.saidAt, a.saidBad = m.text, time.Now(), m.err != nil
		if m.err != nil {
			a.said = m.err.Error()
		}
		return a, tea.Batch(a.ask(true), a.askBooks())
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
	case a.line.open:
		return a.pressFilter(k)
	case a.dialog != nil:
		over, do := a.dialog.Update(k)
		if over {
			a.dialog = nil
		}
		return do
	case a.help:
		if a.helpFrom += a.bodyHeight() - 1; a.helpFrom >= len(a.helpLines(a.mainWidth()))-1 || k.String() == "esc" {
			a.help, a.helpFrom = false, 0
		}
		return nil
	}
	switch {
	case key.Matches(k, keyQuit):
		return tea.Quit
	case key.Matches(k, keyHelp):
		a.help = true
	case key.Matches(k, keyStation):
		a.station = int(k.String()[0] - '1')
		switch a.station {
		case 2:
			return a.askBooks()
		case 3:
			return a.askGuard()
		case 4:
			if a.stock.Curve() == nil && !a.stock.Making() {
				return tea.Batch(a.askStock(), a.makeCurve())
			}
			return a.askStock()
		case 5:
			return a.askProve()
		}
	case key.Matches(k, keyBack):
		switch {
		case a.station == 3 && a.guard.Deep():
			a.guard.SetDeep(false)
		case a.station == 5 && a.prove.Trial():
			a.prove.Close()
		case a.station == 1 && a.find.Deep():
			a.find.SetDeep(false)
		case a.station == 2 && a.decide.History():
			a.decide.ShowHistory(false)
		case a.station < 2 && a.filter() != "":
			return a.setFilter("")
		default:
			a.station = 0
		}
	case key.Matches(k, keyFilter) && a.station < 2:
		fields := filter.OfStatements
		if a.station == 1 {
			fields = filter.OfPatterns
			a.find.SetDeep(false)
		}
		return a.line.begin(a.filter(), fields, a.knownValues)
	case key.Matches(k, keyValues):
		return a.askValues()
	case key.Matches(k, keyFreeze):
		a.frozen = !a.frozen
		a.watch.Freeze(a.frozen)
		a.find.Freeze(a.frozen)
		a.guard.Freeze(a.frozen)
		a.stock.Freeze(a.frozen)
		a.prove.Freeze(a.frozen)
	case key.Matches(k, keyHold):
		a.dialog = a.askHold()
	case key.Matches(k, keyLead):
		a.lead = lead{on: !a.lead.on}
	case key.Matches(k, keyExport):
		a.askExport()
	case a.station == 0 && key.Matches(k, keyEnter):
		if id := a.watch.SelectedPattern(); id != "" {
			a.find.SetFilter("")
			a.find.Select(id)
			a.find.SetDeep(true)
			a.station = 1
			return a.ask(true)
		}
	case a.station == 1 && key.Matches(k, keyEnter):
		a.find.SetDeep(!a.find.Deep())
	case a.station == 2:
		return a.pressDecide(k)
	case a.station == 3:
		return a.pressGuard(k)
	case a.station == 4:
		return a.pressStock(k)
	case a.station == 5:
		return a.pressProve(k)
	case a.station == 0:
		a.watch.Update(k)
	case a.station == 1 && key.Matches(k, keyKeep):
		return a.takeAdvice("keep")
	case a.station == 1 && key.Matches(k, keyNever):
		return a.takeAdvice("never")
	case a.station == 1 && key.Matches(k, keyDrop):
		a.askDrop()
	case a.station == 1:
		order := a.find.Order()
		a.find.Update(k)
		if !a.asked {
			return a.ask(order != a.find.Order())
		}
	}
	return nil
}
