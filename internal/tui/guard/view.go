package guard

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/minutes"
	"jollylarder/internal/tui/moving"
)

// enoughChanges is from how many changed results on it is said how many drops each costs: of a few, that is chance.
const enoughChanges = 20

// View draws the station. What is asked of her, if anything is, stands under the list.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	if !m.known {
		return []string{l.Rule("are answers fresh?", width)}
	}
	out := m.promise(l, width, height)
	switch {
	case m.deep && m.Selected() != nil && question == nil:
		return append(out, m.table1(l, m.Selected(), width, height-len(out), true)...)
	case m.unknown:
		out = append(out, m.effects(l, width, max(height-len(out), 4))...)
		return append(out, question...)
	}
	foot := m.watched(l, width, height)
	room := height - len(out) - len(foot)
	list := min(max(room/2, 4), len(m.listed)+2)
	if question != nil {
		list = max(room-len(question), 3)
	}
	out = append(out, m.list(l, width, list, len(out))...)
	if question != nil {
		return append(out, question...)
	}
	rest := height - len(out) - len(foot)
	if t := m.Selected(); t != nil && rest > 2 {
		out = append(out, look.Block(m.table1(l, t, width, rest, false), width, rest)...)
	} else {
		out = append(out, look.Block(nil, width, max(rest, 0))...)
	}
	return append(out, foot...)
}

// promise draws what is promised now, and above all what is wrong.
func (m *Model) promise(l *look.Look, width, height int) []string {
	out := []string{l.Rule("what is guaranteed now", width)}
	most := max(height/4, 4)
	for _, p := range m.guard.Promise {
		style, glyph := l.Moss, "✓"
		switch p.Level {
		case control.Age:
			style, glyph = l.Honey, "~"
		case control.Trouble:
			style, glyph = l.Brick.Bold(true), "!"
		}
		for i, line := range look.Wrap(p.Text, width-4) {
			if i > 0 {
				glyph = " "
			}
			text := l.Cream.Render(line)
			if p.Level == control.Trouble {
				text = l.Brick.Render(line)
			}
			out = append(out, " "+style.Render(glyph)+" "+text)
		}
	}
	for i, s := range m.guard.Stale {
		if i == 2 {
			break
		}
		paused := ""
		if s.Paused {
			paused = ", its rule is paused"
		}
		out = append(out, look.Cut("   "+l.Brick.Render(s.At.Local().Format("15:04:05")+"  "+s.Pattern)+l.Dim.Render(fmt.Sprintf("  on %s, %s old%s", strings.Join(short(s.Tables), ", "), look.Seconds(s.AgeMS), paused)), width))
	}
	if len(out) > most+1 && len(m.guard.Stale) == 0 {
		out = append(out[:most], l.Dim.Render("   … more in jollylarder status"))
	}
	return out
}

// short leaves out the schema that nearly everything is in.
func short(names []string) []string {
	var out []string
	for _, n := range names {
		out = append(out, strings.TrimPrefix(n, "public."))
	}
	return out
}

// list draws the tables.
func (m *Model) list(l *look.Look, width, height, from int) []string {
	tables := m.listed
	title := "tables; writes of the last minute, the rest since the start"
	if m.resting {
		title = "tables that cached results depend on; writes of the last minute, the rest since the start"
	}
	out := []string{l.Rule(title, width)}
	wide := width >= 90
	name := 22
	if wide {
		name = min(34, width-66)
	}
	columns := []look.Column{{Width: 2}, {Title: "table", Width: name}, {Title: "writes/min", Width: 11, Right: true}, {Title: "direct", Width: 8, Right: true},
		{Title: "dropped", Width: 9, Right: true}, {Title: "cached", Width: 7, Right: true}}
	if wide {
		columns = append(columns, look.Column{Width: 2}, look.Column{Title: "writes by key", Width: 17}, look.Column{Title: "last drop"})
	}
	room := max(height-2, 1)
	at := max(m.index(), 0)
	row := func(i int) []string {
		t := &tables[i]
		mark, style := "  ", l.Cream
		if i == at {
			mark, style = l.Honey.Render("▌"), l.Strong
		}
		around := l.Dim
		if t.Around > 0 {
			around = l.Brick
		}
		row := []string{mark, style.Render(strings.TrimPrefix(t.Name, "public.")), l.Plum.Render(look.Count(t.Minute)), around.Render(look.Some(t.Around)),
			l.Plum.Render(look.Some(t.Drops)), l.Honey.Render(look.Some(uint64(t.Cached)))}
		if wide {
			row = append(row, "", narrow(l, t), l.Dim.Render(ago(t.LastDrop)))
		}
		return row
	}
	out = append(out, m.rows.Draw(l, from+len(out), width, room, columns, at, len(tables), row)...)
	if len(tables) == 0 {
		out = append(out, l.Dim.Render("  Nothing was written yet, and nothing is cached."))
	}
	return out
}

// byKey is of which share of a table's writes it was known what rows they alter, or -1 where there were none.
func byKey(t *control.GuardedTable) float64 {
	seen := t.Writes - min(t.Around, t.Writes)
	if seen == 0 {
		return -1
	}
	return min(float64(t.Narrow)/float64(seen), 1)
}

// narrow draws of how many writes it was known what rows they alter.
func narrow(l *look.Look, t *control.GuardedTable) string {
	share := byKey(t)
	if share < 0 {
		return ""
	}
	const cells = 8
	n := int(share*cells + 0.5)
	return l.Moss.Render(strings.Repeat("▬", n)) + l.Dim.Render(strings.Repeat("·", cells-n)) + l.Dim.Render(" "+look.Share(share, 1))
}

func ago(t *time.Time) string {
	if t == nil {
		return ""
	}
	switch d := time.Since(*t); {
	case d < time.Second:
		return "just now"
	case d < 100*time.Second:
		return fmt.Sprintf("%.0f s ago", d.Seconds())
	case d < 100*time.Minute:
		return fmt.Sprintf("%.0f min ago", d.Minutes())
	default:
		return t.Local().Format("02 Jan 15:04")
	}
}

// table1 draws one table: what rests on it, and what its writes dropped and spared.
func (m *Model) table1(l *look.Look, t *control.GuardedTable, width, height int, whole bool) []string {
	var writes []string
	for _, w := range m.guard.Writes {
		for _, name := range w.Tables {
			if name == t.Name || t.Name == "any table" && name == "" {
				writes = append(writes, m.seen(l, &w, t.Name, width, whole)...)
				break
			}
		}
	}
	if len(writes) == 0 {
		writes = []string{l.Dim.Render("  None of its writes has dropped anything lately.")}
	}
	rests, hour := m.rests(l, t, width), m.hour(l, t, width)
	if whole {
		if hour != nil {
			rests = append(append(rests, ""), hour...)
		}
		out := append([]string{l.Rule(strings.TrimPrefix(t.Name, "public.")+dependents(width), width)}, rests...)
		out = append(out, "", l.Rule("what its last writes dropped, and what stayed", width))
		out = append(out, writes...)
		out = append(out, "", l.Rule("what writes it", width))
		for _, p := range t.Written {
			out = append(out, look.Cut("  "+l.Plum.Render(look.Left(p.ID, 18))+l.Dim.Render(p.Text), width))
		}
		return look.Window(out, m.from, width, height)
	}
	half := max((height-2)/2, 1)
	if height > 2*len(hour)+6 && hour != nil {
		half = max((height-3-len(hour))/2, 1)
	} else {
		hour = nil
	}
	if len(rests) > half {
		rests = append(rests[:half-1:half-1], l.Dim.Render(fmt.Sprintf("  … %d more: ", len(rests)-half+1))+l.Key(moving.Enter, "shows them"))
	}
	out := append([]string{l.Rule(strings.TrimPrefix(t.Name, "public.")+dependents(width), width)}, rests...)
	if hour != nil {
		out = append(append(out, ""), hour...)
	}
	out = append(out, l.Rule("what its last writes dropped, and what stayed", width))
	return append(out, writes[:min(len(writes), max(height-len(out), 0))]...)
}

// dependents is the title over the results that depend on a table, as long as there is room for.
func dependents(width int) string {
	if width < 100 {
		return ": cached results that depend on it"
	}
	return ": cached results that depend on it, and how its rows are identified"
}

// hour draws the writes to a table over the last hour, and what they dropped.
func (m *Model) hour(l *look.Look, t *control.GuardedTable, width int) []string {
	if m.guard.HourOf != t.Name {
		return nil
	}
	return minutes.Rows(l, []minutes.Row{
		{Label: "writes", Style: l.Plum, Values: minutes.Of(m.guard.Hour, func(s *control.TableStep) float64 { return float64(s.Writes) }), Most: minutes.Count},
		{Label: "dropped", Style: l.Plum, Values: minutes.Of(m.guard.Hour, func(s *control.TableStep) float64 { return float64(s.Drops) }), Most: minutes.Count},
	}, width)
}

// rests draws the patterns that read a table, with what its writes have cost each.
func (m *Model) rests(l *look.Look, t *control.GuardedTable, width int) (out []string) {
	if len(t.Read) == 0 {
		return []string{l.Dim.Render("  No cached result depends on it.")}
	}
	wide := width >= 110
	if wide {
		out = append(out, l.Dim.Render(look.Cut(look.Right("cached", 8)+look.Right("dropped", 9)+look.Right("to fetch again", 16)+"   "+look.Left("rows identified by", 38)+" pattern", width)))
	}
	for _, p := range t.Read {
		by, style := "any of its rows", l.Dim
		switch {
		case len(p.By) > 0:
			by, style = "rows by "+strings.Join(p.By, " and "), l.Moss
		case len(p.Columns) > 0:
			by, style = "any row's "+strings.Join(p.Columns, ", "), l.Moss
		}
		if len(p.How) > 0 {
			by += ", " + p.How[0]
		}
		room := 24
		if wide {
			room = 38
		}
		cost := ""
		if wide {
			cost = look.Right("–", 9) + look.Right("–", 16)
			if p.Dropped > 0 {
				cost = look.Right(look.Count(p.Dropped), 9) + look.Right(strings.TrimSpace(look.Seconds(p.Refetch)), 16)
			}
			cost = l.Plum.Render(cost) + "  "
		}
		line := "  " + l.Honey.Render(look.Right(look.Count(uint64(p.Cached)), 6)) + cost + " " + style.Render(look.Left(by, room)) + " " + l.Cream.Render(look.Left(p.ID, 16)) + " " + l.Dim.Render(p.Text)
		out = append(out, look.Cut(line, width))
	}
	return out
}

// seen draws a write: how much it dropped of what rests on its tables.
func (m *Model) seen(l *look.Look, w *control.SeenWrite, table string, width int, whole bool) (out []string) {
	dropped := 0
	for _, d := range w.Dropped {
		dropped += d.Results
	}
	who := l.Dim.Render(look.Left("told by the feed", 18))
	switch {
	case w.Around:
		who = l.Brick.Render(look.Left("direct", 18))
	case w.Pattern != nil:
		who = l.Cream.Render(look.Left(w.Application, 18))
	}
	by := ""
	var names []string
	for _, b := range w.By {
		if name, ok := strings.CutPrefix(b, table+"."); ok {
			names = append(names, name)
		}
	}
	if len(names) > 0 {
		by = "by " + strings.Join(names, ", ")
	}
	const cells = 10
	bar := look.Ribbon(cells, look.Stretch{Value: float64(dropped), Texture: '▓', Style: l.Plum}, look.Stretch{Value: float64(w.Stayed), Texture: look.TextureRest, Style: l.Honey})
	line := "  " + l.Dim.Render(w.At.Local().Format("15:04:05")) + " " + who + " " + bar + " " +
		l.Plum.Render(fmt.Sprintf("%s dropped", look.Count(uint64(dropped)))) + l.Dim.Render(fmt.Sprintf(", %s stayed  ", look.Count(uint64(w.Stayed)))) + l.Moss.Render(by+"  ")
	if w.Pattern != nil {
		line += l.Dim.Render(w.Pattern.Text)
	}
	out = append(out, look.Cut(line, width))
	if whole {
		for _, d := range w.Dropped {
			out = append(out, look.Cut("             "+l.Plum.Render(look.Right(look.Count(uint64(d.Results)), 5))+" "+l.Cream.Render(look.Left(d.ID, 18))+l.Dim.Render(d.Text), width))
		}
	}
	return out
}

// watched draws by what it is seen whether the promise holds: the control samples and the feeds.
func (m *Model) watched(l *look.Look, width, height int) []string {
	s := m.guard.Samples
	out := []string{l.Rule("how it is checked", width)}
	fact := func(label, says string) {
		lines := l.Fact(label, says, width)
		if height < look.Roomy {
			lines = lines[:1]
		}
		out = append(out, lines...)
	}
	style := l.Moss
	if s.Stale > 0 {
		style = l.Brick.Bold(true)
	}
	line := l.Cream.Render(fmt.Sprintf("%d compared with the database, %d equal, ", s.Taken, s.Equal)) + style.Render(fmt.Sprintf("%d stale", s.Stale))
	if s.Explained > 0 {
		line += l.Dim.Render(fmt.Sprintf(", %d changed by a write", s.Explained))
	}
	if s.Unordered > 0 {
		line += l.Dim.Render(fmt.Sprintf(", %d without a defined order", s.Unordered))
	}
	fact("control samples", line)
	if d := m.guard.Drops; d.Changed+d.Same > 0 {
		each := "too few drops for a ratio"
		if d.Changed >= enoughChanges {
			each = fmt.Sprintf("%.1f drops per change", float64(d.Changed+d.Same)/float64(d.Changed))
		}
		again := " when they were fetched again"
		if width < 100 {
			again = ""
		}
		fact("drops", l.Plum.Render(fmt.Sprintf("%s had changed", look.Count(d.Changed)))+
			l.Dim.Render(fmt.Sprintf("%s, %s had not: %s", again, look.Count(d.Same), each)))
	}
	for _, f := range m.guard.Feeds {
		fact("change feed", m.feed(l, &f))
	}
	switch {
	case len(m.guard.Feeds) > 0:
	case m.Unfollowed:
		fact("change feed", l.Dim.Render("none: there is none for this kind of database so far"))
	default:
		none := "none: [origin.feed] in the configuration, and jollylarder feed setup, would show direct writes"
		if width < 100 {
			none = "none: jollylarder feed setup would show direct writes"
		}
		fact("change feed", l.Dim.Render(none))
	}
	if n := len(m.guard.Unknown); n > 0 {
		fact("effects", l.Honey.Render(look.Number(float64(n), "pattern"))+l.Dim.Render(" with unknown effects  ")+l.Key(KeyList, "lists them"))
	}
	return out
}

func (m *Model) feed(l *look.Look, f *control.Feed) string {
	switch f.Mode {
	case "stream":
		lags := m.lags[f.Origin+"/"+f.Database]
		most := 0.0
		for _, x := range lags {
			most = max(most, x)
		}
		line := l.Moss.Render("stream of "+f.Where()) + l.Dim.Render("  lag ") + l.Cream.Render(strings.TrimSpace(look.Millis(f.LagMS))) + " " + l.Slate.Render(look.Pillars(lags, most)) +
			l.Dim.Render(fmt.Sprintf("  %s changes, %d gaps", look.Count(f.Rows), f.Gaps))
		if f.Bound == 0 {
			return line
		}
		line += l.Dim.Render(", the server retains ")
		style := lipgloss.NewStyle()
		if f.Held > f.Bound/2 {
			style = l.Brick
		}
		return line + style.Render(fmt.Sprintf("%s of %s", look.Bytes(f.Held), look.Bytes(f.Bound)))
	case "poll":
		return l.Honey.Render("counters of "+f.Where()) + l.Dim.Render(fmt.Sprintf("  up to %.0f s late, %s changes", f.LagMS/1000, look.Count(f.Rows)))
	}
	return l.Brick.Render("not followed: " + f.Problem)
}

// effects draws the patterns of which it is not known what they write.
func (m *Model) effects(l *look.Look, width, height int) []string {
	out := []string{l.Rule("statements with unknown effects: each drops everything", width)}
	list := m.guard.Unknown
	if len(list) == 0 {
		return append(out, "", l.Dim.Render("  None: the effects of all statements so far are known."))
	}
	room := max(height-9, 2)
	first := moving.First(m.effect, room)
	for i := first; i < len(list) && i < first+room; i++ {
		u := &list[i]
		mark, style := "  ", l.Cream
		if i == m.effect {
			mark, style = l.Honey.Render("▌")+" ", l.Strong
		}
		out = append(out, look.Cut(mark+style.Render(look.Left(u.ID, 18))+l.Plum.Render(look.Right(look.Count(u.Calls), 6))+" "+l.Dim.Render(u.Text), width))
	}
	u := m.Effect()
	out = append(out, "", l.Rule("remedy", width))
	for _, line := range look.Wrap("It "+u.Why+".", width-2) {
		out = append(out, "  "+l.Cream.Render(line))
	}
	if len(u.Functions) == 0 {
		return append(out, "  "+l.Dim.Render("No declaration can help: use another statement, whose writes are visible."))
	}
	out = append(out, "  "+l.Dim.Render("If this is what it does, write in the rules file:"))
	for _, f := range u.Functions {
		out = append(out, "  "+l.Moss.Render("[[declare]]"), "  "+l.Moss.Render(fmt.Sprintf("function = %q", f)), "  "+l.Moss.Render(`writes = ["schema.table"]   # or [] for nothing, and reads = […]`))
	}
	return out
}
