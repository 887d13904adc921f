// Package prove is the station that answers: how much time was saved?
package prove

import (
	"math"
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/chart"
	"jollylarder/internal/control"
	"jollylarder/internal/report"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/listing"
	"jollylarder/internal/tui/moving"
)

// The keys that the application speaks of.
var (
	KeyStretch = key.NewBinding(key.WithKeys("p"), key.WithHelp("p", "another period"))
	KeyBy      = key.NewBinding(key.WithKeys("b"), key.WithHelp("b", "by pattern, by rule or by application"))
	KeyTrial   = key.NewBinding(key.WithKeys("t"), key.WithHelp("t", "run a trial"))
	keyTrials  = key.NewBinding(key.WithKeys("l"), key.WithHelp("l", "the last trial, or the saved time"))
)

// Keys are the keys of the station by itself.
var Keys = []key.Binding{moving.Up, moving.Down, moving.PageDown, moving.PageUp, moving.Home, moving.End, listing.KeyOrder, listing.KeyTurn, KeyStretch, KeyBy, keyTrials}

// stretch is a stretch of time, with its words.
type stretch struct{ since, says string }

// stretches are the stretches of time that can be chosen, each with its words.
var stretches = []stretch{
	{control.SinceChange, "since the last change of the rules"}, {control.SinceStart, "since the larder started"}, {control.LastMinute, "in the last minute"}, {"1h", "in the last hour"}, {"24h", "in the last 24 hours"}, {"720h", "in the last 30 days"},
}

// sorts are the columns by which what was saved can be sorted.
var sorts = []listing.Sort[control.Proved]{
	listing.Most("saved", func(p *control.Proved) float64 { return p.Ways.Fetches }),
	listing.Most("hit rate", func(p *control.Proved) float64 { return float64(p.Hits) / float64(max(p.Calls(), 1)) }),
	listing.Most("by samples", func(p *control.Proved) float64 {
		if p.Ways.Sample == nil {
			return math.Inf(-1)
		}
		return p.Ways.Sample.Saved
	}),
	listing.Most("before", func(p *control.Proved) float64 { return p.BeforeMean }),
	listing.Most("after", func(p *control.Proved) float64 { return p.AfterMean }),
	listing.Most("waited", func(p *control.Proved) float64 { return p.Waited }),
	listing.Most("of misses", func(p *control.Proved) float64 { return p.Own }),
	listing.Most("followed", func(p *control.Proved) float64 { return p.Follow }),
	listing.Text("name", func(p *control.Proved) string { return p.Name }),
	listing.Text("statement", func(p *control.Proved) string { return p.Text }),
}

// Model is the station. Its zero value is ready.
type Model struct {
	proof   control.Proof
	known   bool
	frozen  bool
	stretch int
	by      int // 0 pattern, 1 rule, 2 application

	name  string // selected
	moved bool   // she has chosen
	rows  listing.List[control.Proved]

	pattern *control.Pattern // the selected one in full

	trialled *trial.Result
	trial    bool // it is shown
	running  bool
	done     float64
	doing    string
	problem  string
}

// Since is the stretch of time that is wanted.
func (m *Model) Since() string { return stretches[m.stretch].since }

// Says names it in words.
func (m *Model) Says() string {
	at := m.stretch
	if m.proof.Since == m.Since() && m.proof.Counted != "" { // less is known, or there is less to tell apart
		at = slices.IndexFunc(stretches, func(x stretch) bool { return x.since == m.proof.Counted })
	}
	return stretches[at].says
}

// Set takes what is known now.
func (m *Model) Set(p control.Proof) {
	if m.frozen || p.Since != m.Since() {
		return
	}
	sums := m.proof.Sums
	shown := m.known && m.proof.Since == p.Since && (p.Since == control.SinceStart || p.Since == control.LastMinute)
	m.proof, m.known = p, true
	if shown { // as it is above: that is asked for more often
		m.proof.Sums, m.proof.Saved.Fetches = sums, sums.Saved
	}
	if list := m.list(); len(list) > 0 && (!m.moved || m.index() < 0) {
		m.name = list[0].Name
	}
}

// SetStatus takes the larder as it is now: what it says of the last minute, and of all since it began, is what stands
// above all stations.
func (m *Model) SetStatus(s control.Status) {
	if m.frozen {
		return
	}
	switch m.Since() {
	case control.SinceStart:
		m.proof.Sums = s.Total
	case control.LastMinute:
		m.proof.Sums = s.Minute
	default:
		return
	}
	m.proof.Saved.Fetches = m.proof.Sums.Saved
}

// SetPattern takes the selected pattern in full.
func (m *Model) SetPattern(p *control.Pattern) {
	if !m.frozen {
		m.pattern = p
	}
}

// Proof gives what is shown.
func (m *Model) Proof() *control.Proof { return &m.proof }

// Freeze stops or lets go what is shown.
func (m *Model) Freeze(on bool) { m.frozen = on }

func (m *Model) list() []control.Proved {
	m.rows.Sorts = slices.DeleteFunc(slices.Clone(sorts), func(s listing.Sort[control.Proved]) bool {
		return m.by == 0 && slices.Contains([]string{"waited", "of misses", "followed"}, s.Title) ||
			m.by > 0 && slices.Contains([]string{"before", "after", "statement"}, s.Title)
	})
	list := slices.Clone([][]control.Proved{m.proof.Patterns, m.proof.Rules, m.proof.Applications}[m.by])
	m.rows.Sort(list)
	return list
}

// Click takes a click, and says whether what is shown must be asked for anew.
func (m *Model) Click(x, y int) (again bool) {
	if m.trial {
		return false
	}
	list := m.list()
	row, _ := m.rows.Click(x, y)
	if row >= 0 && row < len(list) {
		m.name, m.moved = list[row].Name, true
		return true
	}
	return false
}

func (m *Model) index() int {
	return slices.IndexFunc(m.list(), func(p control.Proved) bool { return p.Name == m.name })
}

// Selected gives the selected line, or nil.
func (m *Model) Selected() *control.Proved {
	if i := m.index(); i >= 0 {
		return &m.list()[i]
	}
	return nil
}

// SelectedPattern gives the id of the selected pattern, or nothing where patterns are not listed.
func (m *Model) SelectedPattern() string {
	if m.by != 0 {
		return ""
	}
	return m.name
}

// BeginTrial notes that a trial has begun, and shows trials.
func (m *Model) BeginTrial() {
	m.running, m.trial, m.done, m.doing, m.problem = true, true, 0, "", ""
}

// Progress notes how far the trial is, from 0 to 1, and what it does at the moment.
func (m *Model) Progress(done float64, doing string) { m.done, m.doing = done, doing }

// EndTrial notes what the trial came to, or why it came to nothing.
func (m *Model) EndTrial(r *trial.Result, err error) {
	m.running = false
	if err != nil {
		m.problem = err.Error()
		return
	}
	m.trialled = r
}

// Running says whether a trial is under way.
func (m *Model) Running() bool { return m.running }

// Trial says whether trials are shown, and not what was spared.
func (m *Model) Trial() bool { return m.trial }

// Close shows what was spared again.
func (m *Model) Close() { m.trial = false }

// Update takes a key. It says whether what is shown must be asked for anew.
func (m *Model) Update(k tea.KeyPressMsg) (again bool) {
	move := moving.By(k)
	switch {
	case key.Matches(k, KeyStretch):
		m.stretch = (m.stretch + 1) % len(stretches)
		return true
	case key.Matches(k, KeyBy):
		m.by, m.rows = (m.by+1)%3, listing.List[control.Proved]{}
		m.moved = false
		m.Set(m.proof)
		return true
	case !m.trial && m.rows.Press(k):
	case key.Matches(k, keyTrials):
		m.trial = !m.trial
	case move != 0 && !m.trial:
		if list := m.list(); len(list) > 0 {
			m.name, m.moved = list[min(max(m.index()+move, 0), len(list)-1)].Name, true
			return true
		}
	}
	return false
}

// Charts gives what can be exported.
func (m *Model) Charts() []*chart.Chart {
	if m.trial && m.trialled != nil {
		return []*chart.Chart{report.Trial(m.trialled)}
	}
	out := []*chart.Chart{report.Waiting(&m.proof), report.ByPattern(m.list(), [...]string{"Saved by pattern", "Saved by rule", "Saved by application"}[m.by])}
	if m.proof.Memory != nil {
		out = append(out, report.Times(m.proof.Memory, m.proof.Origin))
	}
	return out
}
