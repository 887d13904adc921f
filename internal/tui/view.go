package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/look"
)

// View draws everything.
func (a *App) View() tea.View {
	v := tea.NewView(strings.Join(a.lines(), "\n"))
	v.AltScreen = true
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
			"Enlarge it, or press q.",
		}, a.width, a.height)
	}
	out := a.band()
	foot := a.foot()
	body, width := a.bodyHeight(), a.mainWidth()
	guide := a.leadLines(width)
	rail := a.rail(body + len(guide))
	var main, question []string
	if a.dialog != nil {
		question = a.dialog.View(l, min(width, 120), body)
	}
	switch {
	case !a.known && a.err != nil:
		main = append([]string{""}, look.Wrap(l.Brick.Render("! ")+a.err.Error(), width)...)
	case a.help:
		main = a.helpLines(width)
		main = main[min(a.helpFrom, len(main)-1):]
	case a.station == 0:
		main = a.watch.View(l, width, body, question)
	case a.station == 1:
		main = a.find.View(l, width, body, question)
	case a.station == 2:
		main = a.decide.View(l, width, body, question)
	case a.station == 3:
		main = a.guard.View(l, width, body, question)
	case a.station == 4:
		main = a.stock.View(l, width, body, question)
	default:
		main = a.prove.View(l, width, body, question)
	}
	main = look.Block(main, width, body)
	main = append(main, guide...)
	for i := range main {
		out = append(out, rail[i]+" "+main[i])
	}
	return append(out, foot...)
}

// bodyHeight and mainWidth are the room that a station has.
func (a *App) bodyHeight() int {
	return a.height - bandHeight - footHeight - len(a.leadLines(a.mainWidth()))
}

// mainWidth is described at bodyHeight.
func (a *App) mainWidth() int { return a.width - a.railWidth() - 1 }

// The heights of what is above and below the stations.
const bandHeight, footHeight = 4, 2

func (a *App) railWidth() int {
	if a.width >= 100 {
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
	l, s := a.look, a.status
	var state string
	switch s.State {
	case "keeping":
		state = l.Honey.Bold(true).Render(fmt.Sprintf("◆ keeping · %d rules", s.Rules))
		if s.Rules == 1 {
			state = l.Honey.Bold(true).Render("◆ keeping · 1 rule")
		}
		if s.Paused > 0 {
			state += l.Brick.Render(fmt.Sprintf(", %d paused", s.Paused))
		}
	case "held":
		state = l.Brick.Bold(true).Render("■ on hold")
		if a.width >= 100 {
			state += l.Brick.Render(": everything passes")
		}
	default:
		state = l.Slate.Bold(true).Render("○ watching")
		switch {
		case s.Paused > 0:
			state += l.Brick.Render(fmt.Sprintf(" · %d paused", s.Paused))
		case a.width >= 100:
			state += l.Slate.Render(" · nothing is kept")
		}
	}
	if a.values {
		state = l.Brick.Bold(true).Render("values shown") + l.Dim.Render(" · ") + state
	}
	if a.err != nil && a.known {
		state = l.Brick.Bold(true).Render("! the larder does not answer")
	}
	m := s.Minute
	calls := float64(m.Calls())
	rate := func(n float64) string { return fmt.Sprintf("%.0f/s", n/min(60, max(since(s), 1))) }
	apps := 0
	for _, x := range s.Applications {
		if x.Minute.Calls() > 0 {
			apps++
		}
	}
	shaft, clients := "──", look.Number(float64(apps), "application")
	if a.width < 100 {
		shaft, clients = "─", look.Number(float64(apps), "app")
	}
	arrow := func(r string) string {
		return l.Dim.Render(" "+shaft) + l.Cream.Render(" "+r+" ") + l.Dim.Render(shaft+"▶ ")
	}
	way := l.Cream.Render(clients) + arrow(rate(calls)) +
		l.Honey.Bold(true).Render("larder") + l.Honey.Render(" answers"+look.Share(float64(m.Hits), calls)) + arrow(rate(calls-float64(m.Hits)))
	if n := len(s.Origins); n > 1 {
		way += l.Slate.Bold(true).Render(fmt.Sprintf("%d origins", n))
	} else {
		way += l.Slate.Bold(true).Render("origin")
	}
	if a.width >= 120 {
		way += l.Slate.Render(" " + origins(s))
	}
	first := " " + way
	room := a.width - look.Width(first) - look.Width(state) - 1
	if room < 1 {
		first, room = look.Cut(first, a.width-look.Width(state)-2), 1
	}
	first += strings.Repeat(" ", room) + state + " "

	could, rest := m.Keeping, max(m.Waited-m.Keeping, 0)
	ribbon := " " + look.Ribbon(a.width-2,
		look.Stretch{Value: m.Spared, Texture: look.TextureSpared, Style: l.Honey},
		look.Stretch{Value: could, Texture: look.TextureCould, Style: l.Slate},
		look.Stretch{Value: rest, Texture: look.TextureRest, Style: l.Dim})
	secs := func(ms float64) string { return strings.TrimSpace(look.Seconds(ms)) }
	legend := " " + l.Honey.Render(string(look.TextureSpared)+" "+secs(m.Spared)+" spared") + "   " +
		l.Slate.Render(string(look.TextureCould)+" "+secs(could)+" waited, could be kept") + "   " +
		l.Dim.Render(string(look.TextureRest)+" "+secs(rest)+" the rest")
	guarded, alone := a.guarded()
	total := l.Honey.Render(secs(s.Total.Spared)+" spared since the start") + l.Dim.Render(" · ")
	for _, right := range []string{total + guarded + alone, total + guarded, guarded} { // as much as there is room for
		if room := a.width - look.Width(legend) - look.Width(right) - 1; room > 0 {
			legend += strings.Repeat(" ", room) + right
			break
		}
	}
	return []string{first, ribbon, look.Cut(legend, a.width), ""}
}

// guarded says in a few words whether freshness is, and by what alone.
func (a *App) guarded() (says, alone string) {
	l := a.look
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
func (a *App) rail(height int) []string {
	l := a.look
	wide := a.width >= 100
	width := a.railWidth()
	var out []string
	for i, st := range stations {
		badge := a.badge(i)
		if !wide {
			badge = look.Cut(badge, 1)
		}
		name := fmt.Sprintf("%d", i+1)
		if wide {
			name += " " + st.name
		}
		mark, style := " ", l.Cream
		if i == a.station {
			mark, style = l.Honey.Render("▌"), l.Strong
		}
		out = append(out, look.Left(mark+style.Render(name)+" "+badge, width))
		if wide {
			out = append(out, "")
		}
	}
	if wide {
		kept := []string{"", l.Dim.Render(" kept"), l.Honey.Render(" " + look.Count(uint64(a.status.Kept))), l.Dim.Render(" " + look.Bytes(a.status.KeptBytes)), "",
			l.Dim.Render(" dropped"), l.Plum.Render(" ▽ " + look.Count(a.status.Drops))}
		out = append(out, kept...)
	}
	return look.Block(out, width, height)
}

// badge says whether a station wants attention.
func (a *App) badge(i int) string {
	switch {
	case i == 2 && a.status.Outside != nil:
		return a.look.Plum.Render("≠")
	case i == 2 && a.status.Drafted > 0:
		return a.look.Honey.Render(fmt.Sprintf("±%d", a.status.Drafted))
	case i == 4 && a.full():
		return a.look.Brick.Render("▲")
	case i == 5 && a.prove.Running():
		return a.look.Slate.Render("…")
	case i == 3 && a.status.Stale > 0:
		return a.look.Brick.Bold(true).Render(fmt.Sprintf("!%d", a.status.Stale))
	case i != 1:
		return ""
	}
	if n := a.find.Suggestions(); n > 0 {
		return a.look.Moss.Render(fmt.Sprintf("○%d", n))
	}
	return ""
}

// full says whether memory is as good as at its limit.
func (a *App) full() bool {
	return a.status.KeptLimit > 0 && float64(a.status.KeptBytes) > 0.98*float64(a.status.KeptLimit)
}

// foot offers the next sensible step, and the keys.
func (a *App) foot() []string {
	l := a.look
	if a.line.open {
		return a.line.view(l, a.width)
	}
	next := a.next()
	if time.Since(a.saidAt) < 6*time.Second && a.dialog == nil {
		next = l.Moss.Render("✓ ") + l.Cream.Render(a.said)
		if a.saidBad {
			next = l.Brick.Render("! ") + l.Cream.Render(a.said)
		}
	}
	keys := l.Key("?", "keys") + "  " + l.Key("q", "leave") + " "
	if a.dialog != nil {
		keys = ""
	}
	line := " " + look.Cut(next, a.width-look.Width(keys)-3)
	line += strings.Repeat(" ", max(a.width-look.Width(line)-look.Width(keys), 0)) + keys
	note := ""
	if len(a.status.Problems) > 0 {
		note = l.Dim.Render("── ") + l.Brick.Render("! "+look.Cut(a.status.Problems[0], a.width-8)) + " "
	} else if a.status.Note != "" {
		note = l.Dim.Render("── " + a.status.Note + " ")
	}
	return []string{look.Left(note+l.Dim.Render(strings.Repeat("─", max(a.width-look.Width(note), 0))), a.width), line}
}

// next says in words what would be sensible to do now.
func (a *App) next() string {
	l := a.look
	say := func(text, k, does string) string {
		return l.Cream.Render(text+" ") + l.Honey.Bold(true).Render(k) + l.Cream.Render(" "+does)
	}
	switch {
	case a.dialog != nil:
		var keys []string
		for _, k := range a.dialog.Keys() {
			keys = append(keys, l.Key(k.Help().Key, k.Help().Desc))
		}
		return strings.Join(keys, "   ")
	case a.help:
		step := a.bodyHeight() - 1
		page, pages := a.helpFrom/step+1, (len(a.helpLines(a.mainWidth()))-2)/step+1
		if page < pages {
			return l.Dim.Render(fmt.Sprintf("page %d of %d: any key shows more, ", page, pages)) + l.Key("esc", "closes this")
		}
		return l.Dim.Render(fmt.Sprintf("page %d of %d: any key closes this", page, pages))
	case a.frozen:
		return say("What is shown is frozen.", "space", "goes on.")
	case a.station == 0 && a.watch.SelectedPattern() != "":
		return say("", "enter", "shows the pattern of this statement,") + say("", "f", "follows its label or application.")
	case a.station == 0 && a.status.State == "watching":
		return say("Nothing is kept yet.", "2", "shows what is worth keeping.")
	case a.station == 0:
		return say("", "↓", "chooses a statement,") + say("", "g", "shows them one by one.")
	case a.station == 3 && a.guard.Effect() != nil:
		return say("", "enter", "shows the pattern,") + say("", "l", "goes back to the tables.")
	case a.station == 3 && a.guard.Effects():
		return say("", "l", "goes back to the tables.")
	case a.station == 3 && a.guard.Deep():
		return say("", "esc", "goes back to the tables.")
	case a.station == 3 && a.guard.Selected() != nil:
		return say("", "enter", "lays the table out,") + say("", "x", "drops what rests on it,") + say("", "l", "lists effects that are not known.")
	case a.station == 1:
		deeper := say("", "enter", "lays it out.")
		if a.find.Deep() {
			deeper = say("", "esc", "goes back to the list.")
		}
		if p := a.find.Selected(); p != nil && (p.Keepable || p.Rule != nil) {
			if p.Rule != nil {
				return say("", "k", "goes to its rule,") + say("", "x", "drops its results,") + deeper
			}
			if a.status.Drafted > 0 {
				return say("", "k", "takes this into the draft too,") + say("", "3", "forecasts and applies it,") + deeper
			}
			if p.Advice != nil && p.Advice.Kind == "keep" {
				return say("Take the advice:", "k", "puts it into a draft,") + deeper
			}
			return say("", "k", "puts keeping it into a draft,") + deeper
		}
		return say("", "↓", "goes down the list,") + deeper
	}
	switch a.station {
	case 2:
		return a.nextInDecide(say)
	case 4:
		if a.stock.Making() {
			return say("What other sizes would give is being foretold:", "c", "stops it.")
		}
		if a.full() {
			return say("The memory is full:", "m", "sets another limit, and says what it would give,") + say("", "enter", "goes to the pattern.")
		}
		return say("", "m", "sets another limit,") + say("", "enter", "goes to the pattern,") + say("", "c", "foretells other sizes again.")
	case 5:
		switch {
		case a.prove.Running():
			return say("The trial is under way:", "s", "stops it; what was completed counts.")
		case a.prove.Trial():
			return say("", "t", "makes another,") + say("", "E", "writes its chart to a file,") + say("", "esc", "goes back.")
		}
		return say("", "p", "shows another stretch of time,") + say("", "b", "sums otherwise,") + say("", "t", "makes a trial,") + say("", "r", "writes a report.")
	}
	return say("", "1", "goes back to Watch.")
}

// nextInDecide says what would be sensible in Decide.
func (a *App) nextInDecide(say func(text, k, does string) string) string {
	m := &a.decide
	switch {
	case m.History():
		return say("", "u", "puts the rules of this entry in force again,") + say("", "h", "goes back to the rules.")
	case m.Draft().Behind:
		return say("Somebody changed the rules:", "r", "takes that into the draft,") + say("", "D", "discards the draft.")
	case m.Running():
		return say("The forecast is being made:", "s", "stops it.")
	case m.Draft().Open:
		return say("", "a", "applies the draft,") + say("", "enter", "edits the rule,") + say("", "D", "discards the draft.")
	case m.Outside() != nil:
		return say("The rules file was edited:", "e", "takes that in force.")
	case m.Selected() != nil:
		return say("", "enter", "edits the rule,") + say("", "p", "pauses it,") + say("", "u", "undoes the last change,") + say("", "h", "shows the history.")
	}
	return say("Nothing is decided yet:", "2", "shows what is worth keeping.")
}

// helpLines is made from the keys themselves, so that it is never wrong.
func (a *App) helpLines(width int) []string {
	l := a.look
	out := []string{l.Rule("keys", width)}
	for _, g := range a.keys() {
		out = append(out, "", "  "+l.Strong.Render(g.title))
		for _, k := range g.keys {
			out = append(out, "  "+l.Honey.Render(look.Right(k.Help().Key, 8))+"  "+l.Cream.Render(k.Help().Desc))
		}
	}
	if a.station == 2 {
		return append(out, a.signsOfDecide()...)
	}
	out = append(out, "", "  "+l.Strong.Render("signs"))
	for _, s := range []struct{ outcome, says string }{
		{"hit", "hit: answered from memory"}, {"miss", "miss: fetched from the origin and kept"},
		{"pass", "pass: sent to the origin and not kept, for the reason shown"}, {"write", "write"}, {"drop", "drop: a kept result discarded because it may no longer be true"},
	} {
		style, glyph := l.Outcome(s.outcome)
		out = append(out, "  "+style.Render(look.Right(glyph, 8))+"  "+l.Cream.Render(s.says))
	}
	out = append(out, "", "  "+l.Dim.Render("Waiting is the time clients spent waiting for replies, summed over the last minute."))
	if a.station > 1 {
		return out
	}
	fields, of := filter.OfStatements, "a filter on statements"
	if a.station == 1 {
		fields, of = filter.OfPatterns, "a filter on patterns"
	}
	help := []string{"", "  " + l.Strong.Render(of)}
	for _, f := range fields {
		how := "= !="
		if f.Number {
			how = "= != < >"
		}
		help = append(help, "  "+l.Honey.Render(look.Right(f.Name, 8))+"  "+l.Dim.Render(look.Left(how, 9))+l.Cream.Render(f.What))
	}
	help = append(help, "  "+l.Dim.Render("Terms with blanks between, all of which must hold; a word alone is looked for in the text."))
	if width < 130 { // there is no room beside
		return append(out, help...)
	}
	return beside(out, help, width/2)
}

// signsOfDecide explains the signs before rules.
func (a *App) signsOfDecide() []string {
	l := a.look
	out := []string{"", "  " + l.Strong.Render("signs")}
	for _, s := range []struct {
		style interface{ Render(...string) string }
		sign  string
		says  string
	}{
		{l.Moss, "new", "the draft adds this rule"}, {l.Honey, "altered", "the draft changes it"}, {l.Brick, "gone", "the draft takes it out"}, {l.Slate, "moved", "the draft moves it: the first rule that matches decides"},
		{l.Honey, "◆", "it keeps results"}, {l.Brick, "■", "it is paused, or never keeps"}, {l.Plum, "≠", "the rules file was edited, and is not in force"}, {l.Honey, "±2", "your draft makes two changes"},
	} {
		out = append(out, "  "+s.style.Render(look.Right(s.sign, 8))+"  "+l.Cream.Render(s.says))
	}
	return append(out, "", "  "+l.Dim.Render("Foretold and measured shares are of all statements; spared waiting and drops are a minute's."))
}

// beside puts two lists of lines beside each other, the second from a column on.
func beside(left, right []string, column int) []string {
	out := make([]string, max(len(left), len(right)))
	for i := range out {
		if i < len(left) {
			out[i] = left[i]
		}
		if i < len(right) {
			out[i] = look.Left(out[i], column) + right[i]
		}
	}
	return out
}
