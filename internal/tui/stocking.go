package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/stock"
)

var (
	keyLimit = key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "another memory limit"))
)

// stockMsg is what memory is used for, and curveMsg what memories of other sizes would do.
type (
	stockMsg struct {
		stock control.Stock
		err   error
	}
	curveMsg struct {
		curve *control.MemoryCurve
		err   error
	}
)

// stocking is the station Stock.
type stocking struct {
	stock.Model
	still

	a       *App
	curving *working // the curve of memory under way, or the last
}

func (s *stocking) Name() string     { return "Stock" }
func (s *stocking) Question() string { return "Is the memory well used?" }
func (s *stocking) Keys() []key.Binding {
	return append(slices.Clone(stock.Keys), stock.KeyCurve, keyLimit)
}
func (s *stocking) SetStatus(control.Status) {}

func (s *stocking) Enter() tea.Cmd {
	if s.Curve() == nil && !s.Making() {
		return tea.Batch(s.Refresh(), s.makeCurve())
	}
	return s.Refresh()
}

func (s *stocking) Follow([]control.Event, time.Time) {
	if s.curving != nil {
		done, _ := s.curving.state()
		s.Progress(done)
	}
}

func (s *stocking) Clicked(x, y int) tea.Cmd {
	s.Click(x, y)
	return nil
}

func (s *stocking) Take(msg tea.Msg) tea.Cmd {
	switch m := msg.(type) {
	case stockMsg:
		if m.err == nil {
			s.Set(m.stock)
		}
	case curveMsg:
		s.EndCurve(m.curve, m.err)
	}
	return nil
}

func (s *stocking) Badge(l *look.Look) string {
	if s.full() {
		return l.Brick.Render("▲")
	}
	return ""
}

// full says whether memory is as good as at its limit.
func (s *stocking) full() bool {
	limit := s.a.status.CachedLimit
	return limit > 0 && float64(s.a.status.CachedBytes) > 0.98*float64(limit)
}

func (s *stocking) Next(say sayer) []string {
	switch {
	case s.Making():
		return []string{say("The forecast for other sizes is being made:", stock.KeyCurve, "stops it")}
	case s.full():
		return []string{say("The memory is full:", keyLimit, "sets another limit, with a forecast")}
	}
	out := []string{say("", keyLimit, "sets another limit")}
	if s.Selected() != nil {
		out = append(out, say("", keyEnter, "goes to the pattern"))
	}
	return append(out, say("", stock.KeyCurve, "forecasts other sizes again"))
}

func (s *stocking) Refresh() tea.Cmd {
	return fetch(s.a.client.Stock, func(x control.Stock, err error) tea.Msg { return stockMsg{x, err} })
}

// makeCurve has the larder foretell what memories of other sizes would do.
func (s *stocking) makeCurve() tea.Cmd {
	s.BeginCurve()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	run := &working{cancel: cancel}
	s.curving = run
	client := s.a.client
	return func() tea.Msg {
		defer cancel()
		c, err := client.MemoryCurve(ctx, 0, func(done float64) { run.tell(done, "") })
		if errors.Is(ctx.Err(), context.Canceled) {
			err = errors.New("it was stopped: " + stock.KeyCurve.Help().Key + " begins anew")
		}
		return curveMsg{c, err}
	}
}

func (s *stocking) Press(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, keyEnter) && s.Selected() != nil:
		return s.a.goToPattern(s.Selected().ID)
	case key.Matches(k, stock.KeyCurve):
		if s.Making() {
			s.curving.cancel()
			return nil
		}
		return s.makeCurve()
	case key.Matches(k, keyLimit):
		s.a.dialog = s.askLimit()
	default:
		s.Update(k)
	}
	return nil
}

// askLimit asks for another limit of memory, and says what it would give.
func (m *stocking) askLimit() dialog.Dialog {
	s := m.Stock()
	parse := func(v map[string]string) (int64, error) {
		n, err := bytesize.Parse(strings.TrimSpace(v["limit"]))
		if err == nil && n < 1<<20 {
			err = errors.New("expected at least 1MiB")
		}
		return n, err
	}
	tells := func(v map[string]string) (out []string) {
		n, err := parse(v)
		if err != nil {
			return nil
		}
		if now, saved, ok := m.At(s.Limit); ok {
			then, more, _ := m.At(n)
			out = append(out, fmt.Sprintf("Forecast: hit rate %.1f%% of the calls that rules match, now %.1f%%; saved %+.2f s/min.", 100*then, 100*now, (more-saved)/1000))
		} else {
			out = append(out, "There is no forecast for it yet: "+keyBack.Help().Key+", and "+stock.KeyCurve.Help().Key+" does.")
		}
		if n < s.Bytes {
			out = append(out, fmt.Sprintf("%s are in use: results of %s are evicted, the least used first.", look.Bytes(s.Bytes), look.Bytes(s.Bytes-n)))
		}
		return out
	}
	client := m.a.client
	return dialog.NewForm("Memory limit", []string{"It applies until the larder restarts; set memory in its configuration to make it permanent."},
		[]dialog.Line{{Name: "limit", Help: "for all cached results, such as 64MiB or 2GiB", Value: bytesize.Format(s.Limit)}}, tells,
		func(v map[string]string) (tea.Cmd, error) {
			n, err := parse(v)
			if err != nil {
				return nil, err
			}
			return tea.Sequence(act("The limit is "+bytesize.Format(n)+".", func(ctx context.Context) error {
				return client.SetLimit(ctx, control.Limit{Bytes: n, Evict: true}) // she was told
			}), m.Refresh()), nil
		})
}

// working is something that takes a while, with how far it is.
type working struct {
	cancel context.CancelFunc

	mu    sync.Mutex
	done  float64
	doing string
}

func (w *working) tell(done float64, doing string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done, w.doing = done, doing
}

// state gives how far it is.
func (w *working) state() (done float64, doing string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.done, w.doing
}
