package server

import (
	"cmp"
	"errors"
	"maps"
	"math"
	"net/http"
	"slices"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/forecast"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
	"jollylarder/internal/state"
)

func (s *server) stock(w http.ResponseWriter, _ *http.Request) {
	e := s.l.Engine()
	now := time.Now()
	out := control.Stock{
		At:         now,
		Beside:     e.Beside(),
		Largest:    int64(e.Largest()),
		Configured: s.l.ConfiguredMemory(),
		Process:    s.l.Process(),
	}
	out.Results, out.Bytes, out.Limit = e.Cached()
	o := e.Overhead()
	out.Overhead = control.Overhead{
		Limit:    o.Limit,
		Patterns: control.OverheadPart(o.Patterns),
		Texts:    control.OverheadPart(o.Texts),
		Sessions: control.OverheadPart(o.Sessions),
		Samples:  control.OverheadPart(o.Inputs),
	}
	e.Patterns(func(p *engine.Pattern) {
		k := &p.Numbers.Cached
		if k.Stored.Load() == 0 && k.TooLarge.Load() == 0 {
			return
		}
		x := control.Stocked{
			ID: string(
				p.ID,
			), Text: p.Text, Results: int(k.Held.Load()), Bytes: k.HeldBytes.Load(), Hits: p.Numbers.Total().Count[ledger.Hit],
			Minute: p.Numbers.Minute().Count[ledger.Hit], Stored: k.Stored.Load(), Unused: k.Unused.Load(), Evicted: k.Evicted.Load(),
			Expired: k.Expired.Load(), Dropped: p.Numbers.Drops.Load(), TooLarge: k.TooLarge.Load(), Largest: k.Largest.Load(),
		}
		if r := findings.ShownRule(e, p); r != nil {
			x.Rule = r.Name
		}
		out.Patterns = append(out.Patterns, x)
	})
	slices.SortFunc(out.Patterns, func(a, b control.Stocked) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(b.Stored, a.Stored), cmp.Compare(a.ID, b.ID))
	})
	for _, b := range e.Ages(now) {
		out.Ages = append(
			out.Ages,
			control.AgeBand{
				UpTo:        findings.Milliseconds(b.UpTo),
				Results:     b.Results,
				Bytes:       b.Bytes,
				Unused:      b.Unused,
				UnusedBytes: b.UnusedBytes,
			},
		)
	}
	shares := e.Shares()
	for _, name := range slices.Sorted(maps.Keys(shares)) {
		out.Shares = append(out.Shares, control.Share{Rule: name, Bytes: shares[name].Bytes, Limit: shares[name].Limit})
	}
	out.Hour = lastHour(s.l.Book().State(), state.Everything, "", now, func(x *state.Rollup) control.StockStep {
		return control.StockStep{At: x.At, Evicted: x.Evicted, Expired: x.Expired, Dropped: x.Drops, Unused: x.Unused, Bytes: int64(x.Memory)}
	})
	reply(w, out)
}

// curveLimits are the sizes of a curve: half and double of the present limit and of what is in use, and some beyond.
func curveLimits(limit, used int64) (out []int64) {
	for _, of := range []int64{limit, max(used, 1<<18)} {
		for _, part := range []float64{1.0 / 4, 1.0 / 2, 1, 2} {
			out = append(out, max(int64(math.Round(part*float64(of))), 1<<14))
		}
	}
	out = append(out, 4*limit)
	slices.Sort(out)
	out = slices.CompactFunc(
		out,
		func(a, b int64) bool { return float64(max(a, b)) < 1.2*float64(min(a, b)) && b != limit && a != limit },
	)
	return out
}

// memoryCurve streams a curve: lines that say how much is done, and then the curve. A further limit may be asked for.
func (s *server) memoryCurve(w http.ResponseWriter, r *http.Request) {
	in := struct {
		Also int64 `json:"also_bytes"`
	}{}
	if !read(w, r, &in) {
		return
	}
	e := s.l.Engine()
	_, used, present := e.Cached()
	limits := curveLimits(present, used)
	if in.Also > 0 {
		limits = append(limits, in.Also)
	}
	slices.Sort(limits)
	limits = slices.Compact(limits)
	p := begin(w, r)
	if p == nil {
		return
	}
	now := time.Now()
	list, err := e.MemoryCurve(
		limits,
		now,
		inputs.Horizon,
		func(done float64) bool { return p.tell(control.CurveLine{Done: done}) },
	)
	if err != nil {
		if !errors.Is(err, forecast.ErrStopped) {
			p.tell(control.CurveLine{Problem: err.Error()})
		}
		return
	}
	out := &control.MemoryCurve{At: now}
	for _, f := range list {
		at := control.MemoryPoint{
			Limit:   f.Limit,
			Present: f.Limit == present,
			Share:   f.Sum.Hits / max(f.Sum.Calls, 1),
			Saved:   findings.Milliseconds(f.Sum.Saved),
			Memory:  f.Sum.Memory,
			Full:    f.Full,
			Rules:   map[string]float64{},
		}
		for name, o := range f.Rules {
			at.Rules[name] = o.Hits / max(o.Calls, 1)
		}
		out.Span, out.Calls = findings.Milliseconds(f.Span), f.Sum.Calls
		out.Points = append(out.Points, at)
	}
	p.tell(control.CurveLine{Done: 1, Curve: out})
}

// leastLimit is the smallest limit of memory, in bytes.
const leastLimit = 1 << 20

// mostLimit is the largest: what the machine has, or where that is not known, what no machine has.
func mostLimit(p control.Process) int64 {
	if p.Machine > 0 {
		return p.Machine
	}
	return 1 << 46
}

func (s *server) limit(w http.ResponseWriter, r *http.Request) {
	var in control.Limit
	if !read(w, r, &in) {
		return
	}
	e := s.l.Engine()
	_, used, _ := e.Cached()
	switch {
	case in.Bytes < leastLimit:
		problem(
			w,
			http.StatusBadRequest,
			"a limit of %s is too small: expected at least %s",
			bytesize.Format(max(in.Bytes, 0)),
			bytesize.Format(leastLimit),
		)
		return
	case in.Bytes > mostLimit(s.l.Process()):
		problem(
			w,
			http.StatusBadRequest,
			"a limit of %s is more than this machine has: expected at most %s",
			bytesize.About(in.Bytes),
			bytesize.About(mostLimit(s.l.Process())),
		)
		return
	case in.Bytes < used && !in.Evict:
		problem(
			w,
			http.StatusConflict,
			"%s are in use: with a limit of %s, results of %s would be evicted, the least used first; nothing was changed; evict set to true allows it",
			bytesize.About(used),
			bytesize.Format(in.Bytes),
			bytesize.About(used-in.Bytes),
		)
		return
	}
	e.SetLimit(in.Bytes)
	reply(w, in)
}
