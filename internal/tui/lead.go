package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"

	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
	"jollylarder/internal/tui/prove"
)

// The lead takes a newcomer through the stations, by the real keys: it only looks on, and says what comes next. It
// never presses anything.

var keyLead = key.NewBinding(key.WithKeys("L"), key.WithHelp("L", "the lead through the stations: away, or from the beginning"))

// leadStep is one step. It is over when done says so.
type leadStep struct {
	says string
	key  func(a *App) key.Binding // that leads on
	does string
	done func(a *App) bool
}

// to gives the key that goes to a station.
func to(st func(*App) station) func(*App) key.Binding {
	return func(a *App) key.Binding { return a.keyTo(st(a)) }
}

// by gives a key that is always the same.
func by(k key.Binding) func(*App) key.Binding { return func(*App) key.Binding { return k } }

// said puts keys into a sentence.
func said(sentence string, keys ...key.Binding) string {
	names := make([]any, len(keys))
	for i, k := range keys {
		names[i] = k.Help().Key
	}
	return fmt.Sprintf(sentence, names...)
}

// leadSteps are the steps in order.
var leadSteps = []leadStep{
	{"Applications of a made-up ferry company ask one database, through this larder. Each lane is an application, second by second: what its clients waited. Nothing is kept yet.",
		to(func(a *App) station { return a.find }), "shows what is worth keeping", func(a *App) bool { return a.at == a.find }},
	{"Statements that are alike but for their values are one pattern. Patterns stand by the waiting that keeping them would spare; under them the advice for the selected one. It wants a minute of traffic to be sure; you need not.",
		by(find.KeyKeep), said("takes the advice into a draft; %s and %s take more", moving.Down, find.KeyKeep), func(a *App) bool { return a.status.Drafted > 0 || a.status.State == "keeping" }},
	{said("Your draft changes nothing yet. Take another with %s and %s, if you like.", moving.Down, find.KeyKeep),
		to(func(a *App) station { return a.decide }), "goes to the draft, and foretells what it would do", func(a *App) bool { return a.at == a.decide || a.status.State == "keeping" }},
	{"The forecast replays the traffic of the last while under your draft: how much comes from memory, what is spared, what the database still does.",
		by(keyApply), said("applies it: say why in a few words, then %s", moving.Enter), func(a *App) bool { return a.status.State == "keeping" }},
	{"The rules are in force. The ribbon at the top splits the waiting: what is spared, what could still be, and the rest.",
		to(func(a *App) station { return a.watch }), "shows the first answers from memory", func(a *App) bool { return a.at == a.watch || a.reached(a.guard) }},
	{"◆ came from memory, ◇ was fetched and kept, › passed for the reason shown, ▲ wrote. Each write drops what it may have changed.",
		to(func(a *App) station { return a.guard }), "shows what keeps old answers out", func(a *App) bool { return a.reached(a.guard) }},
	{"What is promised stands at the top, then the tables: how often each is written, and what those writes dropped. A share of the hits is asked of the database all the same, to compare.",
		to(func(a *App) station { return a.stock }), "shows what the memory is used for", func(a *App) bool { return a.reached(a.stock) }},
	{said("What fills the memory, what of it was never used, and what more of it would give, or less. %s sets another limit.", keyLimit),
		to(func(a *App) station { return a.prove }), "shows what it brought", func(a *App) bool { return a.at == a.prove }},
	{said("What was spared, measured three ways. %s makes a trial that switches keeping off and on; %s writes a page for people who were not there; %s writes charts. You know the way now: %s shows the keys of each station.",
		prove.KeyTrial, keyReport, keyExport, keyHelp),
		by(keyLead), "ends the lead", func(*App) bool { return false }},
}

// lead is how far she has come, if she wants one.
type lead struct {
	on   bool
	step int
}

// followLead goes on when the present step is over.
func (a *App) followLead() {
	for a.lead.on && a.lead.step < len(leadSteps) && leadSteps[a.lead.step].done(a) {
		a.lead.step++
	}
}

// leadLines draws the present step, or nothing.
func (a *App) leadLines(width int) []string {
	if !a.lead.on || a.lead.step >= len(leadSteps) || a.dialog != nil || a.help || a.height < leastHeight+leadHeight {
		return nil
	}
	l, s := a.look, leadSteps[a.lead.step]
	out := []string{l.Rule(fmt.Sprintf("the way through the stations, %d of %d", a.lead.step+1, len(leadSteps)), width)}
	text := look.Wrap(s.says, width-4)
	for _, line := range text[:min(len(text), leadHeight-2)] {
		out = append(out, "  "+l.Cream.Render(line))
	}
	next := "  " + l.Moss.Render("▸ ") + l.Honey.Bold(true).Render(s.key(a).Help().Key) + l.Cream.Render(" "+s.does)
	if a.lead.step < len(leadSteps)-1 {
		next += l.Dim.Render("     " + keyLead.Help().Key + " leaves you alone")
	}
	return append(out, next)
}

// leadHeight is how high it is at most.
const leadHeight = 5
