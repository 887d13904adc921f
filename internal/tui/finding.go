package tui

import (
	"context"
	"fmt"
	"slices"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

var (
	keyBypass = key.NewBinding(key.WithKeys("b"), key.WithHelp("b", "bypass: put it into the draft as never cached"))
	keyDrop   = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop the pattern's results"))
)

// finding is the station Find.
type finding struct {
	find.Model
	still

	a *App
}

func (s *finding) Name() string     { return "Find" }
func (s *finding) Question() string { return "What is worth caching?" }
func (s *finding) Keys() []key.Binding {
	return append(slices.Clone(find.Keys), find.KeyCache, keyBypass, keyDrop, find.KeyPlan)
}
func (s *finding) SetStatus(control.Status)                   {}
func (s *finding) Follow(events []control.Event, _ time.Time) { s.Add(events) }

func (s *finding) Filtered() string       { return s.Filter }
func (s *finding) Fields() []filter.Field { return filter.OfPatterns }
func (s *finding) Filters() string        { return "patterns" }
func (s *finding) SetFilter(text string) tea.Cmd {
	s.Model.SetFilter(text)
	return s.a.ask(true)
}

func (s *finding) Badge(l *look.Look) string {
	if n := s.Suggestions(); n > 0 {
		return l.Moss.Render(fmt.Sprintf("○%d", n))
	}
	return ""
}

func (s *finding) Back() bool {
	deep := s.Deep()
	if deep {
		s.SetDeep(false)
	}
	return deep
}

func (s *finding) Press(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, keyEnter):
		s.SetDeep(!s.Deep())
	case key.Matches(k, find.KeyCache):
		return s.takeAdvice("cache")
	case key.Matches(k, keyBypass):
		return s.takeAdvice("bypass")
	case key.Matches(k, find.KeyPlan):
		return s.askPlan()
	case key.Matches(k, keyDrop):
		s.askDrop()
	default:
		order, reversed := s.Order()
		s.Update(k)
		if now, turned := s.Order(); !s.a.asked || now != order || turned != reversed {
			return s.a.ask(now != order || turned != reversed)
		}
	}
	return nil
}

func (s *finding) Clicked(x, y int) tea.Cmd { return s.a.ask(s.Click(x, y)) }

// planMsg is how the database runs a pattern's statements.
type planMsg struct {
	id   string
	plan control.Plan
	err  error
}

// askPlan asks for the plan of the selected pattern, or hides it.
func (s *finding) askPlan() tea.Cmd {
	if s.Plan() != nil {
		s.SetPlan("", nil)
		return nil
	}
	client, id := s.a.client, s.SelectedID()
	if id == "" {
		return nil
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		p, err := client.Plan(ctx, id)
		return planMsg{id, p, err}
	}
}

func (s *finding) Take(msg tea.Msg) tea.Cmd {
	if m, ok := msg.(planMsg); ok {
		if m.err != nil {
			s.a.say(m.err.Error(), true)
			return nil
		}
		s.SetPlan(m.id, &m.plan)
		s.SetDeep(true)
	}
	return nil
}

func (s *finding) Next(say sayer) []string {
	deeper := say("", keyEnter, "shows details")
	if s.Deep() {
		deeper = say("", keyBack, "goes back to the list")
	}
	p := s.Selected()
	switch {
	case p == nil || !p.Cacheable && p.Rule == nil:
		return []string{say("", moving.Down, "goes down the list"), deeper}
	case p.Rule != nil && p.Rule.Action != "advised":
		return []string{say("", find.KeyCache, "goes to its rule"), deeper, say("", keyDrop, "drops its results")}
	case s.a.status.Drafted > 0:
		return []string{say("", find.KeyCache, "takes this into the draft too"), say("", s.a.keyTo(s.a.decide), "forecasts and applies it"), deeper}
	case p.Advice != nil && p.Advice.Kind == "cache":
		return []string{say("Take the advice:", find.KeyCache, "puts it into a draft"), deeper}
	}
	return []string{say("", find.KeyCache, "puts it into a draft"), deeper}
}

// takeAdvice puts the selected pattern into the draft, with the lifetime that is advised.
func (s *finding) takeAdvice(action string) tea.Cmd {
	a, p := s.a, s.Selected()
	switch {
	case p == nil:
		return nil
	case p.Rule != nil && p.Rule.Chosen:
		a.decide.SelectChoice(p.Rule.Name, p.ID)
		return a.goTo(a.decide)
	case p.Rule != nil && p.Rule.Action != "advised":
		a.decide.Select(p.Rule.Name)
		return a.goTo(a.decide)
	case action == "cache" && !p.Cacheable:
		a.say(p.Advice.Sentence, true)
		return nil
	}
	r := control.Rule{Pattern: p.ID, Action: action, Statement: p.Text}
	said := "In the draft: bypass " + p.ID + "."
	if action == "cache" {
		r.TTL = "30s"
		if ad := p.Advice; ad != nil && ad.Kind == "cache" {
			r.TTL = ad.TTL
			r.Note = fmt.Sprintf(
				"advised %s: hit rate %.0f%%, saves %.1f s/min",
				time.Now().Format("2006-01-02"), 100*ad.Hits, ad.Saved/1000,
			)
		}
		said = "In the draft: cache " + p.ID + " for " + r.TTL + ". Nothing has changed yet: " + a.keyTo(a.decide).Help().Key + " shows what it would do."
	}
	return a.decide.edit(said, control.Edit{Put: &r})
}

func (s *finding) askDrop() {
	p := s.Selected()
	if p == nil {
		return
	}
	a, id := s.a, p.ID
	a.dialog = &dialog.Sure{
		Title: "Drop the results of " + id,
		Says: []string{fmt.Sprintf(
			"Its %d cached results are dropped. The next of its statements go to the database, and are cached again if a rule says so.", p.Cached,
		)},
		Do: act("Dropped the results of "+id+".", func(ctx context.Context) error {
			_, err := a.client.Drop(ctx, control.Drop{Pattern: id})
			return err
		}),
	}
}
