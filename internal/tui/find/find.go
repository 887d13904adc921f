// Package find is the station that answers: what is worth keeping?
package find

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

var (
	keyUp    = key.NewBinding(key.WithKeys("up"), key.WithHelp("↑", "the pattern above"))
	keyDown  = key.NewBinding(key.WithKeys("down"), key.WithHelp("↓", "the pattern below"))
	keyOrder = key.NewBinding(key.WithKeys("o"), key.WithHelp("o", "another order"))
	keyTop   = key.NewBinding(key.WithKeys("home"), key.WithHelp("home", "the first pattern"))
	keyPage  = key.NewBinding(key.WithKeys("pgdown"), key.WithHelp("pgdn", "a page down"))
	keyBack  = key.NewBinding(key.WithKeys("pgup"), key.WithHelp("pgup", "a page up"))
)

// Keys are the keys of the station by itself; those that change traffic belong to the application.
var Keys = []key.Binding{keyUp, keyDown, keyPage, keyBack, keyTop, keyOrder}

// orders are the ways to rank.
var orders = []struct {
	name string
	less func(a, b *control.Pattern) float64
}{
	{"waiting that could be spared", func(a, b *control.Pattern) float64 { return b.Spareable() - a.Spareable() }},
	{"all waiting", func(a, b *control.Pattern) float64 { return b.Minute.Waited - a.Minute.Waited }},
	{"calls", func(a, b *control.Pattern) float64 { return float64(b.Minute.Calls()) - float64(a.Minute.Calls()) }},
	{"drops", func(a, b *control.Pattern) float64 { return float64(b.Drops) - float64(a.Drops) }},
}

// Model is the station. Its zero value is ready.
type Model struct {
	Filter string

	all, shown []control.Pattern
	selected   string
	detail     control.Pattern
	order      int
	frozen     bool
	moved      bool // she has chosen: until then the first is selected
}

// SetPatterns takes the patterns as they are now.
func (m *Model) SetPatterns(list []control.Pattern) {
	if m.frozen {
		return
	}
	m.all = list
	m.arrange()
}

// SetDetail takes the selected pattern in full.
func (m *Model) SetDetail(p control.Pattern) { m.detail = p }

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) { m.frozen = on }

func (m *Model) arrange() {
	m.shown = m.shown[:0]
	for _, p := range m.all {
		if m.Filter == "" || strings.Contains(p.ID+" "+p.Text, strings.ToLower(m.Filter)) {
			m.shown = append(m.shown, p)
		}
	}
	slices.SortStableFunc(m.shown, func(a, b control.Pattern) int {
		d := orders[m.order].less(&a, &b)
		switch {
		case d > 0:
			return 1
		case d < 0:
			return -1
		}
		return strings.Compare(a.ID, b.ID)
	})
	if (m.index() < 0 || !m.moved) && len(m.shown) > 0 {
		m.selected = m.shown[0].ID
	}
}

// SetFilter shows only patterns whose id or text holds a text.
func (m *Model) SetFilter(text string) {
	m.Filter = text
	m.arrange()
}

// Select goes to a pattern.
func (m *Model) Select(id string) { m.selected, m.moved = id, true }

// Selected gives the selected pattern, or nil.
func (m *Model) Selected() *control.Pattern {
	if i := m.index(); i >= 0 {
		return &m.shown[i]
	}
	return nil
}

// SelectedID gives the selected pattern's ID, or "".
func (m *Model) SelectedID() string { return m.selected }

func (m *Model) index() int {
	return slices.IndexFunc(m.shown, func(p control.Pattern) bool { return p.ID == m.selected })
}

// Update takes a key.
func (m *Model) Update(k tea.KeyPressMsg) {
	move := 0
	switch {
	case key.Matches(k, keyUp):
		move = -1
	case key.Matches(k, keyDown):
		move = 1
	case key.Matches(k, keyPage):
		move = 10
	case key.Matches(k, keyBack):
		move = -10
	case key.Matches(k, keyTop):
		move = -len(m.shown)
	case key.Matches(k, keyOrder):
		m.order = (m.order + 1) % len(orders)
		m.arrange()
	}
	if move != 0 && len(m.shown) > 0 {
		m.moved = true
		m.selected = m.shown[min(max(m.index()+move, 0), len(m.shown)-1)].ID
	}
}

// View draws the station. A question, if there is one, stands where the selected pattern otherwise does.
func (m *Model) View(l *look.Look, width, height int, question []string) []string {
	if len(m.all) == 0 {
		return []string{"", l.Dim.Render("  No statement has come yet. Point an application at the larder's address.")}
	}
	detailHeight := min(22, height*11/20)
	if height < 24 {
		detailHeight = min(8, height/2)
	}
	if question != nil {
		detailHeight = min(max(len(question), detailHeight), height-6)
	}
	out := m.list(l, width, height-detailHeight)
	if question != nil {
		return append(out, question...)
	}
	return append(out, m.details(l, width, detailHeight)...)
}

func (m *Model) list(l *look.Look, width, height int) []string {
	title := fmt.Sprintf("%d patterns by %s, last minute", len(m.shown), orders[m.order].name)
	if m.Filter != "" {
		title = fmt.Sprintf("%d of %d patterns with “%s”, by %s", len(m.shown), len(m.all), m.Filter, orders[m.order].name)
	}
	head := "   spareable               calls  origin  memory  from memory   decision"
	if width < roomy {
		head = "   spareable           calls  memory"
	}
	out := []string{l.Rule(title, width), l.Dim.Render(look.Cut(head, width))}
	rows := height - len(out) - 1
	at := max(m.index(), 0)
	first := 0
	if at >= rows {
		first = at - rows + 1
	}
	var most float64
	for i := range m.shown {
		most = max(most, m.shown[i].Spareable())
	}
	for i := first; i < len(m.shown) && i < first+rows; i++ {
		out = append(out, m.row(l, &m.shown[i], most, width))
	}
	return look.Block(out, width, height)
}

// roomy is the width from which all columns are shown.
const roomy = 110

// row draws one pattern in the list.
func (m *Model) row(l *look.Look, p *control.Pattern, most float64, width int) string {
	barWidth := 12
	if width < roomy {
		barWidth = 8
	}
	bar := strings.Repeat(" ", barWidth)
	if most > 0 && p.Spareable() > 0 {
		n := max(int(math.Round(p.Spareable()/most*float64(barWidth))), 1)
		bar = look.Ribbon(n, look.Stretch{Value: p.Minute.Spared, Texture: look.TextureSpared, Style: l.Honey},
			look.Stretch{Value: p.Minute.Keeping, Texture: look.TextureCould, Style: l.Slate}) + strings.Repeat(" ", barWidth-n)
		if n == 1 {
			style, texture := l.Slate, look.TextureCould
			if p.Minute.Spared > p.Minute.Keeping {
				style, texture = l.Honey, look.TextureSpared
			}
			bar = style.Render(string(texture)) + strings.Repeat(" ", barWidth-1)
		}
	}
	mark, text := "  ", l.Cream
	if p.ID == m.selected {
		mark, text = l.Honey.Render("▌ "), l.Strong
	}
	var origin, memory float64
	if p.Origin != nil {
		origin = p.Origin.P50
	}
	if p.Memory != nil {
		memory = p.Memory.P50
	}
	calls := p.Minute.Calls()
	share := "      –"
	if p.Rule != nil && calls > 0 {
		n := int(math.Round(float64(p.Minute.Hits) / float64(calls) * 6))
		share = l.Honey.Render(strings.Repeat("◆", n)) + l.Dim.Render(strings.Repeat("◇", 6-n)) + " "
	}
	share += look.Share(float64(p.Minute.Hits), float64(calls))
	decision := decide(l, p)
	if width < roomy {
		return look.Cut(mark+text.Render(look.Seconds(p.Spareable()))+" "+bar+" "+text.Render(look.Right(look.Count(calls), 6))+"   "+
			l.Honey.Render(look.Share(float64(p.Minute.Hits), float64(calls)))+"  "+look.Cut(decision, 1)+" "+text.Render(p.Text), width)
	}
	line := mark + text.Render(look.Seconds(p.Spareable())) + " " + bar + " " + text.Render(look.Right(look.Count(calls), 6)) + " " +
		l.Slate.Render(look.Millis(origin)) + " " + l.Honey.Render(look.Millis(memory)) + "  " + look.Right(share, 11) + "   " + look.Left(decision, 12) + " "
	return look.Cut(line+text.Render(p.Text), width)
}

// decide says in a few cells what has been decided or can be.
func decide(l *look.Look, p *control.Pattern) string {
	switch {
	case p.Rule != nil && p.Rule.Verdict == "keep":
		return l.Honey.Render("◆ keep " + p.Rule.TTL)
	case p.Rule != nil:
		return l.Dim.Render("■ never")
	case p.Keepable:
		return l.Moss.Render("○ could be")
	}
	return l.Dim.Render("× cannot be")
}

// details draws the selected pattern.
func (m *Model) details(l *look.Look, width, height int) []string {
	p := m.Selected()
	if p == nil {
		return look.Block(nil, width, height)
	}
	full := p
	if m.detail.ID == p.ID {
		full = &m.detail
	}
	out := []string{l.Rule(p.ID, width)}
	for _, s := range look.Wrap(Advice(full), width-4) {
		out = append(out, "  "+l.Cream.Render(s))
	}
	if height < 12 || width < 90 {
		for _, s := range l.SQL(p.Text, width-2) {
			out = append(out, " "+s)
		}
		return look.Block(out, width, height)
	}
	out = append(out, "")
	leftWidth := width * 11 / 20
	left := append(l.SQL(p.Text, leftWidth-2), "")
	left = append(left, m.facts(l, full, leftWidth-2)...)
	right := m.times(l, full, width-leftWidth-2)
	body := height - len(out)
	left, right = look.Block(left, leftWidth, body), look.Block(right, width-leftWidth-2, body)
	for i := range body {
		out = append(out, left[i]+"  "+right[i])
	}
	return out
}

// facts says what the pattern rests on.
func (m *Model) facts(l *look.Look, p *control.Pattern, width int) []string {
	var out []string
	line := func(label, text string) {
		for i, s := range look.Wrap(text, width-10) {
			if i > 0 {
				label = ""
			}
			out = append(out, l.Dim.Render(look.Right(label, 8))+" "+l.Cream.Render(s))
		}
	}
	if len(p.Reads) > 0 {
		line("reads", strings.Join(p.Reads, ", ")+"  (named in the statement)")
	}
	if len(p.Writes) > 0 {
		line("writes", strings.Join(p.Writes, ", "))
	}
	for i, r := range p.Reasons {
		if i == 3 {
			break
		}
		line("why not", r)
	}
	if p.Kept > 0 {
		line("kept", fmt.Sprintf("%d results, %s", p.Kept, look.Bytes(p.KeptBytes)))
	}
	for i, r := range p.Passed {
		if i == 3 {
			break
		}
		line("passed", fmt.Sprintf("%s × %s", look.Count(r.Count), r.Reason))
	}
	return out
}

// times draws how replies from the origin and from memory are spread, on one scale.
func (m *Model) times(l *look.Look, p *control.Pattern, width int) []string {
	out := []string{l.Dim.Render("how long replies took" + strings.Repeat(" ", max(width-52, 1)) + "    half   9 of 10  99 of 100")}
	plot := max(width-32, 10)
	lo, hi := math.Inf(1), 0.0
	for _, d := range []*control.Distribution{p.Origin, p.Memory} {
		if d == nil {
			continue
		}
		for _, b := range d.Buckets {
			lo, hi = min(lo, max(b.From, 0.001)), max(hi, b.To)
		}
	}
	if hi == 0 {
		return out
	}
	for _, row := range []struct {
		name string
		d    *control.Distribution
		from lookStyle
	}{{"origin", p.Origin, l.Slate.Render}, {"memory", p.Memory, l.Honey.Render}} {
		if row.d == nil {
			out = append(out, l.Dim.Render(look.Left(row.name, 7)+" nothing yet"))
			continue
		}
		values := make([]float64, plot)
		var most float64
		for _, b := range row.d.Buckets {
			mid := math.Sqrt(max(b.From, 0.001) * b.To)
			i := min(int(math.Log(mid/lo)/math.Log(hi/lo)*float64(plot)), plot-1)
			values[max(i, 0)] += float64(b.Count)
			most = max(most, values[max(i, 0)])
		}
		out = append(out, l.Dim.Render(look.Left(row.name, 7))+row.from(look.Pillars(values, most))+" "+
			row.from(look.Millis(row.d.P50))+" "+row.from(look.Millis(row.d.P90))+" "+row.from(look.Millis(row.d.P99)))
	}
	axis := look.Left("       "+strings.TrimSpace(look.Millis(lo)), 7+plot-9) + look.Right(strings.TrimSpace(look.Millis(hi)), 9)
	out = append(out, l.Dim.Render(axis), "")
	var spared, waited []float64
	var most float64
	for _, s := range p.Slots {
		spared, waited = append(spared, s.Spared), append(waited, s.Waited)
		most = max(most, s.Spared, s.Waited)
	}
	out = append(out,
		l.Dim.Render("the last minute, in 5 s"),
		l.Dim.Render(look.Left("spared", 7))+l.Honey.Render(look.Pillars(spread(spared, 2), most))+"  "+l.Honey.Render(look.Seconds(p.Minute.Spared)),
		l.Dim.Render(look.Left("waited", 7))+l.Slate.Render(look.Pillars(spread(waited, 2), most))+"  "+l.Slate.Render(look.Seconds(p.Minute.Waited)), "")
	t := p.Total
	out = append(out, l.Dim.Render("since the start"),
		l.Honey.Render(fmt.Sprintf("◆ %s hits", look.Count(t.Hits)))+l.Dim.Render(" · ")+l.Slate.Render(fmt.Sprintf("◇ %s misses", look.Count(t.Misses)))+
			l.Dim.Render(fmt.Sprintf(" · › %s passed · ", look.Count(t.Passes)))+l.Plum.Render(fmt.Sprintf("▽ %s drops", look.Count(p.Drops))))
	calls := max(t.Calls(), 1)
	out = append(out, l.Dim.Render(fmt.Sprintf("%.1f rows and %s a reply", float64(p.Rows)/float64(calls), look.Bytes(int64(p.Bytes/calls)))))
	return out
}

type lookStyle = func(...string) string

func spread(values []float64, n int) []float64 {
	var out []float64
	for _, v := range values {
		for range n {
			out = append(out, v)
		}
	}
	return out
}

// Advice says in a sentence what to do about a pattern, and why.
func Advice(p *control.Pattern) string {
	calls, waited := p.Minute.Calls(), strings.TrimSpace(look.Seconds(p.Minute.Waited))
	switch {
	case p.Rule != nil && p.Rule.Verdict == "keep" && !p.Keepable && len(p.Reasons) > 0:
		return "A rule keeps it, but at this moment nothing is: it " + p.Reasons[0] + "."
	case p.Rule != nil && p.Rule.Verdict == "keep":
		return fmt.Sprintf("Kept for %s. In the last minute %d of %d calls were answered from memory: %s spared, %s still waited.",
			p.Rule.TTL, p.Minute.Hits, calls, strings.TrimSpace(look.Seconds(p.Minute.Spared)), waited)
	case p.Rule != nil:
		return "A rule says never to keep it."
	case p.Keepable && calls == 0:
		return "It could be kept, but was not asked in the last minute."
	case p.Keepable:
		return fmt.Sprintf("It could be kept: %d calls waited %s for it in the last minute.", calls, waited)
	case len(p.Reasons) > 0:
		return "It cannot be kept: it " + reasonClause(p.Reasons[0]) + "."
	}
	return ""
}

// reasonClause makes a reason fit behind "it".
func reasonClause(r string) string {
	for _, start := range []string{"writes", "reads", "calls", "locks", "copies", "shows", "opens", "changes", "runs", "prepares", "casts", "asks", "uses", "begins", "creates", "loads"} {
		if strings.HasPrefix(r, start) {
			return r
		}
	}
	return "is passed on, since " + r
}

// Suggestions counts patterns that no rule speaks of and that could be kept, and of which clients waited for more than
// a tenth of a second in the last minute.
func (m *Model) Suggestions() int {
	n := 0
	for i := range m.all {
		if p := &m.all[i]; p.Keepable && p.Rule == nil && p.Minute.Keeping > 100 {
			n++
		}
	}
	return n
}
