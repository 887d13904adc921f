package daemon

import (
	"cmp"
	"slices"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
	"jollylarder/internal/state"
)

// rollups takes the numbers of each minute down, and what came true of what was applied.
type rollups struct {
	l    *Larder
	last map[subject]counted
	at   time.Time
	// times are how long calls had taken of the patterns that were told apart in the last minute.
	times map[statement.ID]ledger.Times
}

// subject is what numbers are of.
type subject struct {
	kind state.Kind
	name string
}

// counted is what had been counted of a subject.
type counted struct {
	ledger.Sums
	drops, compared, stale   uint64
	evicted, expired, unused uint64
}

// minute is how long a step of the numbers is.
const minute = time.Minute

// tick is called from time to time; at the end of each minute it takes down what came.
func (r *rollups) tick(now time.Time) {
	at := now.Truncate(minute)
	if r.last == nil {
		r.last, r.at = map[subject]counted{}, at
		r.take(at) // what was before is nobody's
		return
	}
	if !at.After(r.at) {
		return
	}
	rows := r.take(r.at)
	r.at = at
	r.l.state.AddRollups(rows, now)
	r.l.state.Flush()
	r.actualOf(now)
	r.l.rememberInputs()
}

// take gives what was counted since it was last called.
func (r *rollups) take(at time.Time) (out []state.Rollup) {
	e := r.l.engine
	seen := map[subject]counted{}
	row := func(s subject, now counted) (state.Rollup, bool) {
		old, known := r.last[s]
		seen[s] = now
		d := state.Rollup{
			At:       at,
			Kind:     s.kind,
			Name:     s.name,
			Minutes:  1,
			Sums:     now.Sums.Minus(old.Sums),
			Drops:    now.drops - old.drops,
			Compared: now.compared - old.compared,
			Stale:    now.stale - old.stale,
			Evicted:  came(now.evicted, old.evicted),
			Expired:  came(now.expired, old.expired),
			Unused:   came(now.unused, old.unused),
		}
		if known && now.Calls() < old.Calls() { // a pattern was merged into others, and came anew
			return d, false
		}
		return d, now != old
	}
	var patterns []state.Rollup
	var gone counted // of results, whatever pattern they were of
	e.Patterns(func(p *engine.Pattern) {
		c := &p.Numbers.Cached
		gone.evicted, gone.expired, gone.unused = gone.evicted+c.Evicted.Load(), gone.expired+c.Expired.Load(), gone.unused+c.Unused.Load()
		if d, ok := row(subject{state.Pattern, string(p.ID)}, counted{Sums: p.Numbers.Total(), drops: p.Numbers.Drops.Load()}); ok {
			d.Text, d.Memory = p.Text, float64(p.Numbers.Cached.HeldBytes.Load())
			patterns = append(patterns, d)
		}
	})
	patterns = most(patterns, state.Pattern, at)
	r.percentiles(patterns)
	out = append(out, patterns...)
	var tables []state.Rollup
	for _, t := range e.Tables() {
		now := counted{drops: t.Drops}
		now.Count[ledger.Write] = t.Writes
		if d, ok := row(subject{state.Table, t.Table}, now); ok {
			tables = append(tables, d)
		}
	}
	out = append(out, most(tables, state.Table, at)...)
	tallies := func(kind state.Kind, each func(func(string, *ledger.Tally))) {
		var list []state.Rollup
		each(func(name string, t *ledger.Tally) {
			if d, ok := row(subject{kind, name}, counted{Sums: t.Total()}); ok {
				list = append(list, d)
			}
		})
		out = append(out, most(list, kind, at)...)
	}
	tallies(state.Application, e.Ledger.Applications)
	tallies(state.Rule, e.Ledger.Rules)
	found := e.Samples.Counts()
	taken, stale := found.Taken, found.Stale
	all, _ := row(
		subject{},
		counted{
			Sums: e.Ledger.Total.Total(), drops: e.Ledger.Drops.Load(), compared: taken, stale: stale,
			evicted: gone.evicted, expired: gone.expired, unused: gone.unused,
		},
	)
	_, bytes, _ := e.Cached()
	all.Memory = float64(bytes)
	r.last = seen
	return append(out, all)
}

// came is what a count grew by. Results of a pattern that was merged into others are counted nowhere for a moment.
func came(now, before uint64) uint64 { return now - min(now, before) }

// percentiles adds how long the calls of patterns took since the last minute, where that is known: of those that were
// told apart then, and of those that are new.
func (r *rollups) percentiles(patterns []state.Rollup) {
	before := r.times
	r.times = make(map[statement.ID]ledger.Times, len(patterns))
	for i := range patterns {
		d := &patterns[i]
		p := r.l.engine.Pattern(statement.ID(d.Name))
		if p == nil {
			continue
		}
		now := p.Numbers.Times()
		old, known := before[p.ID]
		r.times[p.ID] = now
		if known || d.Calls() == p.Numbers.Calls() {
			times := now.Since(old)
			d.P50, d.P99 = times.Percentile(0.5), times.Percentile(0.99)
		}
	}
	for id, old := range before { // of those that were not called since, what is known stays true
		p := r.l.engine.Pattern(id)
		if _, known := r.times[id]; !known && p != nil && len(r.times) < 2*state.Each && p.Numbers.Times() == old {
			r.times[id] = old
		}
	}
}

// most tells apart the subjects that were waited for most, or written most, and sums the others.
func most(list []state.Rollup, kind state.Kind, at time.Time) []state.Rollup {
	slices.SortFunc(list, func(a, b state.Rollup) int {
		return cmp.Or(
			cmp.Compare(b.AllWaited()+b.Saved, a.AllWaited()+a.Saved),
			cmp.Compare(b.Count[ledger.Write], a.Count[ledger.Write]),
		)
	})
	if len(list) <= state.Each {
		return list
	}
	others := state.Rollup{At: at, Kind: kind, Name: state.Others, Minutes: 1}
	for _, d := range list[state.Each:] {
		d.Minutes = 0
		bytes := others.Memory + d.Memory
		others = others.Plus(d)
		others.Memory = bytes
	}
	return append(list[:state.Each], others)
}

// rememberInputs remembers what is to be fetched at the start, where values may be kept.
func (l *Larder) rememberInputs() {
	l.mu.Lock()
	allowed := l.cfg.StoreValues
	l.mu.Unlock()
	if !allowed {
		return
	}
	for _, r := range l.engine.Rules().List() {
		if r.WarmUp > 0 {
			if keys := l.engine.MostUsed(r.Name, r.WarmUp); len(keys) > 0 {
				l.state.PutInputs(r.Name, keys)
			}
		}
	}
}

// warmUp has fetched what was remembered, and what a larder before has handed over. What no rule asks for any more is
// forgotten, and everything where values may not be kept.
func (l *Larder) warmUp() {
	var wanted []string
	for _, r := range l.engine.Rules().List() {
		if r.WarmUp > 0 && l.cfg.StoreValues {
			wanted = append(wanted, r.Name)
		}
	}
	l.state.ForgetInputs(wanted)
	for _, name := range wanted {
		r := l.engine.Rules().Named(name)
		keys := l.state.Inputs(name)
		l.engine.WarmUp(r, keys[:min(len(keys), r.WarmUp)])
	}
	if l.cfg.KeepWarm {
		l.engine.WarmUpAll(l.offered.Inputs)
	}
	l.offered.Inputs = nil
}
