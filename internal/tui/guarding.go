package tui

import (
	"context"
	"fmt"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/guard"
	"jollylarder/internal/tui/look"
)

var (
	keyDropTable = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop the results that depend on the table"))
	keyDropAll   = key.NewBinding(key.WithKeys("X"), key.WithHelp("X", "drop everything"))
)

// guarding is the station Guard.
type guarding struct {
	guard.Model
	still

	a *App
}

// guardMsg is what is known of whether anything old may be answered.
type guardMsg struct {
	guard control.Guard
	err   error
}

func (s *guarding) Name() string     { return "Guard" }
func (s *guarding) Question() string { return "Are answers fresh?" }
func (s *guarding) Keys() []key.Binding {
	return append(slices.Clone(guard.Keys), keyDropTable, keyDropAll)
}

// SetStatus notes whether there is no change feed for any of the databases.
func (s *guarding) SetStatus(status control.Status) { s.Unfollowed = status.Unfollowed() }
func (s *guarding) Enter() tea.Cmd                  { return s.Refresh() }

func (s *guarding) Refresh() tea.Cmd {
	table := ""
	if t := s.Selected(); t != nil {
		table = t.Name
	}
	ask := func(ctx context.Context) (control.Guard, error) { return s.a.client.GuardWithHour(ctx, table) }
	return fetch(ask, func(g control.Guard, err error) tea.Msg { return guardMsg{g, err} })
}

func (s *guarding) Clicked(x, y int) tea.Cmd {
	s.Click(x, y)
	return s.Refresh()
}

func (s *guarding) Take(msg tea.Msg) tea.Cmd {
	if m, ok := msg.(guardMsg); ok && m.err == nil {
		s.Set(m.guard)
	}
	return nil
}

func (s *guarding) Badge(l *look.Look) string {
	if n := s.a.status.Stale; n > 0 {
		return l.Brick.Bold(true).Render(fmt.Sprintf("!%d", n))
	}
	return ""
}

func (s *guarding) Back() bool {
	deep := s.Deep()
	if deep {
		s.SetDeep(false)
	}
	return deep
}

func (s *guarding) Next(say sayer) []string {
	switch {
	case s.Effect() != nil:
		return []string{say("", keyEnter, "shows the pattern"), say("", guard.KeyList, "goes back to the tables")}
	case s.Effects():
		return []string{say("", guard.KeyList, "goes back to the tables")}
	case s.Deep():
		return []string{say("", keyBack, "goes back to the tables")}
	case s.Selected() != nil:
		return []string{
			say("", keyEnter, "shows details of the table"),
			say("", keyDropTable, "drops the results that depend on it"),
			say("", guard.KeyList, "lists statements with unknown effects"),
		}
	}
	return []string{say("", s.a.keyTo(s.a.watch), "goes back to Watch")}
}

func (s *guarding) Press(k tea.KeyPressMsg) tea.Cmd {
	a, t := s.a, s.Selected()
	switch {
	case key.Matches(k, keyEnter):
		if u := s.Effect(); u != nil {
			return a.goToPattern(u.ID)
		}
		s.SetDeep(!s.Deep())
	case key.Matches(k, keyDropAll):
		a.dialog = s.askDrop("Drop everything", fmt.Sprintf(
			"All %d cached results are dropped, and results being fetched now are not cached. The next statements all go to the database.",
			a.status.Cached,
		), "Everything was dropped.", control.Drop{All: true})
	case key.Matches(k, keyDropTable) && t != nil:
		a.dialog = s.askDrop("Drop the results that depend on "+t.Name, fmt.Sprintf(
			"%d cached results depend on it and are dropped. Use this after a write that the larder has not seen.",
			t.Cached,
		), "Dropped the results that depend on "+t.Name+".", control.Drop{Table: t.Name})
	default:
		s.Update(k)
	}
	return nil
}

func (s *guarding) askDrop(title, says, done string, what control.Drop) dialog.Dialog {
	client := s.a.client
	return &dialog.Sure{Title: title, Says: []string{says}, Do: act(done, func(ctx context.Context) error {
		_, err := client.Drop(ctx, what)
		return err
	})}
}
