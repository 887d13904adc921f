package findings

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/state"
)

// mostProved bounds the patterns of a proof: of the others only the sum is told.
const mostProved = 100

// Prover says what was spared. It remembers for a while what it found in the numbers that were taken down. Its zero
// value is ready to use.
type Prover struct {
	proofs    proofs
	baselined baselined
}

// Prove says what was spared since a time, which is LastMinute, SinceStart, SinceChange or a length; it is nil for what is none.
func (x *Prover) Prove(e *larder.Larder, st *state.Store, since string, now time.Time) *control.Proof {
	if since == control.SinceChange {
		from, ok := sinceChange(st, e.Ledger.Began)
		var out *control.Proof
		counted := ""
		switch {
		case !ok:
			counted = control.SinceStart
		case now.Sub(from) < time.Minute+proofAge: // no whole minute is taken down yet
			counted = control.LastMinute
		}
		if counted != "" {
			out = x.Prove(e, st, counted, now)
		} else {
			out = x.proofs.get(fmt.Sprint(since, from.Unix()), now, func() *control.Proof {
				out := remembers(st, from, now).give(x.baselines(e, st, now), e)
				out.At = now
				return out
			})
		}
		same := *out // which may be remembered
		same.Since, same.Counted = since, counted
		return &same
	}
	if since == control.LastMinute || since == control.SinceStart {
		out := live(e, st, since == control.LastMinute, now).give(x.baselines(e, st, now), e)
		out.At, out.Since = now, since
		return out
	}
	return x.proofs.get(since, now, func() *control.Proof {
		length, err := time.ParseDuration(since)
		if err != nil || length < time.Minute || length > longestProof {
			return nil
		}
		out := remembers(st, now.Add(-length), now).give(x.baselines(e, st, now), e)
		out.At, out.Since = now, since
		return out
	})
}

// Step makes the API's view of one step of time.
func Step(x *state.Rollup) control.ProofStep {
	return control.ProofStep{
		At: x.At, Calls: x.Calls(), Hits: x.Count[ledger.Hit], Waited: Milliseconds(x.AllWaited()), Saved: Milliseconds(x.Saved),
		Could: Milliseconds(x.Cacheable), P50: Milliseconds(x.P50), P99: Milliseconds(x.P99),
	}
}

// sinceChange gives the first whole minute since the last change of the rules, and false if there was none since the
// larder started.
func sinceChange(st *state.Store, began time.Time) (time.Time, bool) {
	history := st.History(1)
	if len(history) == 0 {
		return began, false
	}
	last := history[len(history)-1]
	if last.Kind == "start" || last.At.Before(began) {
		return began, false
	}
	return last.At.Add(time.Minute - 1).Truncate(time.Minute), true
}

// proofs remembers what was found in the numbers taken down, which change once a minute.
type proofs struct {
	mu sync.Mutex
	by map[string]*control.Proof
}

// baselined remembers what is known of patterns' calls while they were not kept.
type baselined struct {
	mu sync.Mutex
	at time.Time
	by map[string]ledger.Part
}

// proofAge is for how long a proof is good.
const proofAge = 15 * time.Second

func (p *proofs) get(since string, now time.Time, fresh func() *control.Proof) *control.Proof {
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
			p.by = map[string]*control.Proof{}
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
func live(e *larder.Larder, st *state.Store, minute bool, now time.Time) *proof {
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
			p.each[state.Pattern] = append(
				p.each[state.Pattern],
				state.Rollup{Name: string(x.ID), Text: x.Text, Sums: d},
			)
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
			p.series = append(
				p.series,
				state.Rollup{At: now.Add(time.Duration(i-len(byTime)) * p.step), Sums: byTime[i]},
			)
		}
		return p
	}
	p.step = time.Minute
	if now.Sub(p.from) > 24*time.Hour {
		p.step = state.StepFor(p.from, now)
	}
	p.series = st.Series(state.Everything, "", p.from, now, p.step)
	return p
}

// remembers takes what was taken down from a time on.
func remembers(st *state.Store, from, now time.Time) *proof {
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
func (x *Prover) baselines(e *larder.Larder, st *state.Store, now time.Time) map[string]ledger.Part {
	c := &x.baselined
	c.mu.Lock()
	if now.Sub(c.at) > time.Minute || c.by == nil {
		c.at, c.by = now, map[string]ledger.Part{}
		for _, x := range st.Totals(state.Pattern, time.Unix(0, 0), now, 24*time.Hour) {
			c.by[x.Name] = x.Before
		}
	}
	out := maps.Clone(c.by)
	c.mu.Unlock()
	e.Patterns(func(p *engine.Pattern) {
		if b := p.Numbers.Total().Before; b.Calls > out[string(p.ID)].Calls { // the last minute is not taken down yet
			out[string(p.ID)] = b
		}
	})
	return out
}

func (p *proof) give(baselines map[string]ledger.Part, e *larder.Larder) *control.Proof {
	out := &control.Proof{
		From:         p.from,
		Step:         Milliseconds(p.step),
		Sums:         Sums(p.all.Sums),
		Drops:        p.all.Drops,
		Compared:     p.all.Compared,
		Stale:        p.all.Stale,
		Minutes:      p.minutes,
		Series:       []control.ProofStep{},
		Patterns:     []control.Proved{},
		Rules:        []control.Proved{},
		Applications: []control.Proved{},
	}
	for _, x := range p.series {
		out.Series = append(out.Series, Step(&x))
	}
	var all []ledger.Measured
	for _, x := range p.each[state.Pattern] {
		m := ledger.Measured{Sums: x.Sums, Baseline: baselines[x.Name]}
		all = append(all, m)
		row := proved(x, ledger.Measure(m))
		if m.Baseline.Calls > 0 {
			row.BeforeMean = Milliseconds(m.Baseline.Mean())
		}
		if m.Count[ledger.Hit]+m.Count[ledger.Miss] > 0 {
			row.AfterMean = Milliseconds(m.After().Mean())
		}
		if row.Text == "" {
			if known := e.Pattern(statement.ID(x.Name)); known != nil {
				row.Text = known.Text
			}
		}
		out.Patterns = append(out.Patterns, row)
	}
	for kind, list := range map[state.Kind]*[]control.Proved{state.Rule: &out.Rules, state.Application: &out.Applications} {
		for _, x := range p.each[kind] {
			one := proved(x, ledger.Measure(ledger.Measured{Sums: x.Sums}))
			one.Ways.Before = nil // other patterns were asked then
			*list = append(*list, one)
		}
	}
	measured := ledger.Measure(all...)
	measured.Fetches = p.all.Saved // which is the same but for what came while they were added up
	out.Saved = ways(measured)
	for _, list := range []*[]control.Proved{&out.Patterns, &out.Rules, &out.Applications} {
		slices.SortFunc(*list, func(a, b control.Proved) int {
			return cmp.Or(cmp.Compare(b.Saved, a.Saved), cmp.Compare(b.Waited, a.Waited), cmp.Compare(a.Name, b.Name))
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
	out.Memory, out.Origin = Distribution(&memory, true), Distribution(&fetched, true)
	return out
}

func proved(x state.Rollup, m ledger.Saved) control.Proved {
	out := control.Proved{Name: x.Name, Text: x.Text, Sums: Sums(x.Sums), Ways: ways(m)}
	if mean, half := x.Samples.Mean(); half < math.MaxInt64 {
		out.SampleMean, out.SampleError = Milliseconds(mean), Milliseconds(half)
	}
	return out
}

func ways(m ledger.Saved) control.ThreeWays {
	out := control.ThreeWays{Fetches: Milliseconds(m.Fetches)}
	if m.Sample.Known {
		out.Sample = &control.Way{
			Saved:  Milliseconds(m.Sample.Time),
			Error:  Milliseconds(m.Sample.Error),
			Covers: m.SampleCovers,
			Like:   Milliseconds(m.SampleLike),
		}
	}
	if m.Before.Known {
		out.Before = &control.Way{
			Saved:  Milliseconds(m.Before.Time),
			Error:  0,
			Covers: m.BeforeCovers,
			Like:   Milliseconds(m.BeforeLike),
		}
	}
	return out
}
