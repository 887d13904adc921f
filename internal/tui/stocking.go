package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/look"
)

// What the application does for the station Stock.

var (
	keyCurve = key.NewBinding(key.WithKeys("c"), key.WithHelp("c", "foretell what more memory would give, or less; again stops it"))
	keyLimit = key.NewBinding(key.WithKeys("m"), key.WithHelp("m", "another limit of memory"))
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

func (a *App) askStock() tea.Cmd {
	return fetch(a.client.Stock, func(s control.Stock, err error) tea.Msg { return stockMsg{s, err} })
}

// makeCurve has the larder foretell what memories of other sizes would do.
func (a *App) makeCurve() tea.Cmd {
	a.stock.BeginCurve()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	run := &working{cancel: cancel}
	a.curving = run
	client := a.client
	return func() tea.Msg {
		defer cancel()
		c, err := client.MemoryCurve(ctx, 0, func(done float64) { run.tell(done, "") })
		if errors.Is(ctx.Err(), context.Canceled) {
			err = errors.New("it was stopped: c begins anew")
		}
		return curveMsg{c, err}
	}
}

// pressStock takes a key of the station Stock.
func (a *App) pressStock(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, keyEnter) && a.stock.Selected() != nil:
		return a.goToPattern(a.stock.Selected().ID)
	case key.Matches(k, keyCurve):
		if a.stock.Making() {
			a.curving.cancel()
			return nil
		}
		return a.makeCurve()
	case key.Matches(k, keyLimit):
		a.dialog = a.askLimit()
	default:
		a.stock.Update(k)
	}
	return nil
}

// goToPattern lays a pattern out in Find.
func (a *App) goToPattern(id string) tea.Cmd {
	a.find.SetFilter("")
	a.find.Select(id)
	a.find.SetDeep(true)
	a.station = 1
	return a.ask(true)
}

// askLimit asks for another limit of memory, and says what it would give.
func (a *App) askLimit() dialog.Dialog {
	s := a.stock.Stock()
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
		if now, spared, ok := a.stock.At(s.Limit); ok {
			then, more, _ := a.stock.At(n)
			out = append(out, fmt.Sprintf("Foretold: %.1f%% of the calls that rules are about from memory, now %.1f%%; %+.2f s of waiting spared a minute.", 100*then, 100*now, (more-spared)/1000))
		} else {
			out = append(out, "What it would give is not foretold yet: esc, and c does.")
		}
		if n < s.Bytes {
			out = append(out, fmt.Sprintf("%s are in use: results that take %s are pushed out, those of least use first.", look.Bytes(s.Bytes), look.Bytes(s.Bytes-n)))
		}
		return out
	}
	client := a.client
	return dialog.NewForm("Another limit of memory", []string{"It holds until the larder is started again; memory in its configuration makes it last."},
		[]dialog.Line{{Name: "limit", Help: "for all kept results, such as 64MiB or 2GiB", Value: bytesize.Format(s.Limit)}}, tells,
		func(v map[string]string) (tea.Cmd, error) {
			n, err := parse(v)
			if err != nil {
				return nil, err
			}
			return tea.Sequence(act("The limit is "+bytesize.Format(n)+".", func(ctx context.Context) error {
				return client.SetLimit(ctx, control.Limit{Bytes: n, PushOut: true}) // she was told
			}), a.askStock()), nil
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
