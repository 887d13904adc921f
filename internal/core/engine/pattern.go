package engine

import (
	"cmp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Pattern is one statement pattern: its text, what it does, and its numbers.
type Pattern struct {
	ID   statement.ID
	Text string
	// Syntax is how its statements are written; nil for what is not made of a statement's text.
	Syntax  *statement.Syntax
	Facts   *analysis.Facts
	Numbers *ledger.Pattern
	Inputs  *inputs.Pattern

	merged   atomic.Bool     // it is no longer told apart
	key      key             // of its text
	shapes   []key           // under the lock of the engine's patterns
	bytes    int64           // that it takes, with its shapes; under that lock as well
	own      bool            // it is answered by the larder itself
	passing  bool            // it stands for one statement only, and is not among the engine's patterns
	clock    freshness.Clock // moves when its results are dropped by hand; part of all its readings
	ruled    ruled
	resolved atomic.Pointer[[]*resolution]
}

// resolution is what a pattern does to one database under one state of its catalog.
type resolution struct {
	db     *database
	schema catalog.Schema
	path   string
	*catalog.Resolved
	dependencies freshness.Dependencies
	reads        []narrowRead
	columns      []freshness.Pinned // tables of which only some columns are read
	writes       []narrowWrite
	ifOwn        *resolution            // what it does if the tables that are missing are its session's own
	shape        freshness.Dependencies // what a result rests on that is answered whatever is written
	change       freshness.Change
	ruled        ruled
	amid         atomic.Pointer[amid]
}

// mostPaths bounds the search paths by which a pattern is resolved apart in one database.
const mostPaths = 64

// in gives what the pattern does to a database, in a session with the search path given, or nil where that is not
// known. A statement that the catalog has not been read for is resolved without one.
func (p *Pattern) in(e *Engine, db *database, path []string, pathKey string) *resolution {
	schema := db.current()
	if schema == nil || !schema.Ambiguous() {
		path, pathKey = nil, ""
	}
	have := p.resolved.Load()
	same := 0
	if have != nil {
		for _, r := range *have {
			if r.db == db && r.schema == schema {
				if r.path == pathKey {
					return r
				}
				same++
			}
		}
	}
	if same >= mostPaths && pathKey != "" {
		return p.in(e, db, nil, "")
	}
	var does *catalog.Resolved
	if schema == nil {
		does = catalog.Unread(p.Facts)
	} else {
		does = schema.Resolve(p.Facts, catalog.Hints{Path: path, Declared: e.Rules().Declared(p.ID, p.Text)})
	}
	r := newResolution(db, schema, pathKey, does, p)
	if own := r.IfOwn; own != nil {
		r.ifOwn = &resolution{
			db:           db,
			schema:       schema,
			path:         pathKey,
			Resolved:     own,
			dependencies: r.dependencies,
			shape:        r.shape,
		}
		for _, t := range own.Writes {
			r.ifOwn.change.Add(db.clocks.Table(t))
		}
		r.ifOwn.narrow(p)
	}
	list := []*resolution{r}
	if have != nil {
		for _, o := range *have {
			if o.db != db || o.schema == schema {
				list = append(list, o)
			}
		}
	}
	p.resolved.CompareAndSwap(have, &list) // who came first may win: it is only a memory of what can be made again
	return r
}

// newResolution gives what a pattern does by a catalog, or without one, with the clocks of that.
func newResolution(
	db *database,
	schema catalog.Schema,
	pathKey string,
	does *catalog.Resolved,
	p *Pattern,
) *resolution {
	r := &resolution{db: db, schema: schema, path: pathKey, Resolved: does}
	r.dependencies = append(db.clocks.Dependencies(r.Reads), &p.clock)
	r.shape = freshness.Dependencies{db.clocks.Schema, db.clocks.Shape, &p.clock}
	if r.System {
		r.dependencies = append(r.dependencies, db.clocks.System)
	}
	for _, t := range r.Writes {
		r.change.Add(db.clocks.Table(t))
	}
	r.narrow(p)
	if r.Everything && !freshness.Off(freshness.UnknownEffects) {
		r.change.Add(db.clocks.Every)
	}
	if r.SystemChanges {
		r.change.Add(db.clocks.System)
	}
	if r.Granted {
		r.change.Add(db.clocks.Grants)
	}
	if len(r.Defines) > 0 && !r.Everything {
		r.change.Add(r.definitionClocks()...)
	}
	return r
}

// Patterns calls f for every pattern, in no order.
func (e *Engine) Patterns(f func(*Pattern)) {
	e.patterns.each(f)
	if p := e.patterns.overflow.Load(); p != nil {
		f(p)
	}
}

// Pattern gives the pattern of an ID, or nil.
func (e *Engine) Pattern(id statement.ID) *Pattern {
	if p, ok := e.patterns.byID.Load(id); ok {
		return p.(*Pattern)
	}
	return nil
}

// others stands for the patterns that are not told apart.
func (e *Engine) others() *Pattern {
	o := e.patterns.overflow.Load()
	if o == nil {
		o = &Pattern{
			ID: statement.Name([]byte("(rare patterns)")), Text: "(rare patterns)",
			Facts: &analysis.Facts{Kind: analysis.KindSeveral, Reasons: []reason.Reason{reason.Of(reason.TooRare)}},
			clock: freshness.Clock{Name: patternClock},
		}
		o.Numbers, o.Inputs = e.newNumbers()
		if !e.patterns.overflow.CompareAndSwap(nil, o) {
			o = e.patterns.overflow.Load()
		}
	}
	return o
}

// rest gives a pattern for one statement beyond the limit, of whose effects this is known. Its numbers are summed.
func (e *Engine) rest(facts *analysis.Facts) *Pattern {
	o := e.others()
	facts.Bypasses(reason.TooRare)
	return &Pattern{
		ID:      o.ID,
		Text:    o.Text,
		Facts:   facts,
		Numbers: o.Numbers,
		Inputs:  o.Inputs,
		passing: true,
		clock:   freshness.Clock{Name: patternClock},
	}
}

// mergeRare makes room for new patterns: those that clients waited for least, that no rule names, of which nothing is
// kept and that were not asked in the last minute, are no longer told apart, and are counted in sum.
func (e *Engine) mergeRare(now time.Time) {
	if now.Sub(e.merged) < time.Second {
		return
	}
	most, room := e.opts.MostPatterns, e.patterns.room
	full := int(e.patterns.count.Load()) >= most-most/50 || room.Used() >= room.Limit()-room.Limit()/50
	if !full && room.Used() < room.Limit()/2 {
		return
	}
	e.merged = now
	type candidate struct {
		p      *Pattern
		waited time.Duration
	}
	var list []candidate
	set := e.Rules()
	e.patterns.each(func(p *Pattern) {
		if !p.named(set) && p.Numbers.Cached.Held.Load() == 0 && p.Numbers.Minute().Calls() == 0 &&
			(full || p.Numbers.Calls() <= fewCalls) {
			list = append(list, candidate{p, p.Numbers.Total().AllWaited()})
		}
	})
	slices.SortFunc(list, func(a, b candidate) int { return cmp.Compare(a.waited, b.waited) })
	if full {
		list = list[:min(len(list), most/10+1)]
	}
	var out []*Pattern
	var numbers []*ledger.Pattern
	for _, c := range list {
		c.p.merged.Store(true)
		out, numbers = append(out, c.p), append(numbers, c.p.Numbers)
	}
	e.patterns.remove(out)
	e.Ledger.Merge(numbers, e.others().Numbers)
	for _, p := range out {
		p.Inputs.Forget()
	}
}

// named says whether a rule speaks of this very pattern, and not of any that are like it.
func (p *Pattern) named(set *rules.Set) bool {
	return slices.ContainsFunc(p.candidates(set).list, func(r *rules.Rule) bool {
		return r.Pattern != "" || r.Text != "" && !strings.Contains(r.Text, "*")
	})
}

// fewCalls is how often a pattern was asked at most that is no longer told apart when half of the room is taken: a
// flood of what never comes again.
const fewCalls = 2

// numbers gives what statements of a pattern are counted in.
func (e *Engine) numbers(p *Pattern) *ledger.Pattern {
	if p.merged.Load() {
		return e.others().Numbers
	}
	return p.Numbers
}

// inputs gives where the inputs of a pattern's statements are followed.
func (e *Engine) inputs(p *Pattern) *inputs.Pattern {
	if p.merged.Load() {
		return e.others().Inputs
	}
	return p.Inputs
}

// newNumbers makes the numbers of one more pattern, and what follows its inputs.
func (e *Engine) newNumbers() (*ledger.Pattern, *inputs.Pattern) {
	n := e.Ledger.NewPattern()
	return n, e.Inputs.Pattern(n.Calls)
}

// patternClock is the name of the clock that each pattern has for itself. No table is named so.
const patternClock = "(pattern)"

// Does gives what a pattern does as far as is known now, in the database it was last resolved for.
func (e *Engine) Does(p *Pattern) *catalog.Resolved {
	if have := p.resolved.Load(); have != nil {
		last := (*have)[0]
		if last.schema == last.db.current() {
			return last.Resolved
		}
		return p.in(e, last.db, nil, "").Resolved
	}
	return catalog.Unread(p.Facts)
}

// Unsure says whether what stands against keeping it may only be that the catalog is not known at this moment.
func (p *Pattern) Unsure() bool {
	have := p.resolved.Load()
	return p.Facts.Plain() && (have == nil || (*have)[0].db.current() == nil)
}
