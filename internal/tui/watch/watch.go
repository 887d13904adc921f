// Package watch is the station that answers: what is going on right now, and what became of my statement?
package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/moving"
)

// The keys that the application speaks of.
var (
	KeyGroup  = key.NewBinding(key.WithKeys("g"), key.WithHelp("g", "grouped, or one by one"))
	KeyFollow = key.NewBinding(key.WithKeys("f"), key.WithHelp("f", "follow the selected statement's label, or its application"))
)

// Keys are the keys of the station.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, KeyGroup, KeyFollow}

// window is how far back the lines by kind look; most is how many events are remembered.
const (
	window = 10 * time.Second
	most   = 8000
)

// Model is the station. Its zero value is ready.
type Model struct {
	Filter string

	filter  *filter.Filter
	status  control.Status
	events  []control.Event // the oldest first
	lost    uint64
	singles bool
	frozen  bool
	missed  int
	lines   []line
	chosen  string // the selected line's key
}

// line is one line of statements: one kind of them, or a single one.
type line struct {
	key   string
	event control.Event
	count uint64
	took  float64 // on average
	spare float64
}

// SetStatus takes the larder as it is now.
func (m *Model) SetStatus(s control.Status) {
	if !m.frozen {
		m.status = s
	}
}

// Add takes events that have come.
func (m *Model) Add(events []control.Event, now time.Time) {
	if m.frozen {
		m.missed += len(events)
		return
	}
	for _, e := range events {
		if e.Kind == "lost" {
			m.lost += e.Count
			continue
		}
		m.events = append(m.events, e)
	}
	if n := len(m.events) - most; n > 0 {
		m.events = slices.Delete(m.events, 0, n)
	}
	m.arrange(now)
}

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) {
	m.frozen = on
	m.missed = 0
}

// SetFilter shows only what a filter picks; a text that is none changes nothing.
func (m *Model) SetFilter(text string) {
	f, err := filter.Parse(text, filter.OfStatements)
	if err != nil {
		return
	}
	m.Filter, m.filter = text, f
	m.arrange(m.status.Now)
}

// Seen gives the values of a filter's field that were seen lately.
func (m *Model) Seen(field string) (out []string) {
	seen := map[string]bool{}
	for i := len(m.events) - 1; i >= 0 && i > len(m.events)-2000 && len(out) < 20; i-- {
		for _, v := range m.events[i].Texts(field) {
			if v != "" && !seen[v] && !strings.ContainsAny(v, " \",") {
				seen[v] = true
				out = append(out, v)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Forget forgets the values of statements that were shown.
func (m *Model) Forget() {
	for i := range m.events {
		m.events[i].Statement, m.events[i].Values = "", nil
	}
	m.arrange(m.status.Now)
}

// Singles shows statements one by one.
func (m *Model) Singles() {
	m.singles, m.chosen = true, ""
	m.arrange(m.status.Now)
}

// follow narrows the filter to the selected statement's label, or else its application.
func (m *Model) follow() {
	for i := range m.lines {
		e := &m.lines[i].event
		if m.lines[i].key != m.chosen || e.Kind == "drop" {
			continue
		}
		term := "app=" + quoted(e.Application)
		for _, k := range slices.Sorted(maps.Keys(e.Labels)) {
			term = "label." + k + "=" + quoted(e.Labels[k])
			break
		}
		m.SetFilter(term)
		return
	}
}

func quoted(v string) string {
	if strings.ContainsAny(v, " ,") {
		return `"` + v + `"`
	}
	return v
}

// arrange makes the lines of the events.
func (m *Model) arrange(now time.Time) {
	m.lines = m.lines[:0]
	kinds := map[string]int{}
	for i := len(m.events) - 1; i >= 0; i-- {
		e := m.events[i]
		if !m.filter.Empty() && (e.Kind == "drop" || !m.filter.Match(&e)) {
			continue
		}
		if m.singles {
			if len(m.lines) == 500 {
				break
			}
			n := e.Count
			if e.Kind != "drop" {
				n = 1
			}
			m.lines = append(m.lines, line{fmt.Sprint(e.At.UnixNano(), e.Pattern), e, n, e.Took, e.Saved})
			continue
		}
		if now.Sub(e.At) > window {
			break
		}
		k := strings.Join([]string{e.Kind, e.Application, e.Pattern, e.Outcome, e.Reason, e.Table}, "\x00")
		j, ok := kinds[k]
		if !ok {
			j = len(m.lines)
			kinds[k] = j
			m.lines = append(m.lines, line{key: k, event: e})
		}
		l := &m.lines[j]
		if e.Kind == "drop" {
			l.count += e.Count
			continue
		}
		l.count++
		l.took += (e.Took - l.took) / float64(l.count)
		l.spare += e.Saved
	}
	if !m.singles { // by kind they stay where they are, so that numbers can be read
		slices.SortFunc(m.lines, func(a, b line) int {
			return cmp.Or(strings.Compare(b.event.Kind, a.event.Kind), strings.Compare(a.event.Application, b.event.Application),
				strings.Compare(a.event.Text, b.event.Text), strings.Compare(a.key, b.key))
		})
	}
}

// SelectedPattern gives the pattern of the selected line, or "".
func (m *Model) SelectedPattern() string {
	for _, l := range m.lines {
		if l.key == m.chosen {
			return l.event.Pattern
		}
	}
	return ""
}

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	switch {
	case key.Matches(k, KeyFollow):
		m.follow()
		return
	case key.Matches(k, KeyGroup):
		m.singles = !m.singles
		m.chosen = ""
		m.arrange(m.status.Now)
		return
	}
	move := moving.By(k)
	if move == 0 || len(m.lines) == 0 {
		return
	}
	at := slices.IndexFunc(m.lines, func(l line) bool { return l.key == m.chosen })
	m.chosen = m.lines[min(max(at+move, 0), len(m.lines)-1)].key
}

// View draws the station. A question, if there is one, stands where the statements otherwise do.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	lanes := m.lanes(l, width, height*9/20)
	if question != nil {
		return look.Block(append(lanes, question...), width, height)
	}
	out := append(lanes, m.underWay(l, width)...)
	out = append(out, m.statements(l, width, height-len(out))...)
	return look.Block(out, width, height)
}

// lanes draws a lane per application: what its last minute spared and waited, second by second.
func (m *Model) lanes(l *look.Look, width, height int) []string {
	out := []string{l.Rule("applications, their last minute second by second", width)}
	apps := slices.Clone(m.status.Applications)
	shown := map[string]bool{} // with a filter: the applications of what it picks
	for i := range m.lines {
		shown[m.lines[i].event.Application] = true
	}
	apps = slices.DeleteFunc(apps, func(a control.Application) bool {
		return a.Minute.Calls() == 0 || !m.filter.Empty() && !shown[a.Name]
	})
	slices.SortFunc(apps, func(a, b control.Application) int { return strings.Compare(a.Name, b.Name) })
	if len(apps) == 0 && !m.filter.Empty() {
		return append(out, "", l.Dim.Render("  No statement of the last 10 s matches the filter. ")+l.Key(moving.Back, "clears it."), "")
	}
	if len(apps) == 0 {
		out = append(out, "", l.Dim.Render("  No statement in the last minute. Applications connect to"))
		for _, o := range m.status.Origins {
			for _, a := range o.Listen {
				to := o.Address
				if o.Name != "" {
					to = o.Name
				}
				out = append(out, "    "+l.Cream.Render(a)+l.Dim.Render(" ─▶ ")+l.Slate.Render(to))
			}
		}
		return append(out, "")
	}
	seconds := min(60, max(width-62, 10))
	double := height >= 3*len(apps)+1
	step := 2
	if double {
		step = 3
	}
	fit := max((height-2)/step, 1)
	var highest float64
	for _, a := range apps {
		for _, s := range a.Seconds {
			highest = max(highest, s.Saved, s.Waited)
		}
	}
	for i, a := range apps {
		if i == fit && len(apps) > fit {
			out = append(out, l.Dim.Render(fmt.Sprintf("  and %d more", len(apps)-fit)))
			break
		}
		var saved, waited []float64
		writes := false
		marks := make([]rune, 0, seconds)
		for _, s := range a.Seconds[max(len(a.Seconds)-seconds, 0):] {
			saved, waited = append(saved, s.Saved), append(waited, s.Waited)
			mark := ' '
			if s.Writes > 0 {
				mark, writes = '▲', true
			}
			marks = append(marks, mark)
		}
		name := look.Left(a.Name, 15)
		head := l.Strong.Render(name) + l.Dim.Render("│")
		blank := strings.Repeat(" ", 15) + l.Dim.Render("│")
		if width >= 110 {
			out = append(out,
				head+l.Honey.Render(look.Pillars(saved, highest))+l.Dim.Render("│ ")+l.Honey.Render(look.Seconds(a.Minute.Saved)+" saved")+"   "+
					l.Cream.Render(look.Right(look.Count(a.Minute.Calls()), 6)+" calls")+"  "+l.Honey.Render(look.Share(float64(a.Minute.Hits), float64(a.Minute.Calls()))+" hit rate"),
				blank+l.Slate.Render(look.Pillars(waited, highest))+l.Dim.Render("│ ")+l.Slate.Render(look.Seconds(a.Minute.Waited)+" waited"))
		} else {
			out = append(out,
				head+l.Honey.Render(look.Pillars(saved, highest))+l.Dim.Render("│")+l.Honey.Render(look.Seconds(a.Minute.Saved)+" saved")+l.Dim.Render(look.Share(float64(a.Minute.Hits), float64(a.Minute.Calls()))+" hit rate"),
				blank+l.Slate.Render(look.Pillars(waited, highest))+l.Dim.Render("│")+l.Slate.Render(look.Seconds(a.Minute.Waited)+" waited"))
		}
		if double {
			if writes {
				out = append(out, blank+l.Plum.Render(string(marks))+l.Dim.Render("│ ")+l.Plum.Render(look.Right(fmt.Sprint(a.Minute.Writes), 5)+" writes"))
			} else {
				out = append(out, blank+strings.Repeat(" ", len(marks))+l.Dim.Render("│"))
			}
		}
	}
	return append(out, "")
}

// slow is from how many milliseconds on a statement that is under way is shown, and mostSlow how many of them.
const (
	slow     = 300
	mostSlow = 3
)

// underWay draws the statements whose clients have waited for some time already.
func (m *Model) underWay(l *look.Look, width int) (out []string) {
	for i, r := range m.status.Running {
		if r.For < slow || i == mostSlow {
			break
		}
		if out == nil {
			out = append(out, l.Rule("under way", width))
		}
		style, glyph := l.Outcome(r.Outcome)
		head := "  " + style.Render(look.Left(glyph+" "+r.Outcome, 8)) + " " + l.Cream.Render(look.Left(r.Application, 15)) + "       " + style.Render(look.Millis(r.For)) + "   "
		tail := ""
		if r.Reason != "" {
			tail = l.Dim.Render("  " + r.Reason)
		}
		out = append(out, look.Cut(head+l.Cream.Render(r.Text)+tail, width))
	}
	if out != nil {
		out = append(out, "")
	}
	return out
}

// statements draws the statements by kind, or one by one.
func (m *Model) statements(l *look.Look, width, height int) []string {
	title := "statements of the last 10 s, by kind"
	if m.singles {
		title = "statements one by one, the newest first"
	}
	if m.Filter != "" {
		title += " · with “" + m.Filter + "”"
	}
	switch {
	case m.frozen:
		title += fmt.Sprintf(" · frozen, %d newer; space goes on", m.missed)
	case m.lost > 0:
		title += fmt.Sprintf(" · %s not shown: too many at once", look.Count(m.lost))
	}
	out := []string{l.Rule(title, width)}
	if width >= 110 {
		times := " times"
		if m.singles {
			times = "second"
		}
		out = append(out, l.Dim.Render("  outcome  application    "+times+"     took    rows   statement, and the reason for a bypass"))
	}
	rows := height - len(out)
	at := max(slices.IndexFunc(m.lines, func(x line) bool { return x.key == m.chosen }), 0)
	first := max(at-rows+1, 0)
	for i := first; i < len(m.lines) && i < first+rows; i++ {
		out = append(out, m.row(l, &m.lines[i], width))
	}
	if len(m.lines) == 0 {
		out = append(out, l.Dim.Render("  None yet."))
	}
	return out
}

func (m *Model) row(l *look.Look, x *line, width int) string {
	e := &x.event
	style, glyph := l.Outcome(e.Outcome)
	word := e.Outcome
	if e.Kind == "drop" {
		style, glyph = l.Outcome("drop")
		word = "drop"
	}
	mark, text := "  ", l.Cream
	if x.key == m.chosen {
		mark, text = l.Honey.Render("▌ "), l.Strong
	}
	if e.Kind == "drop" {
		table := e.Table
		if table == "" {
			table = "any table"
		}
		return look.Cut(mark+style.Render(look.Left(glyph+" "+word, 8))+" "+style.Render(fmt.Sprintf("%d results dropped by a write to %s", x.count, table)), width)
	}
	head := mark + style.Render(look.Left(glyph+" "+word, 8)) + " " + text.Render(look.Left(e.Application, 15))
	if !m.singles {
		head += text.Render(look.Right(look.Count(x.count)+"×", 6))
	} else {
		head += l.Dim.Render(look.Right(e.At.Local().Format("05.00"), 6))
	}
	head += "  " + style.Render(look.Millis(x.took))
	if width >= 110 {
		head += "  " + l.Dim.Render(look.Right(fmt.Sprint(e.Rows), 6))
	}
	head += "   "
	tail := ""
	if e.Failed {
		tail = l.Brick.Render("  ! failed")
	}
	if e.Reason != "" {
		tail += l.Dim.Render("  " + e.Reason)
	}
	said := e.Text
	if m.singles && e.Statement != "" {
		said = e.Statement
		if len(e.Values) > 0 {
			said += "  ← " + strings.Join(e.Values, ", ")
		}
	}
	if m.singles {
		for _, k := range slices.Sorted(maps.Keys(e.Labels)) {
			tail += l.Moss.Render("  " + k + "=" + e.Labels[k])
		}
	}
	room := width - look.Width(head)
	if t := look.Width(tail); t > 0 && t < room*2/3 {
		return head + text.Render(look.Left(said, room-t)) + tail
	}
	return look.Cut(head+text.Render(said)+tail, width)
}
