package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
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
	body := a.height - len(out) - len(foot)
	rail := a.rail(body)
	railWidth := look.Width(rail[0])
	width := a.width - railWidth - 1
	var main, question []string
	if a.dialog != nil {
		question = a.dialog.View(l, min(width, 120), body)
	}
	switch {
	case !a.known && a.err != nil:
		main = append([]string{""}, look.Wrap(l.Brick.Render("! ")+a.err.Error(), width)...)
	case a.help:
		main = a.helpLines(width)
	case a.station == 0:
		main = a.watch.View(l, width, body, question)
	case a.station == 1:
		main = a.find.View(l, width, body, question)
	case question != nil:
		main = question
	default:
		main = []string{l.Rule(stations[a.station].name, width), "", "  " + l.Cream.Render(stations[a.station].question), "",
			"  " + l.Dim.Render("This station is still to come.")}
	}
	main = look.Block(main, width, body)
	for i := range body {
		out = append(out, rail[i]+" "+main[i])
	}
	return append(out, foot...)
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
	case "held":
		state = l.Brick.Bold(true).Render("■ on hold")
		if a.width >= 100 {
			state += l.Brick.Render(": everything passes")
		}
	default:
		state = l.Slate.Bold(true).Render("○ watching")
		if a.width >= 100 {
			state += l.Slate.Render(" · nothing is kept")
		}
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
	shaft, clients := "──", fmt.Sprintf("%d applications", apps)
	if a.width < 100 {
		shaft, clients = "─", fmt.Sprintf("%d apps", apps)
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
	right := a.guarded()
	if total := secs(s.Total.Spared); a.width >= 120 {
		right = l.Honey.Render(total+" spared since the start") + l.Dim.Render(" · ") + right
	}
	if room := a.width - look.Width(legend) - look.Width(right) - 1; room > 0 {
		legend += strings.Repeat(" ", room) + right
	}
	return []string{first, ribbon, look.Cut(legend, a.width), ""}
}

// guarded says in a few words whether freshness is.
func (a *App) guarded() string {
	l := a.look
	for _, d := range a.status.Databases {
		if !d.Catalog {
			return l.Dim.Render("○ reading the catalog")
		}
	}
	return l.Moss.Render("● writes through here drop at once")
}

func since(s control.Status) float64 { return s.Now.Sub(s.Began).Seconds() }

// rail draws the stations in the order of the work.
func (a *App) rail(height int) []string {
	l := a.look
	wide := a.width >= 100
	width := 5
	if wide {
		width = 13
	}
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
		mark, style := " ", l.Dim
		if i < 2 {
			style = l.Cream
		}
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
	if i != 1 {
		return ""
	}
	if n := a.find.Suggestions(); n > 0 {
		return a.look.Moss.Render(fmt.Sprintf("○%d", n))
	}
	return ""
}

// foot offers the next sensible step, and the keys.
func (a *App) foot() []string {
	l := a.look
	if a.filtering {
		return []string{l.Rule("", a.width), " " + a.input.View() + l.Dim.Render("   enter keeps it, esc takes it away")}
	}
	next := a.next()
	if time.Since(a.saidAt) < 6*time.Second {
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
	if a.status.Note != "" {
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
		return l.Dim.Render("any key closes this")
	case a.frozen:
		return say("What is shown is frozen.", "space", "goes on.")
	case a.station == 0 && a.watch.SelectedPattern() != "":
		return say("", "enter", "shows the pattern of this statement.")
	case a.station == 0 && a.status.State == "watching":
		return say("Nothing is kept yet.", "2", "shows what is worth keeping.")
	case a.station == 0:
		return say("", "↓", "chooses a statement,") + say("", "g", "shows them one by one.")
	case a.station == 1:
		if p := a.find.Selected(); p != nil && (p.Keepable || p.Rule != nil) {
			if p.Rule != nil {
				return say("", "k", "changes or stops keeping it,") + say("", "x", "drops its results.")
			}
			return say("", "k", "shows what keeping it would do.")
		}
		return say("", "↓", "goes down the list.")
	}
	return say("", "1", "goes back to Watch.")
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
	out = append(out, "", "  "+l.Strong.Render("signs"))
	for _, s := range []struct{ outcome, says string }{
		{"hit", "hit: answered from memory"}, {"miss", "miss: fetched from the origin and kept"},
		{"pass", "pass: sent to the origin and not kept, for the reason shown"}, {"write", "write"}, {"drop", "drop: a kept result discarded because it may no longer be true"},
	} {
		style, glyph := l.Outcome(s.outcome)
		out = append(out, "  "+style.Render(look.Right(glyph, 8))+"  "+l.Cream.Render(s.says))
	}
	return append(out, "", "  "+l.Dim.Render("Waiting is the time clients spent waiting for replies, summed over the last minute."))
}
