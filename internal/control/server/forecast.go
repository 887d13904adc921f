package server

import (
	"cmp"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/findings"
)

// forecasts remembers what was foretold of the last few texts, as JSON, for the history.
type forecasts struct {
	mu sync.Mutex
	by map[string]string
}

// mostForecasts is how many are remembered: of so many drafts at once.
const mostForecasts = 16

func (f *forecasts) of(text []byte) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.by[string(text)]
}

func (f *forecasts) remember(text []byte, x *control.Forecast) {
	body, _ := json.Marshal(x)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.by == nil || len(f.by) >= mostForecasts {
		f.by = map[string]string{}
	}
	f.by[string(text)] = string(body)
}

// predict streams a forecast: lines that say how much is done, and then the forecast.
func (s *server) predict(w http.ResponseWriter, r *http.Request) {
	in := struct {
		Text *string `json:"text"`
	}{}
	if !read(w, r, &in) {
		return
	}
	text, _ := s.l.Book().Current()
	switch d, ok := s.l.Book().State().Draft(who(r)); {
	case in.Text != nil:
		text = []byte(*in.Text)
	case ok:
		text = d.Text
	}
	set, err := rules.Parse(text)
	if err != nil {
		problem(w, http.StatusBadRequest, "there is no forecast for rules with errors: %v", err)
		return
	}
	p := begin(w, r)
	if p == nil {
		return
	}
	progress := func(part float64) func(float64) bool {
		return func(done float64) bool { return p.tell(control.ForecastLine{Done: part + done/2}) }
	}
	out, err := s.forecast(set, progress)
	if err != nil {
		if !errors.Is(err, forecast.ErrStopped) {
			p.tell(control.ForecastLine{Problem: err.Error()})
		}
		return
	}
	s.forecasts.remember(text, out)
	p.tell(control.ForecastLine{Done: 1, Forecast: out})
}

// forecast foretells what a set would do, beside what the present one does by the same reckoning.
func (s *server) forecast(set *rules.Set, progress func(part float64) func(float64) bool) (*control.Forecast, error) {
	e := s.l.Engine()
	now := time.Now()
	present, err := e.Forecast(e.Rules(), now, inputs.Horizon, progress(0))
	if err != nil {
		return nil, err
	}
	draft, err := e.Forecast(s.l.Book().Advised(set), now, inputs.Horizon, progress(0.5))
	if err != nil {
		return nil, err
	}
	elapsed := min(max(now.Sub(e.Ledger.Began).Minutes(), 1.0/60), 1)
	calls := max(float64(e.Ledger.Total.Minute().Calls())/elapsed, draft.Sum.Calls)
	out := &control.Forecast{At: now, Span: findings.Milliseconds(draft.Span), Calls: calls, Full: draft.Full,
		Present: predicted(&present.Sum, calls), Draft: predicted(&draft.Sum, calls), Rules: []control.RuleForecast{}}
	for _, r := range set.List() {
		if r.Caches() || r.Action == rules.Advised && !r.Paused {
			out.Longest = max(out.Longest, findings.Milliseconds(r.TTL))
		}
	}
	names := map[string]bool{}
	for _, list := range [][]rules.Rule{set.List(), e.Rules().List()} {
		for _, r := range list {
			if names[r.Name] {
				continue
			}
			names[r.Name] = true
			row := control.RuleForecast{Rule: r.Name}
			if o := present.Rules[r.Name]; o != nil {
				x := predicted(o, calls)
				row.Present = &x
			}
			if o := draft.Rules[r.Name]; o != nil {
				x := predicted(o, calls)
				row.Draft = &x
			}
			if row.Present != nil || row.Draft != nil {
				out.Rules = append(out.Rules, row)
			}
		}
	}
	slices.SortStableFunc(out.Rules, func(a, b control.RuleForecast) int { return cmp.Compare(b.Saved(), a.Saved()) })
	return out, nil
}

func predicted(o *forecast.Outcome, all float64) control.Outcome {
	return control.Outcome{
		Patterns: o.Patterns,
		Calls:    o.Calls,
		Hits:     o.Hits,
		Share:    o.Hits / max(o.Calls, 1),
		OfAll:    o.Hits / max(all, 1),
		Saved:    findings.Milliseconds(o.Saved),
		Origin: max(
			all-o.Hits,
			0,
		) / 60,
		Drops:  o.Drops,
		Memory: o.Memory,
		Age:    findings.Milliseconds(o.Age),
		Oldest: findings.Milliseconds(o.Oldest),
	}
}

func decode[T any](text string) *T {
	if text == "" {
		return nil
	}
	out := new(T)
	if json.Unmarshal([]byte(text), out) != nil {
		return nil
	}
	return out
}
