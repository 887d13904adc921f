package tui

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"time"
	"unicode"
	"unicode/utf8"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/look"
)

var (
	keyApply    = key.NewBinding(key.WithKeys("a"), key.WithHelp("a", "apply the draft"))
	keyUndo     = key.NewBinding(key.WithKeys("u"), key.WithHelp("u", "undo: the rules before, or those of a chosen entry"))
	keyRedo     = key.NewBinding(key.WithKeys("U"), key.WithHelp("U", "redo: what was undone last"))
	keyEdit     = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "edit the rule"))
	keyNew      = key.NewBinding(key.WithKeys("n"), key.WithHelp("n", "a new rule"))
	keyRemove   = key.NewBinding(key.WithKeys("delete", "backspace"), key.WithHelp("del", "remove the rule from the draft"))
	keyEarlier  = key.NewBinding(key.WithKeys("<"), key.WithHelp("<", "move it up: it decides earlier"))
	keyLater    = key.NewBinding(key.WithKeys(">"), key.WithHelp(">", "move it down: it decides later"))
	keyPause    = key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "pause the rule at once, or resume it"))
	keyDiscard  = key.NewBinding(key.WithKeys("D"), key.WithHelp("D", "discard the draft"))
	keyRenew    = key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "take others' changes into the draft"))
	keyFile     = key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "take what was edited in the rules file"))
	keyRefuse   = key.NewBinding(key.WithKeys("b"), key.WithHelp("b", "in the larder's choices: take it back, and never let it choose it again"))
	keyAdopt    = key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "in the larder's choices: make it a rule of its own"))
	keyDropRule = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop the rule's results"))
)

var decideKeys = []key.Binding{keyEdit, keyNew, decide.KeyLeave, keyRemove, keyEarlier, keyLater, keyApply, keyUndo, keyRedo, keyPause, keyRefuse, keyAdopt, keyDropRule, keyDiscard, keyRenew, keyFile, decide.KeyForecast, decide.KeyStop}

// deciding is the station Decide: drafts, forecasts, and what leads to other rules.
type deciding struct {
	decide.Model

	a           *App
	foretelling *forecasting // the forecast under way, or the last
}

func (s *deciding) Name() string        { return "Decide" }
func (s *deciding) Question() string    { return "What will be cached, and what will that do?" }
func (s *deciding) Keys() []key.Binding { return append(slices.Clone(decide.Keys), decideKeys...) }
func (s *deciding) Enter() tea.Cmd      { return s.Refresh() }

// Freeze does nothing by itself: what comes is not taken while the application is frozen.
func (s *deciding) Freeze(bool) {}

func (s *deciding) Badge(l *look.Look) string {
	switch {
	case s.a.status.Outside != nil:
		return l.Plum.Render("≠")
	case s.a.status.Drafted > 0:
		return l.Honey.Render(fmt.Sprintf("±%d", s.a.status.Drafted))
	}
	return ""
}

func (s *deciding) Back() bool {
	record, chosen := s.History(), s.Chosen()
	switch {
	case record:
		s.ShowHistory(false)
	case chosen:
		s.ShowChosen(false)
	}
	return record || chosen
}

func (s *deciding) Clicked(_, y int) tea.Cmd {
	s.Click(y)
	return s.Refresh()
}

func (s *deciding) Follow([]control.Event, time.Time) {
	if s.foretelling != nil {
		s.Progress(math.Float64frombits(s.foretelling.done.Load()))
	}
}

func (s *deciding) Take(msg tea.Msg) tea.Cmd {
	a := s.a
	switch m := msg.(type) {
	case booksMsg:
		if m.err == nil && !a.frozen {
			s.Set(m.book, m.draft, m.history)
			s.SetChoices(m.choices)
			return s.forecast()
		}
	case draftedMsg:
		switch {
		case m.err != nil:
			a.say(m.err.Error(), true)
		case m.said != "":
			a.say(m.said, false)
		}
		if m.err == nil {
			a.status.Drafted = len(m.draft.Changes)
			s.SetDraft(m.draft)
		}
		return tea.Batch(s.Refresh(), a.ask(true))
	case forecastMsg:
		s.EndForecast(m.of, m.f, m.err)
		return s.forecast()
	}
	return nil
}

func (s *deciding) Next(say sayer) []string {
	switch {
	case s.History() && s.Entry() != nil && s.Entry().Choice != nil:
		return []string{say("", decide.KeyRecord, "goes back to the rules"), say("", decide.KeyChosen, "there shows what the larder chose")}
	case s.History():
		return []string{say("", keyUndo, "puts the rules of this entry in force again"), say("", decide.KeyRecord, "goes back to the rules")}
	case s.Chosen() && s.Choice() != nil:
		return []string{say("", keyRefuse, "takes it back for good"), say("", keyAdopt, "makes it a rule of its own"), say("", decide.KeyChosen, "goes back to the rules")}
	case s.Chosen():
		return []string{say("", decide.KeyChosen, "goes back to the rules")}
	case s.Draft().Behind:
		return []string{say("Somebody changed the rules:", keyRenew, "takes that into the draft"), say("", keyDiscard, "discards the draft")}
	case s.Running():
		return []string{say("The forecast is being made:", decide.KeyStop, "stops it")}
	case s.Draft().Open:
		return []string{say("", keyApply, "applies the draft"), say("", keyEdit, "edits the rule"), say("", keyDiscard, "discards the draft")}
	case s.Outside() != nil:
		return []string{say("The rules file was edited:", keyFile, "applies that")}
	case s.Selected() != nil && s.Selected().Action == "advised":
		return []string{say("", decide.KeyChosen, "shows what the larder chose"), say("", keyEdit, "edits the bounds"), say("", keyPause, "pauses the rule")}
	case s.Selected() != nil:
		return []string{
			say("", keyEdit, "edits the rule"),
			say("", keyPause, "pauses it"),
			say("", keyUndo, "undoes the last change"),
			say("", decide.KeyRecord, "shows the history"),
		}
	}
	return []string{say("Nothing is decided yet:", s.a.keyTo(s.a.find), "shows what is worth caching")}
}

// Signs explains the signs before rules.
func (s *deciding) Signs(l *look.Look) []string {
	var out []string
	for _, x := range []struct {
		style interface{ Render(...string) string }
		sign  string
		says  string
	}{
		{l.Moss, "new", "the draft adds this rule"},
		{l.Honey, "altered", "the draft changes it"},
		{l.Brick, "removed", "the draft removes it"},
		{l.Slate, "moved", "the draft moves it: the first rule that matches decides"},
		{l.Honey, "◆", "it caches results"},
		{l.Honey, "◇", "the larder may choose what it caches, and has chosen nothing yet"},
		{l.Brick, "■", "it is paused, or bypasses"},
		{l.Plum, "≠", "the rules file was edited, and is not in force"},
		{l.Honey, "±2", "your draft makes two changes"},
	} {
		out = append(out, "    "+x.style.Render(look.Left(x.sign, 8))+l.Cream.Render(x.says))
	}
	return append(out, "", "  "+l.Dim.Render("Hit rates are of all statements; saved time and drops are per minute."))
}

// booksMsg is the rules, the draft and the history as they are.
type booksMsg struct {
	book    control.RuleBook
	draft   control.Draft
	history []control.Entry
	choices control.Choices
	err     error
}

// Refresh asks for them.
func (s *deciding) Refresh() tea.Cmd {
	client, name := s.a.client, ""
	if r := s.Selected(); r != nil {
		name = r.Name
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m booksMsg
		var errs [4]error
		m.book, errs[0] = client.RulesWithHour(ctx, name)
		m.draft, errs[1] = client.Draft(ctx)
		m.history, errs[2] = client.History(ctx, 200)
		m.choices, errs[3] = client.Choices(ctx, "")
		m.err = errors.Join(errs[:]...)
		return m
	}
}

// draftedMsg is what an edit of the draft came to.
type draftedMsg struct {
	said  string
	draft control.Draft
	err   error
}

// edit makes one edit of the draft.
func (s *deciding) edit(said string, e control.Edit) tea.Cmd {
	return s.redraft(said, func(ctx context.Context) (control.Draft, error) { return s.a.client.Edit(ctx, e) })
}

// failure gives why the draft was not edited, or nil.
func (m draftedMsg) failure() error { return m.err }

// redraft does something to the draft as a whole.
func (s *deciding) redraft(said string, f func(context.Context) (control.Draft, error)) tea.Cmd {
	return fetch(f, func(d control.Draft, err error) tea.Msg { return draftedMsg{said, d, err} })
}

// forecasting is a forecast under way.
type forecasting struct {
	done   atomic.Uint64 // a float's bits
	cancel context.CancelFunc
}

type forecastMsg struct {
	of  string
	f   *control.Forecast
	err error
}

// forecast has the larder foretell what the draft would do, if that is not known.
func (s *deciding) forecast() tea.Cmd {
	if !s.WantsForecast() {
		return nil
	}
	of := s.BeginForecast()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	run := &forecasting{cancel: cancel}
	s.foretelling = run
	client, text := s.a.client, s.Draft().Text
	return func() tea.Msg {
		defer cancel()
		f, err := client.Forecast(ctx, &text, func(done float64) { run.done.Store(math.Float64bits(done)) })
		if errors.Is(ctx.Err(), context.Canceled) {
			return forecastMsg{of, nil, errors.New("it was stopped; " + decide.KeyForecast.Help().Key + " makes it again")}
		}
		return forecastMsg{of, f, err}
	}
}

func (s *deciding) Press(k tea.KeyPressMsg) tea.Cmd {
	if s.History() {
		switch {
		case (key.Matches(k, keyUndo) || key.Matches(k, keyEnter)) && s.Entry() != nil && s.Entry().Choice != nil:
			s.a.say("The larder decided this within "+s.Entry().Choice.Rule+": "+decide.KeyChosen.Help().Key+" in the list of rules shows its choices, and takes one back.", true)
		case key.Matches(k, keyUndo), key.Matches(k, keyEnter):
			s.askUndo(s.Entry())
		default:
			s.Update(k)
		}
		return nil
	}
	if s.Chosen() {
		switch c := s.Choice(); {
		case c != nil && key.Matches(k, keyRefuse):
			s.askRefuse(c)
		case c != nil && key.Matches(k, keyAdopt):
			s.askAdopt(c)
		default:
			s.Update(k)
		}
		return nil
	}
	if r := s.Selected(); r != nil && r.Kind != "removed" {
		if do, taken := s.pressRule(k, r); taken {
			return do
		}
	}
	switch {
	case key.Matches(k, keyApply):
		s.askApply()
	case key.Matches(k, keyUndo):
		s.askUndo(s.Before())
	case key.Matches(k, keyRedo):
		s.askRedo(s.Undone())
	case key.Matches(k, keyNew):
		s.a.dialog = dialog.NewRuleForm("A new rule", control.Rule{Action: "cache", TTL: "30s"}, func(r control.Rule) tea.Cmd {
			return s.edit("In the draft: a new rule.", control.Edit{Put: &r})
		})
	case key.Matches(k, decide.KeyLeave):
		s.a.dialog = dialog.NewRuleForm("Let the larder choose", s.leftToTheLarder(), func(r control.Rule) tea.Cmd {
			return s.edit("In the draft: "+r.Name+". Nothing has changed yet: "+keyApply.Help().Key+" applies it.", control.Edit{Put: &r})
		})
	case key.Matches(k, keyDiscard) && s.Draft().Open:
		s.a.dialog = &dialog.Sure{
			Title: "Discard the draft",
			Says:  []string{"Its changes are lost. The rules in force do not change."},
			Do:    s.redraft("The draft is discarded.", s.a.client.Discard),
		}
	case key.Matches(k, keyRenew) && s.Draft().Behind:
		return s.redraft("The draft is based on the rules in force now.", s.a.client.Renew)
	case key.Matches(k, keyFile) && s.Outside() != nil:
		s.askFile()
	case key.Matches(k, decide.KeyForecast):
		s.Again()
		return s.forecast()
	case key.Matches(k, decide.KeyStop) && s.Running() && s.foretelling != nil:
		s.foretelling.cancel()
	default:
		s.Update(k)
	}
	return nil
}

// leftToTheLarder makes a rule by which the larder chooses for the application whose clients wait most for what could be
// cached, of those that have no such rule yet.
func (s *deciding) leftToTheLarder() control.Rule {
	r := control.Rule{Name: "larder", Action: "advised", MaxTTL: "1m", MinSaved: "200ms", MaxMemory: "20%", Note: "the larder chooses, within these bounds"}
	taken := func(name string) bool {
		return slices.ContainsFunc(s.Draft().Rules, func(o control.Rule) bool { return o.Name == name })
	}
	most := -1.0
	for _, a := range s.a.status.Applications {
		name := strings.Map(func(c rune) rune {
			if c < utf8.RuneSelf && (unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune("._-", c)) {
				return c
			}
			return '-'
		}, a.Name)
		if a.Minute.Cacheable <= most || strings.HasPrefix(a.Name, "(") || len(name) > 50 || taken("larder-"+name) {
			continue
		}
		most, r.Name, r.When = a.Minute.Cacheable, "larder-"+name, &control.When{Application: a.Name}
	}
	if r.When == nil {
		r.Text = "*"
	}
	for n := 2; taken(r.Name); n++ {
		r.Name = fmt.Sprint("larder-", n)
	}
	return r
}

// pressRule takes a key that does something to a rule, and says whether it is one.
func (s *deciding) pressRule(k tea.KeyPressMsg, r *decide.Row) (do tea.Cmd, taken bool) {
	switch {
	case key.Matches(k, keyEdit):
		s.a.dialog = dialog.NewRuleForm("The rule "+r.Name, r.Rule, func(x control.Rule) tea.Cmd {
			return s.edit("In the draft: "+r.Name+" changed.", control.Edit{Name: r.Name, Put: &x})
		})
	case key.Matches(k, keyRemove):
		return s.edit("In the draft: "+r.Name+" taken out.", control.Edit{Name: r.Name, Remove: true}), true
	case key.Matches(k, keyEarlier):
		return s.edit("", control.Edit{Name: r.Name, Move: -1}), true
	case key.Matches(k, keyLater):
		return s.edit("", control.Edit{Name: r.Name, Move: 1}), true
	case key.Matches(k, keyPause):
		s.askPause(r)
	case key.Matches(k, keyDropRule):
		name := r.Name
		s.a.dialog = &dialog.Sure{Title: "Drop what " + name + " caches", Says: []string{"Its results are dropped. The next of its statements go to the database and are cached again."},
			Do: act("Dropped what "+name+" cached.", func(ctx context.Context) error { _, err := s.a.client.Drop(ctx, control.Drop{Rule: name}); return err })}
	default:
		return nil, false
	}
	return nil, true
}
