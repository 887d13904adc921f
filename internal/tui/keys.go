package tui

import (
	"slices"

	"charm.land/bubbles/v2/key"

	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/guard"
	"jollylarder/internal/tui/prove"
	"jollylarder/internal/tui/stock"
	"jollylarder/internal/tui/watch"
)

var (
	keyStation = key.NewBinding(key.WithKeys("1", "2", "3", "4", "5", "6"), key.WithHelp("1–6", "go to a station"))
	keyEnter   = key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "deeper: from a statement to its pattern"))
	keyKeep    = key.NewBinding(key.WithKeys("k"), key.WithHelp("k", "into the draft: keep the pattern's results, as advised"))
	keyNever   = key.NewBinding(key.WithKeys("n"), key.WithHelp("n", "into the draft: never keep them"))
	keyDrop    = key.NewBinding(key.WithKeys("x"), key.WithHelp("x", "drop the pattern's results"))
	keyHold    = key.NewBinding(key.WithKeys("H"), key.WithHelp("H", "hold: all keeping off, or on again"))
	keyFilter  = key.NewBinding(key.WithKeys("/"), key.WithHelp("/", "show only what a filter picks"))
	keyValues  = key.NewBinding(key.WithKeys("v"), key.WithHelp("v", "show the values in statements, or hide them again"))
	keyFreeze  = key.NewBinding(key.WithKeys("space"), key.WithHelp("space", "freeze what is shown, or go on"))
	keyHelp    = key.NewBinding(key.WithKeys("?"), key.WithHelp("?", "these keys"))
	keyBack    = key.NewBinding(key.WithKeys("esc"), key.WithHelp("esc", "back"))
	keyQuit    = key.NewBinding(key.WithKeys("q", "ctrl+c"), key.WithHelp("q", "leave"))
)

// keys gives the keys that work now, by what they belong to.
func (a *App) keys() []keyGroup {
	groups := []keyGroup{{"everywhere", []key.Binding{keyStation, keyEnter, keyBack, keyFilter, keyFreeze, keyValues, keyHold, keyExport, keyLead, keyHelp, keyQuit}}}
	switch a.station {
	case 0:
		groups = append(groups, keyGroup{"in Watch", watch.Keys})
	case 1:
		groups = append(groups, keyGroup{"in Find", append(slices.Clone(find.Keys), keyKeep, keyNever, keyDrop)})
	case 3:
		groups = append(groups, keyGroup{"in Guard", append(slices.Clone(guard.Keys), keyDropTable, keyDropAll)})
	case 4:
		groups = append(groups, keyGroup{"in Stock", append(slices.Clone(stock.Keys), keyCurve, keyLimit)})
	case 5:
		groups = append(groups, keyGroup{"in Prove", append(slices.Clone(prove.Keys), keyTrial, keyStopTrial, keyReport)})
	case 2:
		groups = append(groups, keyGroup{"in Decide", append(slices.Clone(decide.Keys), decideKeys...)})
	}
	return groups
}

type keyGroup struct {
	title string
	keys  []key.Binding
}
