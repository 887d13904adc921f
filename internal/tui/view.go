package tui

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// View draws everything.
func (a *App) View() tea.View {
	v := tea.NewView(strings.Join(a.lines(), "\n"))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Jolly Larder"
	return v
}

func (a *App) lines() []string {
	l := a.look
	switch {
	case a.width == 0:
		return nil
	case a.width < leastWidth || a.height < leastHeight:
		return look.Block([]string{
			l.Strong.Render("Jolly Larder"),
			fmt.Sprintf("This terminal has %d × %d cells;", a.width, a.height),
			fmt.Sprintf("%d × %d are needed.", leastWidth, leastHeight),
			fmt.Sprintf("Enlarge it, or press %s.", keyQuit.Help().Key),
		}, a.width, a.height)
	}
	out := a.band()
	foot := a.foot()
	body, width := a.bodyHeight(), a.mainWidth()
	guide := a.tourLines(width)
	rail := a.rail(body + len(guide))
	var main, question []string
	if a.dialog != nil {
		question = a.dialog.View(l, min(width, 120), body)
	}
	switch {
	case !a.known && a.err != nil:
		main = append([]string{""}, look.Wrap(l.Brick.Render("! ")+a.err.Error(), width)...)
	case a.help:
		a.layHelp()
		main = look.Window(a.helpLines(width), a.page.YOffset(), width, body)
	default:
		main = a.at.View(l, width, body, question)
	}
	main = look.Block(main, width, body)
	main = append(main, guide...)
	for i := range main {
		out = append(out, rail[i]+" "+main[i])
	}
	return append(out, foot...)
}

// bodyHeight is how many lines a station has.
func (a *App) bodyHeight() int {
	return a.height - bandHeight - footHeight - len(a.tourLines(a.mainWidth()))
}

// mainWidth is how many columns a station has.
func (a *App) mainWidth() int { return a.width - a.railWidth() - 1 }

// The heights of what is above and below the stations.
const bandHeight, footHeight = 4, 2

// roomy says whether the rail has room for the stations' names, with a line between them.
func (a *App) roomy() bool { return a.width >= 100 }

func (a *App) railWidth() int {
	if a.roomy() {
		return 13
	}
	return 5
}

// origins names what the larder stands before, as shortly as tells it apart.
func origins(s control.Status) string {
	if len(s.Origins) < 2 {
		return s.Origin
	}
	var names []string
	for _, o := range s.Origins {
		names = append(names, o.Name)
	}
	return strings.Join(names, ", ")
}

// band draws the whole way of a statement in one line, and under it what became of the last minute's waiting.
func (a *App) band() []string {
	if a.lost {
		return a.lostBand()
	}
	state := a.state()
	first := " " + a.way()
	room := a.width - look.Width(first) - look.Width(state) - 1
	if room < 1 {
		first, room = look.Cut(first, a.width-look.Width(state)-2), 1
	}
	ribbon, legend := a.waiting()
	return []string{first + strings.Repeat(" ", room) + state + " ", ribbon, legend, ""}
}

// lostBand takes the band's place while the larder does not answer: nothing is known of the present, and what was true
// before is not drawn as if it were.
func (a *App) lostBand() []string {
	l := a.look
	when := l.Cream.Render("everything shown is from " + a.status.Now.Local().Format("15:04:05"))
	state := l.Brick.Bold(true).Render("! the larder does not answer")
	room := max(a.width-look.Width(when)-look.Width(state)-2, 1)
	return []string{
		look.Cut(" "+when+strings.Repeat(" ", room)+state, a.width),
		" " + look.Ribbon(a.width-2, look.Stretch{Value: 1, Texture: look.TextureRest, Style: l.Dim}),
		look.Cut(" "+l.Dim.Render("unknown whether traffic flows and writes still drop results; retrying"), a.width),
		"",
	}
}

// state says what the larder does at this moment.
func (a *App) state() string {
	l, s := a.look, a.status
	if a.err != nil && a.known {
		return l.Brick.Bold(true).Render("! the larder does not answer")
	}
	var state string
	switch s.State {
	case "caching":
		state = l.Honey.Bold(true).Render("◆ caching · " + look.Number(float64(s.Rules), "rule"))
		if s.Paused > 0 {
			state += l.Brick.Render(fmt.Sprintf(", %d paused", s.Paused))
		}
	case "off":
		state = l.Brick.Bold(true).Render("■ caching off")
		if a.width >= 100 {
			state += l.Brick.Render(": all statements bypass")
		}
	default:
		state = l.Slate.Bold(true).Render("○ watching")
		switch {
		case s.Paused > 0:
			state += l.Brick.Render(fmt.Sprintf(" · %d paused", s.Paused))
		case a.width >= 100:
			state += l.Slate.Render(" · nothing is cached")
		}
	}
	if a.values {
		state = l.Brick.Bold(true).Render("values shown") + l.Dim.Render(" · ") + state
	}
	return state
}

// way draws applications, larder and origin, with how much goes from each to the next.
func (a *App) way() string {
	l, s, m := a.look, a.status, a.status.Minute
	calls := float64(m.Calls())
	apps := 0.0
	for _, x := range s.Applications {
		if x.Minute.Calls() > 0 {
			apps++
		}
	}
	shaft, clients := "──", look.Number(apps, "application")
	if a.width < 100 {
		shaft, clients = "─", look.Number(apps, "app")
	}
	arrow := func(n float64) string {
		return l.Dim.Render(" "+shaft) + l.Cream.Render(fmt.Sprintf(" %.0f/s ", n/min(60, max(since(s), 1)))) +
			l.Dim.Render(shaft+"▶ ")
	}
	way := l.Cream.Render(clients) + arrow(calls) + l.Honey.Bold(true).Render("larder") +
		l.Honey.Render(" answers"+look.Share(float64(m.Hits), calls)) + arrow(calls-float64(m.Hits))
	if n := len(s.Origins); n > 1 {
		way += l.Slate.Bold(true).Render(fmt.Sprintf("%d origins", n))
	} else {
		way += l.Slate.Bold(true).Render("origin")
	}
	if a.width >= 120 {
		way += l.Slate.Render(" " + origins(s))
	}
	return way
}

// waiting draws the last minute's waiting as a ribbon, and what its parts are.
func (a *App) waiting() (ribbon, legend string) {
	l, m := a.look, a.status.Minute
	could, rest := m.Cacheable, max(m.Waited-m.Cacheable, 0)
	ribbon = " " + look.Ribbon(a.width-2,
		look.Stretch{Value: m.Saved, Texture: look.TextureSaved, Style: l.Honey},
		look.Stretch{Value: could, Texture: look.TextureCould, Style: l.Slate},
		look.Stretch{Value: rest, Texture: look.TextureRest, Style: l.Dim})
	secs := func(ms float64) string { return strings.TrimSpace(look.Seconds(ms)) }
	legend = " " + l.Honey.Render(string(look.TextureSaved)+" "+secs(m.Saved)+" saved") + "   " +
		l.Slate.Render(string(look.TextureCould)+" "+secs(could)+" could be cached") + "   " +
		l.Dim.Render(string(look.TextureRest)+" "+secs(rest)+" the rest")
	guarded, alone := a.guarded()
	total := l.Honey.Render(secs(a.status.Total.Saved)+" saved since the start") + l.Dim.Render(" · ")
	for _, right := range []string{total + guarded + alone, total + guarded, guarded} { // as much as there is room for
		if room := a.width - look.Width(legend) - look.Width(right) - 1; room > 0 {
			legend += strings.Repeat(" ", room) + right
			break
		}
	}
	return ribbon, look.Cut(legend, a.width)
}

// guarded says in a few words whether freshness is, and by what alone.
func (a *App) guarded() (says, alone string) {
	l := a.look
	if a.status.OnlyWatched() {
		return l.Dim.Render("○ only watched: [origin.catalog] would let results be cached"), ""
	}
	for _, d := range a.status.Databases {
		if !d.Catalog {
			return l.Dim.Render("○ reading the catalog"), ""
		}
	}
	for _, d := range a.status.Databases {
		if !d.Whole {
			alone = l.Dim.Render(", by names")
		}
	}
	return l.Moss.Render("● writes through here drop at once"), alone
}

func since(s control.Status) float64 { return s.Now.Sub(s.Began).Seconds() }

// rail draws the stations in the order of the work.
// clicked gives the station in the rail that was clicked on, or nil.
func (a *App) clicked(m tea.MouseClickMsg) station {
	each, at := 1, m.Y-bandHeight
	if a.roomy() {
		each = 2
	}
	if m.Button != tea.MouseLeft || a.dialog != nil || a.help || a.line.open || m.X >= a.railWidth() || at < 0 || at%each != 0 || at/each >= len(a.stations) {
		return nil
	}
	return a.stations[at/each]
}

func (a *App) rail(height int) []string {
	l := a.look
	wide := a.roomy()
	width := a.railWidth()
	var out []string
	for _, st := range a.stations {
		badge := st.Badge(l)
		if !wide {
			badge = look.Cut(badge, 1)
		}
		name := a.keyTo(st).Help().Key
		if wide {
			name += " " + st.Name()
		}
		mark, style := " ", l.Cream
		if st == a.at {
			mark, style = l.Honey.Render("▌"), l.Strong
		}
		out = append(out, look.Left(mark+style.Render(name)+" "+badge, width))
		if wide {
			out = append(out, "")
		}
	}
	if wide {
		kept := []string{"", l.Dim.Render(" cached"), l.Honey.Render(" " + look.Count(uint64(a.status.Cached))), l.Dim.Render(" " + look.Bytes(a.status.CachedBytes)), "",
			l.Dim.Render(" dropped"), l.Plum.Render(" ▽ " + look.Count(a.status.Drops))}
		out = append(out, kept...)
	}
	return look.Block(out, width, height)
}

// foot offers the next sensible step, and the keys.
func (a *App) foot() []string {
	l := a.look
	if a.line.open {
		return a.line.view(l, a.width)
	}
	keys := l.Key(keyHelp, "keys") + "  " + l.Key(keyQuit, "leave") + " "
	if a.dialog != nil {
		keys = ""
	}
	room := func() int { return a.width - look.Width(keys) - 3 }
	next := a.next(room())
	if time.Since(a.saidAt) < 6*time.Second && a.dialog == nil {
		next = l.Moss.Render("✓ ") + l.Cream.Render(a.said)
		if a.saidBad {
			next = l.Brick.Render("! ") + l.Cream.Render(a.said)
		}
	}
	if look.Width(next) > room() { // for a moment, what is said matters more
		keys = ""
	}
	line := " " + look.Cut(next, room())
	line += strings.Repeat(" ", max(a.width-look.Width(line)-look.Width(keys), 0)) + keys
	note := ""
	if len(a.status.Problems) > 0 {
		note = l.Dim.Render("── ") + l.Brick.Render("! "+look.Cut(a.status.Problems[0], a.width-8)) + " "
	} else if a.status.Note != "" {
		note = l.Dim.Render("── " + a.status.Note + " ")
	}
	return []string{look.Left(note+l.Dim.Render(strings.Repeat("─", max(a.width-look.Width(note), 0))), a.width), line}
}

// next says in words what would be sensible to do now, as much of it as has room.
func (a *App) next(room int) string {
	l := a.look
	say := func(text string, k key.Binding, does string) string {
		if text != "" {
			text += " "
		}
		return l.Cream.Render(text) + l.Honey.Bold(true).Render(k.Help().Key) + l.Cream.Render(" "+does)
	}
	switch {
	case a.dialog != nil:
		return l.Keys(a.dialog.Keys()...)
	case a.help:
		return a.nextInHelp()
	case a.frozen:
		return l.Sentence([]string{say("What is shown is frozen.", keyFreeze, "goes on")}, room)
	}
	return l.Sentence(a.at.Next(say), room)
}
