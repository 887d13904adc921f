package tui

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/tui/dialog"
)

// fetch asks the larder something, within a few seconds.
func fetch[T any](f func(context.Context) (T, error), got func(T, error) tea.Msg) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		return got(f(ctx))
	}
}

// What the application asks before it does something that counts for all stations.

// askValues shows the values in statements, if she means it and the larder allows it, or hides them.
func (a *App) askValues() tea.Cmd {
	switch {
	case a.values:
		a.values = false
		a.feed.show(false)
		a.watch.Forget()
		a.find.Forget()
		a.say("Values are hidden again.", false)
	case !a.status.ShowsValues:
		a.say("Values stay hidden: set show_values = true in the larder's configuration to allow it.", true)
	default:
		a.dialog = &dialog.Sure{Title: "Show values", Says: []string{
			"The literals and parameters of statements are shown on this terminal, one by one, until you hide them again with " + keyValues.Help().Key + " or leave.",
			"They may be names, card numbers or anything else that your applications' users type. They are never written to a file.",
		}, Do: func() tea.Msg { return valuesMsg{} }}
	}
	return nil
}

// valuesMsg has values shown.
type valuesMsg struct{}

// act does something to the larder and says what it came to.
func act(said string, f func(context.Context) error) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		return doneMsg{said, f(ctx)}
	}
}

func (a *App) askCaching() dialog.Dialog {
	on := a.status.State != "off"
	d := &dialog.Sure{Title: "Turn caching off", Says: []string{
		"Every statement goes to the database from now on, as without the larder.",
		"Cached results stay in memory, and writes still drop them, so that they are right when you turn caching on again.",
	}, Do: act("Caching is off: every statement goes to the database.", func(ctx context.Context) error { return a.client.SetCaching(ctx, false) })}
	if !on {
		d = &dialog.Sure{Title: "Turn caching on", Says: []string{"The rules are in force again. Results that are still valid are used at once."},
			Do: act("The rules are in force again.", func(ctx context.Context) error { return a.client.SetCaching(ctx, true) })}
	}
	return d
}
