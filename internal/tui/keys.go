package tui

import (
	"charm.land/bubbles/v2/key"

	"jollylarder/internal/tui/moving"
)

// The keys that work everywhere, beside those that go to stations.
var (
	keyEnter  = moving.Enter
	keyHold   = key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hold: all keeping off, or on again"))
	keyFilter = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "show only what a filter picks"))
	keyValues = key.NewBinding(key.WithKeys("v"), key.WithHelp("v", "show the values in statements, or hide them again"))
	keyFreeze = key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "freeze what is shown, or go on"))
	keyHelp   = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "these keys"))
	keyBack   = moving.Back
	keyQuit   = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "leave"))
)

// keys gives the keys that work now, by what they belong to.
func (a *App) keys() []keyGroup {
	everywhere := []key.Binding{
		a.keyStations(), keyEnter, keyBack, keyFilter, keyFreeze, keyValues, keyHold, keyExport, keyLead, keyHelp, keyQuit,
	}
	return []keyGroup{{"everywhere", everywhere}, {"in " + a.at.Name(), a.at.Keys()}}
}

type keyGroup struct {
	title string
	keys  []key.Binding
}
