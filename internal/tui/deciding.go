package tui

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync/atomic"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/dialog"
)

// What the application does for the station Decide: drafts, forecasts, and what leads to other rules.

var (
	keyApply    = key.NewBinding(key.WithKeys("a"), key.WithHelp("a", "apply the draft"))
	keyUndo     = key.NewBinding(key.WithKeys("u"), key.WithHelp("u", "undo: the rules before, or those of a chosen entry"))
	keyEdit     = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "edit the rule"))
	keyNew      = key.NewBinding(key.WithKeys("n"), key.WithHelp("n", "a new rule"))
	keyRemove   = key.NewBinding(key.WithKeys("delete", "backspace"), key.WithHelp("del", "take the rule out of the draft"))
	keyEarlier  = key.NewBinding(key.WithKeys("<"), key.WithHelp("<", "have it decide earlier"))
	keyLater    = key.NewBinding(key.WithKeys(">"), key.WithHelp(">", "have it decide later"))
	keyPause    = key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "pause the rule at once, or let it go on"))
	keyDiscard  = key.NewBinding(key.WithKeys("D"), key.WithHelp("D", "discard the draft"))
	keyRenew    = key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "take others' changes into the draft"))
	keyFile     = key.NewBinding(key.WithKeys("e"), key.WithHelp("e", "take what was edited in the rules file"))
	keyForecast = key.NewBinding(key.WithKeys("f"), key.WithHelp("f", "make the forecast again"))
	keyStop     = key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "stop the forecast"))
	keyDropRule = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop what the rule keeps"))
)

var decideKeys = []key.Binding{keyEdit, keyNew, keyRemove, keyEarlier, keyLater, keyApply, keyUndo, keyPause, keyDropRule, keyDiscard, keyRenew, keyFile, keyForecast, keyStop}

// booksMsg is the rules, the draft and the history as they are.
type booksMsg struct {
	book    control.RuleBook
	draft   control.Draft
	history []control.Entry
	err     error
}

// askBooks asks for them.
func (a *App) askBooks() tea.Cmd {
	client := a.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m booksMsg
		var errs [3]error
		m.book, errs[0] = client.Rules(ctx)
		m.draft, errs[1] = client.Draft(ctx)
		m.history, errs[2] = client.History(ctx, 200)
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
func (a *App) edit(said string, e control.Edit) tea.Cmd {
	client := a.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		d, err := client.Edit(ctx, e)
		return draftedMsg{said, d, err}
	}
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
func (a *App) forecast() tea.Cmd {
	if !a.decide.WantsForecast() {
		return nil
	}
	of := a.decide.BeginForecast()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	run := &forecasting{cancel: cancel}
	a.foretelling = run
	client, text := a.client, a.decide.Draft().Text
	return func() tea.Msg {
		defer cancel()
		f, err := client.Forecast(ctx, &text, func(done float64) { run.done.Store(math.Float64bits(done)) })
		if errors.Is(ctx.Err(), context.Canceled) {
			return forecastMsg{of, nil, errors.New("it was stopped")}
		}
		return forecastMsg{of, f, err}
	}
}

// takeAdvice puts the selected pattern of Find into the draft, with the lifetime that is advised.
func (a *App) takeAdvice(verdict string) tea.Cmd {
	p := a.find.Selected()
	switch {
	case p == nil:
		return nil
	case p.Rule != nil:
		a.station = 2
		a.decide.Select(p.Rule.Name)
		return a.askBooks()
	case verdict == "keep" && !p.Keepable:
		a.say(p.Advice.Sentence, true)
		return nil
	}
	r := control.Rule{Pattern: p.ID, Verdict: verdict, Statement: p.Text}
	said := "In the draft: never keep " + p.ID + "."
	if verdict == "keep" {
		r.TTL = "30s"
		if ad := p.Advice; ad != nil && ad.Kind == "keep" {
			r.TTL = ad.TTL
			r.Note = fmt.Sprintf("advised %s: %.0f%% of its calls from memory, %.1f s less waiting a minute", time.Now().Format("2006-01-02"), 100*ad.Hits, ad.Spared/1000)
		}
		said = "In the draft: keep " + p.ID + " for " + r.TTL + ". Nothing has changed yet: 3 shows what it would do."
	}
	return a.edit(said, control.Edit{Put: &r})
}

// pressDecide takes a key of the station Decide.
func (a *App) pressDecide(k tea.KeyPressMsg) tea.Cmd {
	m := &a.decide
	r := m.Selected()
	if m.History() {
		switch {
		case key.Matches(k, keyUndo), key.Matches(k, keyEnter):
			a.askUndo(m.Entry())
		default:
			m.Update(k)
		}
		return nil
	}
	switch {
	case key.Matches(k, keyApply):
		a.askApply()
	case key.Matches(k, keyUndo):
		a.askUndo(m.Before())
	case key.Matches(k, keyNew):
		a.dialog = dialog.NewRuleForm("A new rule", control.Rule{Verdict: "keep", TTL: "30s"}, func(r control.Rule) tea.Cmd {
			return a.edit("In the draft: a new rule.", control.Edit{Put: &r})
		})
	case key.Matches(k, keyDiscard) && m.Draft().Open:
		client := a.client
		a.dialog = &dialog.Sure{Title: "Discard the draft", Says: []string{"What it would change is forgotten. The rules in force stay as they are."}, Do: func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			d, err := client.Discard(ctx)
			return draftedMsg{"The draft is discarded.", d, err}
		}}
	case key.Matches(k, keyRenew) && m.Draft().Behind:
		client := a.client
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			d, err := client.Renew(ctx)
			return draftedMsg{"The draft stands on the rules as they are now.", d, err}
		}
	case key.Matches(k, keyFile) && m.Outside() != nil:
		a.askFile()
	case key.Matches(k, keyForecast):
		m.Again()
		return a.forecast()
	case key.Matches(k, keyStop) && m.Running() && a.foretelling != nil:
		a.foretelling.cancel()
	case r == nil || r.Kind == "removed":
		m.Update(k)
	case key.Matches(k, keyEdit):
		a.dialog = dialog.NewRuleForm("The rule "+r.Name, r.Rule, func(x control.Rule) tea.Cmd {
			return a.edit("In the draft: "+r.Name+" changed.", control.Edit{Name: r.Name, Put: &x})
		})
	case key.Matches(k, keyRemove):
		return a.edit("In the draft: "+r.Name+" taken out.", control.Edit{Name: r.Name, Remove: true})
	case key.Matches(k, keyEarlier):
		return a.edit("", control.Edit{Name: r.Name, Move: -1})
	case key.Matches(k, keyLater):
		return a.edit("", control.Edit{Name: r.Name, Move: 1})
	case key.Matches(k, keyPause):
		a.askPause(r)
	case key.Matches(k, keyDropRule):
		name := r.Name
		a.dialog = &dialog.Sure{Title: "Drop what " + name + " keeps", Says: []string{"Its results are dropped; the next of its statements go to the origin, and are kept again."},
			Do: act("Dropped what "+name+" kept.", func(ctx context.Context) error { _, err := a.client.Drop(ctx, control.Drop{Rule: name}); return err })}
	default:
		m.Update(k)
	}
	return nil
}

// askApply asks whether the draft is to be put in force.
func (a *App) askApply() {
	d, f := a.decide.Draft(), a.decide.Forecast()
	switch {
	case !d.Open:
		a.say("There is no draft to apply: enter edits a rule, and in Find k puts a pattern into a draft.", true)
		return
	case d.Behind:
		a.say("The rules were changed since the draft was begun: r takes these changes into it.", true)
		return
	case len(d.Checked.Problems) > 0:
		a.say("The draft is wrong: "+d.Checked.Problems[0].Problem, true)
		return
	}
	says := []string{"The draft is in force for all connections at once; statements under way end under the rules they began with. One key takes it back."}
	if f != nil {
		says = append(says, fmt.Sprintf("Foretold: %.0f%% of all statements from memory, now %.0f%%; %.1f s a minute spared, now %.1f; %.1f statements a second to the origin, now %.1f.",
			100*f.Draft.OfAll, 100*f.Present.OfAll, f.Draft.Spared/1000, f.Present.Spared/1000, f.Draft.Origin, f.Present.Origin))
	}
	a.dialog = dialog.NewReason("Apply the draft", "", says, told(d.Changes), func(why string) tea.Cmd {
		return act("Applied. u takes it back.", func(ctx context.Context) error { _, err := a.client.Apply(ctx, control.Apply{Why: why}); return err })
	})
}

// told says changes, a line for each.
func told(list []control.RuleChange) (out []string) {
	for _, c := range list {
		line := c.Kind + " " + c.Rule
		switch {
		case c.After != nil && c.Before == nil:
			line += ": " + decide.Effect(c.After) + " · " + decide.About(c.After)
		case len(c.Keys) > 0:
			var keys []string
			for _, k := range c.Keys {
				keys = append(keys, k.Key+" "+k.Before+" → "+k.After)
			}
			line += ": " + strings.Join(keys, ", ")
		}
		out = append(out, line)
	}
	return out
}

// askUndo asks whether the rules of an entry are to be in force again.
func (a *App) askUndo(to *control.Entry) {
	if to == nil {
		a.say("There is nothing to undo: the history does not go further back.", true)
		return
	}
	says := []string{fmt.Sprintf("The rules are again those of %d, which %s put in force on %s: %s", to.ID, to.Who, to.At.Local().Format("02 Jan 15:04:05"), to.Why),
		"What they keep is kept from now on; what is no longer kept is dropped. This, too, can be undone."}
	id := to.ID
	a.dialog = dialog.NewReason("Undo", fmt.Sprintf("back to %d", id), says, nil, func(why string) tea.Cmd {
		return act(fmt.Sprintf("The rules of %d are in force again.", id), func(ctx context.Context) error {
			_, err := a.client.Undo(ctx, control.Undo{To: id, Why: why})
			return err
		})
	})
}

func (a *App) askFile() {
	o := a.decide.Outside()
	if o.Problem != "" {
		a.say(strings.ReplaceAll(o.Problem, "\n", " "), true)
		return
	}
	a.dialog = dialog.NewReason("Take what was edited in the rules file", "", []string{"What somebody wrote into the file is in force from now on, for all connections at once."}, o.Lines, func(why string) tea.Cmd {
		return act("The edited file is in force.", func(ctx context.Context) error {
			_, err := a.client.Apply(ctx, control.Apply{File: true, Why: why})
			return err
		})
	})
}

func (a *App) askPause(r *decide.Row) {
	if r.Kind == "added" {
		a.say("The rule is not in force yet.", true)
		return
	}
	on, name := !r.Paused, r.Name
	says, title, said := []string{"Nothing is answered or kept by the rule until it goes on. What is kept stays, and writes go on dropping it."}, "Pause "+name, "Paused: "+name+". p lets it go on."
	if !on {
		says, title, said = []string{"The rule is in force again, and what is still true is answered from memory at once."}, "Let "+name+" go on", name+" is in force again."
	}
	a.dialog = dialog.NewReason(title, map[bool]string{true: "", false: "goes on"}[on], says, nil, func(why string) tea.Cmd {
		return act(said, func(ctx context.Context) error { _, err := a.client.Pause(ctx, name, on, why); return err })
	})
}

// say says something at the foot for a while.
func (a *App) say(text string, bad bool) { a.said, a.saidAt, a.saidBad = text, time.Now(), bad }
