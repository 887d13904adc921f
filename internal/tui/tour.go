package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"

	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/find"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
	"jollylarder/internal/tui/prove"
)

// The tour takes a newcomer through the stations, by the real keys: it only looks on, and says what comes next. It
// never presses anything.

var keyTour = key.NewBinding(key.WithKeys("T"), key.WithHelp("T", "hide the tour, or start it again"))

// tourStep is one step. It is over when done says so.
type tourStep struct {
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

// tourSteps are the steps in order.
var tourSteps = []tourStep{
	{"The applications of a made-up ferry company query one database through this larder. Each lane is an application: the time its clients waited, second by second. Nothing is cached yet.",
		to(func(a *App) station { return a.find }), "shows what is worth caching", func(a *App) bool { return a.at == a.find }},
	{"Statements that differ only in their values form one pattern. The list ranks patterns by the time that caching could save; below it is the advice for the selected pattern. A minute of traffic makes the advice sure.",
		by(find.KeyCache), said("takes the advice into a draft; %s and %s take more", moving.Down, find.KeyCache), func(a *App) bool { return a.status.Drafted > 0 || a.status.State == "caching" }},
	{said("The draft changes nothing yet. Add another pattern with %s and %s, if you like.", moving.Down, find.KeyCache),
		to(func(a *App) station { return a.decide }), "goes to the draft and forecasts its effect", func(a *App) bool { return a.at == a.decide || a.status.State == "caching" }},
	{"The forecast replays recent traffic against your draft: the hit rate, the time saved, and the load that remains on the database.",
		by(keyApply), said("applies it: write a reason, then %s", moving.Enter), func(a *App) bool { return a.status.State == "caching" }},
	{"The rules are in force. The ribbon at the top divides the time waited: what is saved, what could be cached, and the rest.",
		to(func(a *App) station { return a.watch }), "shows the first hits", func(a *App) bool { return a.at == a.watch || a.reached(a.guard) }},
	{"◆ is a hit, answered from memory. ◇ is a miss: fetched and cached. › is a bypass, with its reason. ▲ is a write. Each write drops the results that it may have changed.",
		to(func(a *App) station { return a.guard }), "shows how stale answers are prevented", func(a *App) bool { return a.reached(a.guard) }},
	{"The top says how fresh answers are at this moment. The table shows how often each table is written, and what the writes dropped. Control samples compare a share of the hits with the database.",
		to(func(a *App) station { return a.stock }), "shows what the memory is used for", func(a *App) bool { return a.reached(a.stock) }},
	{said("What fills the memory, what of it was never used, and the hit rate at other sizes. %s sets another limit.", keyLimit),
		to(func(a *App) station { return a.prove }), "shows how much time was saved", func(a *App) bool { return a.at == a.prove }},
	{said("The time saved, measured in three ways. %s runs a trial that turns caching off and on; %s writes a report; %s exports charts. %s shows the keys of each station.",
		prove.KeyTrial, keyReport, keyExport, keyHelp),
		to(func(a *App) station { return a.decide }), "goes to the last step: rules that the larder finds itself", func(a *App) bool { return a.at == a.decide || a.decide.Advised() }},
	{"Nobody decides two thousand patterns one by one. For one application the larder can choose by itself, within bounds: the oldest answer, the least saved, the most memory, tables that it never touches.",
		by(decide.KeyLeave), said("writes such a rule: change what you like, %s puts it into the draft, and %s applies that", moving.Enter, keyApply), func(a *App) bool { return a.decide.Advised() }},
	{said("The larder observes for a minute or two. Then it caches what pays, says why, and takes back what does not. %s shows its choices: there %s takes one back for good, and %s makes it a rule of your own.", decide.KeyChosen, keyRefuse, keyAdopt),
		by(keyTour), "ends the tour", func(*App) bool { return false }},
}

// tour is how far it has come, while it is shown.
type tour struct {
	on   bool
	step int
}

// followTour goes on when the present step is over.
func (a *App) followTour() {
	for a.tour.on && a.tour.step < len(tourSteps) && tourSteps[a.tour.step].done(a) {
		a.tour.step++
	}
}

// tourLines draws the present step, or nothing.
func (a *App) tourLines(width int) []string {
	if !a.tour.on || a.tour.step >= len(tourSteps) || a.dialog != nil || a.help || a.height < leastHeight+tourHeight {
		return nil
	}
	l, s := a.look, tourSteps[a.tour.step]
	out := []string{l.Rule(fmt.Sprintf("tour, step %d of %d", a.tour.step+1, len(tourSteps)), width)}
	says := s.says
	if first, _, ok := strings.Cut(says, ". "); ok && a.height < 30 {
		says = first + "."
	}
	text := look.Wrap(says, width-4)
	for _, line := range text[:min(len(text), tourHeight-2)] {
		out = append(out, "  "+l.Cream.Render(line))
	}
	next := "  " + l.Moss.Render("▸ ") + l.Honey.Bold(true).Render(s.key(a).Help().Key) + l.Cream.Render(" "+s.does)
	if a.tour.step < len(tourSteps)-1 && width >= 90 {
		next += l.Dim.Render("     " + keyTour.Help().Key + " hides the tour")
	}
	return append(out, next)
}

// tourHeight is how high it is at most.
const tourHeight = 5
