package control

import (
	"cmp"
	"maps"
	"math"
	"net/http"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/state"
)

// The stretches that are no lengths.
const (
	LastMinute = "minute"
	SinceStart = "start"
)

// mostProved bounds the patterns of a proof: of the others only the sum is told.
const mostProved = 100

func (s *server) prove(w http.ResponseWriter, r *http.Request) {
	since := cmp.Or(r.URL.Query().Get("since"), SinceStart)
	now := time.Now()
	if since == LastMinute || since == SinceStart {
		out := s.live(since == LastMinute, now).give(s.baselines(now), s.l.Engine())
		out.At, out.Since = now, since
		reply(w, out)
		return
	}
	out := s.proofs.get(since, now, func() *Proof {
		length, err := time.ParseDuration(since)
		if err != nil || length < time.Minute || length > longestProof {
			return nil
		}
		out := s.remembers(now.Add(-length), now).give(s.baselines(now), s.l.Engine())
		out.At, out.Since = now, since
		return out
	})
	if out == nil {
		problem(w, http.StatusBadRequest, `since %q: expected "minute", "start", or a length from 1m to two years, such as 24h`, since)
		return
	}
	reply(w, out)
}

// proofs remembers what was found in the numbers taken down, which change once a minute.
type proofs struct {
	mu sync.Mutex
	by map[string]*Proof
}

// baselined remembers what is known of patterns' calls while they were not kept.
type baselined struct {
	mu sync.Mutex
	at time.Time
	by map[string]ledger.Part
}

// proofAge is for how long a proof is good.
const proofAge = 15 * time.Second

func (p *proofs) get(since string, now time.Time, fresh func() *Proof) *Proof {
	p.mu.Lock()
	defer p.mu.Unlock()
	for k, x := range p.by {
		if now.Sub(x.At) > proofAge {
			delete(p.by, k)
		}
	}
	if x := p.by[since]; x != nil {
		return x
	}
	x := fresh()
	if x != nil {
		if p.by == nil {
			p.by = map[string]*Proof{}
		}
		p.by[since] = x
	}
	return x
}

// longestProof is how far back numbers are kept.
const longestProof = 2 * 365 * 24 * time.Hour

// proof is what a proof is made of.
type proof struct {
	from    time.Time
	all     state.Rollup
	step    time.Duration
	series  []state.Rollup
	each    map[state.Kind][]state.Rollup
	minutes uint64
}

// live takes what the ledger holds: the last minute, or all since the larder began.
func (s *server) live(minute bool, now time.Time) *proof {
	e := s.l.Engine()
	p := &proof{from: e.Ledger.Began, each: map[state.Kind][]state.Rollup{}}
	sums := func(total, last func() ledger.Sums) ledger.Sums {
		if minute {
			return last()
		}
		return total()
	}
	if minute {
		p.from = now.Add(-time.Minute)
	}
	e.Patterns(func(x *engine.Pattern) {
		if d := sums(x.Numbers.Total, x.Numbers.Minute); d.Calls() > 0 {
			p.each[state.Pattern] = append(p.each[state.Pattern], state.Rollup{Name: string(x.ID), Text: x.Text, Sums: d})
		}
	})
	for kind, each := range map[state.Kind]func(func(string, *ledger.Tally)){state.Application: e.Ledger.Applications, state.Rule: e.Ledger.Rules} {
		each(func(name string, t *ledger.Tally) {
			if d := sums(t.Total, t.Minute); d.Calls() > 0 {
				p.each[kind] = append(p.each[kind], state.Rollup{Name: name, Sums: d})
			}
		})
	}
	p.all.Sums = sums(e.Ledger.Total.Total, e.Ledger.Total.Minute)
	found := e.Samples.Counts()
	p.all.Compared, p.all.Stale = found.Taken, found.Stale
	p.all.Drops = e.Ledger.Drops.Load()
	if minute {
		p.all.Compared, p.all.Stale, p.all.Drops = p.all.Samples.Count, 0, 0
		p.step = ledger.Slot
		byTime := map[int]ledger.Sums{}
		e.Ledger.Applications(func(_ string, t *ledger.Tally) {
			for i, x := range t.Slots() {
				byTime[i] = byTime[i].Plus(x)
			}
		})
		for i := range len(byTime) {
			p.series = append(p.series, state.Rollup{At: now.Add(time.Duration(i-len(byTime)) * p.step), Sums: byTime[i]})
		}
		return p
	}
	p.step = time.Minute
	if now.Sub(p.from) > 24*time.Hour {
		p.step = state.StepFor(p.from, now)
	}
	p.series = s.l.Book().State().Series(state.Everything, "", p.from, now, p.step)
	return p
}

// remembers takes what was taken down from a time on.
func (s *server) remembers(from, now time.Time) *proof {
	st := s.l.Book().State()
	step := state.StepFor(from, now)
	p := &proof{from: from, step: step, each: map[state.Kind][]state.Rollup{}}
	p.series = st.Series(state.Everything, "", from, now, step)
	for _, x := range p.series {
		p.all = p.all.Plus(x)
	}
	p.minutes = p.all.Minutes
	for _, kind := range []state.Kind{state.Pattern, state.Application, state.Rule} {
		p.each[kind] = st.Totals(kind, from, now, step)
	}
	return p
}

// baselines gives what is known of each pattern's calls while it was not kept, as far back as that is remembered.
func (s *server) baselines(now time.Time) map[string]ledger.Part {
	c := &s.baselined
	c.mu.Lock()
	if now.Sub(c.at) > time.Minute || c.by == nil {
		c.at, c.by = now, map[string]ledger.Part{}
		for _, x := range s.l.Book().State().Totals(state.Pattern, time.Unix(0, 0), now, 24*time.Hour) {
			c.by[x.Name] = x.Before
		}
	}
	out := maps.Clone(c.by)
	c.mu.Unlock()
	s.l.Engine().Patterns(func(p *engine.Pattern) {
		if b := p.Numbers.Total().Before; b.Calls > out[string(p.ID)].Calls { // the last minute is not taken down yet
			out[string(p.ID)] = b
		}
	})
	return out
}

func (p *proof) give(baselines map[string]ledger.Part, e *larder.Larder) *Proof {
	out := &Proof{From: p.from, Step: ms(p.step), Sums: sums(p.all.Sums), Drops: p.all.Drops, Compared: p.all.Compared, Stale: p.all.Stale, Minutes: p.minutes,
		Series: []ProofStep{}, Patterns: []Proved{}, Rules: []Proved{}, Applications: []Proved{}}
	for _, x := range p.series {
		out.Series = append(out.Series, ProofStep{x.At, x.Calls(), x.Count[ledger.Hit], ms(x.AllWaited()), ms(x.Spared), ms(x.Keepable)})
	}
	var all []ledger.Measured
	for _, x := range p.each[state.Pattern] {
		m := ledger.Measured{Sums: x.Sums, Baseline: baselines[x.Name]}
		all = append(all, m)
		row := proved(x, ledger.Measure(m))
		if m.Baseline.Calls > 0 {
			row.BeforeMean = ms(m.Baseline.Mean())
		}
		if m.Count[ledger.Hit]+m.Count[ledger.Miss] > 0 {
			row.AfterMean = ms(m.After().Mean())
		}
		if row.Text == "" {
			if known := e.Pattern(statement.ID(x.Name)); known != nil {
				row.Text = known.Text
			}
		}
		out.Patterns = append(out.Patterns, row)
	}
	for kind, list := range map[state.Kind]*[]Proved{state.Rule: &out.Rules, state.Application: &out.Applications} {
		for _, x := range p.each[kind] {
			one := proved(x, ledger.Measure(ledger.Measured{Sums: x.Sums}))
			one.Ways.Before = nil // other patterns were asked then
			*list = append(*list, one)
		}
	}
	measured := ledger.Measure(all...)
	measured.Fetches = p.all.Spared // which is the same but for what came while they were added up
	out.Spared = ways(measured)
	for _, list := range []*[]Proved{&out.Patterns, &out.Rules, &out.Applications} {
		slices.SortFunc(*list, func(a, b Proved) int {
			return cmp.Or(cmp.Compare(b.Spared, a.Spared), cmp.Compare(b.Waited, a.Waited), cmp.Compare(a.Name, b.Name))
		})
	}
	out.Patterns = out.Patterns[:min(len(out.Patterns), mostProved)]
	var memory, fetched ledger.Distribution
	e.Patterns(func(x *engine.Pattern) {
		if x.Numbers.Memory().Count() > 0 {
			memory.Merge(x.Numbers.Memory())
			fetched.Merge(x.Numbers.Origin())
		}
	})
	out.Memory, out.Origin = distribution(&memory, true), distribution(&fetched, true)
	return out
}

func proved(x state.Rollup, m ledger.Spared) Proved {
	out := Proved{Name: x.Name, Text: x.Text, Sums: sums(x.Sums), Ways: ways(m)}
	if mean, half := x.Samples.Mean(); half < math.MaxInt64 {
		out.SampleMean, out.SampleError = ms(mean), ms(half)
	}
	return out
}

func ways(m ledger.Spared) ThreeWays {
	out := ThreeWays{Fetches: ms(m.Fetches)}
	if m.Sample.Known {
		out.Sample = &Way{ms(m.Sample.Time), ms(m.Sample.Error), m.SampleCovers, ms(m.SampleLike)}
	}
	if m.Before.Known {
		out.Before = &Way{ms(m.Before.Time), 0, m.BeforeCovers, ms(m.BeforeLike)}
	}
	return out
}
