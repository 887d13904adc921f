// Package forecast foretells what a set of rules would do, by replaying the calls that the ledger remembers of a share
// of each pattern's inputs against an imagined memory that keeps by those rules.
package forecast

import (
	"cmp"
	"errors"
	"math"
	"slices"
	"time"

	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/rules"
)

// Pattern is one pattern that is replayed.
type Pattern struct {
	Trace inputs.Trace
	// Known is for how long there were no other calls than those of the trace, which may begin later.
	Known time.Duration
	// Origin is how long a fetch takes on average, Bytes how large a reply is, and Cached what a cached one takes of the
	// memory.
	Origin        time.Duration
	Bytes, Cached float64
	// Rules are those that may decide for it, in order; Possible says whether its results can be kept, and TimeAccepted
	// whether they can where a rule accepts functions of the time.
	Rules                  []*rules.Rule
	Possible, TimeAccepted bool
}

// shortest is over how long calls are averaged at least, where so much is known: that a pattern was not asked before its first
// call says as much of how often it will be as the calls since.
const shortest = time.Minute

// seen is over how long the pattern's calls are averaged.
func (p *Pattern) seen() time.Duration { return max(p.Trace.Span, min(p.Known, shortest)) }

// Run is what is replayed, and by what.
type Run struct {
	Patterns []Pattern
	// Classes are who asks, by the numbers in the traces.
	Classes []inputs.Class
	// Limit is how many bytes may be kept.
	Limit int64
	// Progress, if it is set, is told from time to time how much is done, from 0 to 1; the replay stops when it gives
	// false.
	Progress func(done float64) (more bool)
}

// Outcome is what rules would do to the calls they are about, a minute.
type Outcome struct {
	Patterns    int
	Calls, Hits float64
	// Saved is the waiting avoided.
	Saved time.Duration
	// Drops is how many results writes would drop.
	Drops float64
	// Memory is the most that results would take, in bytes; it is no rate.
	Memory float64
	// Age is how old answers from memory would be, on average, and Oldest what 99 in 100 are younger than; no rates.
	Age, Oldest time.Duration

	ages agesHistogram
}

// Forecast is what a set of rules would do.
type Forecast struct {
	// Limit is the memory that it is for.
	Limit int64
	// Span is for how long calls were remembered, of most waiting at least.
	Span time.Duration
	Sum  Outcome
	// Rules are by the rules' names.
	Rules map[string]*Outcome
	// Full is set when the limit of memory would be reached, so that results are pushed out.
	Full bool
}

// ErrStopped is given when the replay was stopped.
var ErrStopped = errors.New("the forecast was stopped")

const (
	fromMemory = 50 * time.Microsecond // about what an answer from memory takes
	// warmUp is the first part of a trace, in which results are kept but nothing is counted: memory is not empty for
	// long.
	warmUp = 4 // a quarter
)

// kept is an imagined result.
type kept struct {
	at      int64 // when it was fetched, in ticks before the present, which are negative
	changes uint32
	bytes   float64
	stands  float64 // for so many results
	of      *replayed
	by      *Outcome
	key     key
}

type key struct {
	pattern int
	input   uint64
	ttlOnly bool
}

// replayed is a pattern, and what has come of it so far.
type replayed struct {
	*Pattern
	from    int64   // counting begins
	calls   float64 // for all inputs
	rest    float64 // the part of it of inputs that stand for others
	decided map[uint16]*rules.Rule
	by      map[*rules.Rule]*Outcome
	inputs  map[uint64]*inputCalls
	memory  float64           // of its results now
	live    map[string]*alive // by database
}

// alive is what is kept of a pattern in one database, and how often what it reads had changed when it was last asked.
type alive struct {
	changes uint32
	keys    map[key]*room
}

// inputCalls is what came of one input's calls.
type inputCalls struct{ calls, hits float64 }

// call is one record of a trace, with its time in ticks before the present.
type call struct {
	at int64
	of int
	*inputs.Asked
}

// calls puts the records of all traces in order.
func (run *Run) calls() []call {
	var out []call
	for i := range run.Patterns {
		t := &run.Patterns[i].Trace
		for j := range t.Asked {
			out = append(out, call{int64(t.Asked[j].At) - int64(t.Now), i, &t.Asked[j]})
		}
	}
	slices.SortStableFunc(out, func(a, b call) int { return cmp.Compare(a.at, b.at) })
	return out
}

// Make replays.
func Make(run Run) (*Forecast, error) { return run.replay(run.calls(), 0, 1) }

// Curve replays once for each of some limits of memory, in bytes.
func Curve(run Run, limits []int64) (out []*Forecast, err error) {
	calls := run.calls()
	for i, limit := range limits {
		run.Limit = limit
		f, err := run.replay(calls, float64(i)/float64(len(limits)), 1/float64(len(limits)))
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// replay replays the calls; it is a part of what is to be done, behind another part.
func (run *Run) replay(calls []call, before, part float64) (*Forecast, error) {
	patterns := make([]*replayed, len(run.Patterns))
	for i := range run.Patterns {
		p := &run.Patterns[i]
		r := &replayed{
			Pattern: p,
			decided: map[uint16]*rules.Rule{},
			by:      map[*rules.Rule]*Outcome{},
			inputs:  map[uint64]*inputCalls{},
			live:    map[string]*alive{},
		}
		r.from = -int64(p.Trace.Span/inputs.Tick) * (warmUp - 1) / warmUp
		patterns[i] = r
	}
	f := &Forecast{Limit: run.Limit, Rules: map[string]*Outcome{}}
	m, err := newMemory(run.Limit, run.Patterns)
	if err != nil {
		return nil, err
	}
	for i, c := range calls {
		if i%(1<<14) == 0 && run.Progress != nil && !run.Progress(before+part*float64(i)/float64(len(calls))) {
			return nil, ErrStopped
		}
		patterns[c.of].take(m, c.of, c.at, c.Asked, run.Classes)
	}
	f.Full = m.full
	for _, r := range patterns {
		r.sum(f)
	}
	f.Sum.Memory = m.most
	for _, o := range f.Rules {
		o.Age, o.Oldest = o.ages.mean(), o.ages.below(0.99)
	}
	f.Sum.Age, f.Sum.Oldest = f.Sum.ages.mean(), f.Sum.ages.below(0.99)
	f.Span = span(run.Patterns)
	return f, nil
}

// rule gives the rule by which calls of a class are kept, or nil.
func (r *replayed) rule(class uint16, classes []inputs.Class) *rules.Rule {
	rule, ok := r.decided[class]
	if ok {
		return rule
	}
	who := rules.Caller{}
	if int(class) < len(classes) {
		c := classes[class]
		who = rules.Caller{
			Application: c.Application,
			User:        c.User,
			Database:    c.Database,
			Address:     c.Client,
			Comment:     []byte(c.Comment),
		}
	}
	rule = rules.Deciding(r.Rules, &who)
	if rule != nil &&
		(!rule.Caches() || !r.Possible && !(rule.TimeFunctions && r.TimeAccepted) || rule.SizeLimit > 0 && r.Bytes > float64(rule.SizeLimit)) {
		rule = nil
	}
	r.decided[class] = rule
	return rule
}

// take takes one call, or several right behind each other.
func (r *replayed) take(m *memory, index int, at int64, a *inputs.Asked, classes []inputs.Class) {
	counts := at >= r.from
	stands := r.Trace.Stands(a.Input)
	if counts {
		r.calls += float64(a.Calls) * stands
		if stands > 1 {
			r.rest += float64(a.Calls) * stands
		}
	}
	live := r.written(m, a, classes, counts)
	rule := r.rule(a.Class, classes)
	if rule == nil {
		return
	}
	o := r.by[rule]
	if o == nil {
		o = &Outcome{}
		r.by[rule] = o
	}
	if counts {
		o.Calls += float64(a.Calls) * stands
	}
	if a.Blocked {
		return
	}
	ttl := int64(math.MaxInt64)
	if rule.TTL > 0 {
		ttl = int64(rule.TTL / inputs.Tick)
	}
	k := key{index, a.Input, rule.TTLOnly}
	place := m.in(rule)
	have := place.get(k, float64(a.Calls))
	var hits, age float64
	switch {
	case have != nil && at-have.at < ttl && (rule.TTLOnly || have.changes == a.Changes):
		hits, age = float64(a.Calls), float64(at-have.at)
	default:
		// Those right behind the first find its result, unless it is over by then.
		hits = float64(a.Calls-1) * min(1, float64(rule.TTL)/max(float64(r.Trace.Grain), 1))
		if rule.TTL == 0 {
			hits = float64(a.Calls - 1)
		}
		m.put(place, &kept{at, a.Changes, r.Cached * stands, stands, r, o, k})
		if !rule.TTLOnly {
			live.keys[k] = place
		}
	}
	if counts {
		hits *= 1 - rule.Sample()
		o.Hits += hits * stands
		in := r.inputs[a.Input]
		if in == nil {
			in = &inputCalls{}
			r.inputs[a.Input] = in
		}
		in.calls += float64(a.Calls)
		in.hits += hits
		o.ages.add(age, hits*stands)
	}
	o.Memory = max(o.Memory, r.memory)
}

// written drops what a write dropped that came before a call.
func (r *replayed) written(m *memory, a *inputs.Asked, classes []inputs.Class, counts bool) *alive {
	database := ""
	if int(a.Class) < len(classes) {
		database = classes[a.Class].Database
	}
	live := r.live[database]
	if live == nil {
		live = &alive{changes: a.Changes, keys: map[key]*room{}}
		r.live[database] = live
	}
	if live.changes == a.Changes {
		return live
	}
	live.changes = a.Changes
	for k, place := range live.keys {
		if x, ok := place.cache.Invalidate(k); ok && counts {
			x.by.Drops += x.stands
		}
	}
	clear(live.keys)
	return live
}

// sum adds what came of a pattern to the whole, for all of its inputs.
func (r *replayed) sum(f *Forecast) {
	if r.calls == 0 || r.Trace.Span == 0 {
		return
	}
	// Calls beyond those to be expected of the inputs that were followed went to the few that are asked most, or came
	// from there: they are taken to be hits as often as those asked most of the inputs that were followed. Source of
	// the method: the same as for ledger's outlook, "SHARDS-adj".
	counted := 1 - 1.0/warmUp
	adjust := max(r.Trace.Calls*counted-r.calls, -r.rest/2)
	if r.Trace.Inputs == 1 {
		adjust = 0
	}
	minutes := r.seen().Minutes() * counted
	scale := r.Trace.Calls * counted / r.calls / minutes
	var whole Outcome
	for rule, o := range r.by {
		if o.Hits > 0 && o.Calls > 0 {
			share := o.Hits / o.Calls
			o.Hits = o.Calls * min(max((share*r.calls+adjust*r.hottest())/(r.calls+adjust), 0), 1)
		}
		one := Outcome{
			Patterns: 1, Calls: o.Calls * scale, Hits: o.Hits * scale, Drops: o.Drops / minutes, Memory: o.Memory,
			Saved: time.Duration(o.Hits * scale * float64(max(r.Origin-fromMemory, 0))), ages: o.ages,
		}
		for i := range one.ages {
			one.ages[i] *= scale
		}
		if f.Rules[rule.Name] == nil {
			f.Rules[rule.Name] = &Outcome{}
		}
		f.Rules[rule.Name].add(one)
		whole.add(one)
	}
	if len(r.by) > 0 {
		whole.Patterns = 1
		f.Sum.add(whole)
	}
}

// hottest gives the share of hits of the inputs asked most of those that stand for others, which a tenth of their calls
// went to.
func (r *replayed) hottest() float64 {
	var list []*inputCalls
	var all float64
	for h, in := range r.inputs {
		if !r.Trace.Hot[h] {
			list, all = append(list, in), all+in.calls
		}
	}
	slices.SortFunc(
		list,
		func(a, b *inputCalls) int { return cmp.Or(cmp.Compare(b.calls, a.calls), cmp.Compare(b.hits, a.hits)) },
	)
	var sum inputCalls
	for _, in := range list {
		if sum.calls >= all/10 {
			break
		}
		sum.calls, sum.hits = sum.calls+in.calls, sum.hits+in.hits
	}
	return sum.hits / max(sum.calls, 1)
}

func (o *Outcome) add(x Outcome) {
	o.Patterns += x.Patterns
	o.Calls += x.Calls
	o.Hits += x.Hits
	o.Saved += x.Saved
	o.Drops += x.Drops
	o.Memory += x.Memory
	for i := range o.ages {
		o.ages[i] += x.ages[i]
	}
}

// span gives for how long calls were remembered of the patterns that make nine tenths of the waiting.
func span(patterns []Pattern) time.Duration {
	type part struct {
		span   time.Duration
		waited float64
	}
	var parts []part
	var all, sum float64
	for _, p := range patterns {
		if p.seen() > 0 {
			w := p.Trace.Calls / p.seen().Minutes() * float64(p.Origin)
			parts, all = append(parts, part{p.Known, w}), all+w
		}
	}
	slices.SortFunc(parts, func(a, b part) int { return cmp.Compare(b.span, a.span) })
	for _, p := range parts {
		if sum += p.waited; sum >= 0.9*all {
			return p.span
		}
	}
	return 0
}

// agesHistogram counts answers by their age, in steps of half a power of two of Ticks.
type agesHistogram [64]float64

func (h *agesHistogram) add(ticks, answers float64) {
	h[min(int(2*math.Log2(ticks+1)), len(h)-1)] += answers
}

// middle gives the age that a step stands for.
func middle(step int) time.Duration {
	return time.Duration((math.Exp2((float64(step)+0.5)/2) - 1) * float64(inputs.Tick))
}

func (h *agesHistogram) mean() time.Duration {
	var n, sum float64
	for i, answers := range h {
		n += answers
		sum += answers * float64(middle(i))
	}
	if n == 0 {
		return 0
	}
	return time.Duration(sum / n)
}

func (h *agesHistogram) below(share float64) time.Duration {
	var all, n float64
	for _, answers := range h {
		all += answers
	}
	for i, answers := range h {
		if n += answers; n > 0 && n >= share*all {
			return middle(i)
		}
	}
	return 0
}
