package tui

import (
	"charm.land/bubbles/v2/key"

	"jollylarder/internal/tui/moving"
)

// The keys that work everywhere, beside those that go to stations.
var (
	keyEnter   = moving.Enter
	keyCaching = key.NewBinding(key.WithKeys("C"), key.WithHelp("C", "turn caching off or on for all statements"))
	keyFilter  = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "filter"))
	keyValues  = key.NewBinding(key.WithKeys("v"), key.WithHelp("v", "show the values in statements, or hide them again"))
	keyFreeze  = key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "freeze the screen, or resume"))
	keyHelp    = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "these keys"))
	keyBack    = moving.Back
	keyQuit    = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "leave"))
)

// keys gives the keys that work now, by what they belong to.
func (a *App) keys() []keyGroup {
	everywhere := []key.Binding{
		a.keyStations(), keyEnter, keyBack, keyFilter, keyFreeze, keyValues, keyCaching, keyExport, keyTour, keyHelp, keyQuit,
	}
	return []keyGroup{{"everywhere", everywhere}, {"in " + a.at.Name(), a.at.Keys()}}
}

type keyGroup struct {
	title string
	keys  []key.Binding
}
