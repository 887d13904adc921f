package tui

import (
	"context"
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/dialog"
)

// What the application does for the station Guard.

var (
	keyDropTable = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop what rests on the table"))
	keyDropAll   = key.NewBinding(key.WithKeys("X"), key.WithHelp("X", "drop everything"))
)

// guardMsg is what is known of whether anything old may be answered.
type guardMsg struct {
	guard control.Guard
	err   error
}

func (a *App) askGuard() tea.Cmd {
	return fetch(a.client.Guard, func(g control.Guard, err error) tea.Msg { return guardMsg{g, err} })
}

// pressGuard takes a key of the station Guard.
func (a *App) pressGuard(k tea.KeyPressMsg) tea.Cmd {
	t := a.guard.Selected()
	switch {
	case key.Matches(k, keyEnter):
		if u := a.guard.Effect(); u != nil {
			a.find.SetFilter("")
			a.find.Select(u.ID)
			a.find.SetDeep(true)
			a.station = 1
			return a.ask(true)
		}
		a.guard.SetDeep(!a.guard.Deep())
	case key.Matches(k, keyDropAll):
		a.dialog = &dialog.Sure{Title: "Drop everything", Says: []string{
			fmt.Sprintf("All %d kept results are dropped, and what is being fetched at this moment is not kept. The database is asked for all of it again.", a.status.Kept)},
			Do: act("Everything was dropped.", func(ctx context.Context) error { _, err := a.client.Drop(ctx, control.Drop{All: true}); return err })}
	case key.Matches(k, keyDropTable) && t != nil:
		name := t.Name
		a.dialog = &dialog.Sure{Title: "Drop what rests on " + name, Says: []string{
			fmt.Sprintf("%d kept results rest on it and are dropped: by hand, for somebody who knows of a write that the larder has not seen.", t.Kept)},
			Do: act("Dropped what rests on "+name+".", func(ctx context.Context) error { _, err := a.client.Drop(ctx, control.Drop{Table: name}); return err })}
	default:
		a.guard.Update(k)
	}
	return nil
}
