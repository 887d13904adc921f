package engine

import (
	"hash/maphash"
	"sync"
	"sync/atomic"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// Pattern is one statement pattern: its text, what it does, and its numbers.
type Pattern struct {
	ID      statement.ID
	Text    string
	Facts   *analysis.Facts
	Numbers *ledger.Pattern

	passing  bool            // it stands for one statement only, and is not among the engine's patterns
	clock    freshness.Clock // moves when its results are dropped by hand; part of all its readings
	rule     atomic.Pointer[rules.Rule]
	resolved atomic.Pointer[[]*resolution]
}

// Rule gives the rule that decides for the pattern, or nil.
func (p *Pattern) Rule() *rules.Rule { return p.rule.Load() }

// resolution is what a pattern does to one database under one state of its catalog.
type resolution struct {
	db     *database
	schema *catalog.Schema
	*catalog.Resolved
	readings freshness.Readings
	change   freshness.Change
}

// in gives what the pattern does to a database. A statement that the catalog has not been read for is resolved
// without one.
func (p *Pattern) in(db *database) *resolution {
	schema := db.current()
	have := p.resolved.Load()
	if have != nil {
		for _, r := range *have {
			if r.db == db && r.schema == schema {
				return r
			}
		}
	}
	r := &resolution{db: db, schema: schema}
	if schema == nil {
		r.Resolved = catalog.Unread(p.Facts)
	} else {
		r.Resolved = schema.Resolve(p.Facts)
	}
	r.readings = append(db.clocks.Readings(r.Reads), &p.clock)
	for _, t := range r.Writes {
		r.change.Add(db.clocks.Table(t))
	}
	if r.Everything {
		r.change.Add(db.clocks.Every)
	}
	list := []*resolution{r}
	if have != nil {
		for _, o := range *have {
			if o.db != db {
				list = append(list, o)
			}
		}
	}
	p.resolved.CompareAndSwap(have, &list) // who came first may win: it is only a memory of what can be made again
	return r
}

// patterns holds all patterns by their text, in parts so that sessions do not wait for each other.
type patterns struct {
	parts [32]struct {
		sync.RWMutex
		byText map[string]*Pattern
	}
	count atomic.Int64
	byID  sync.Map // statement.ID to *Pattern

	overflow atomic.Pointer[Pattern]
}

var seed = maphash.MakeSeed()

// find gives the pattern with this text, or nil. It does not hold on to the text.
func (ps *patterns) find(text []byte) *Pattern {
	part := &ps.parts[maphash.Bytes(seed, text)%uint64(len(ps.parts))]
	part.RLock()
	p := part.byText[string(text)]
	part.RUnlock()
	return p
}

// add puts a pattern in, unless another session was first; it gives the one that is in.
func (ps *patterns) add(p *Pattern, numbers func() *ledger.Pattern) *Pattern {
	part := &ps.parts[maphash.String(seed, p.Text)%uint64(len(ps.parts))]
	part.Lock()
	defer part.Unlock()
	if have := part.byText[p.Text]; have != nil {
		return have
	}
	if part.byText == nil {
		part.byText = map[string]*Pattern{}
	}
	p.Numbers = numbers()
	part.byText[p.Text] = p
	ps.byID.Store(p.ID, p)
	ps.count.Add(1)
	return p
}

func (ps *patterns) each(f func(*Pattern)) {
	for i := range ps.parts {
		part := &ps.parts[i]
		part.RLock()
		list := make([]*Pattern, 0, len(part.byText))
		for _, p := range part.byText {
			list = append(list, p)
		}
		part.RUnlock()
		for _, p := range list {
			f(p)
		}
	}
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

// learn makes a pattern of a statement seen for the first time; its text is parsed here and never again.
func (e *Engine) learn(text []byte, sql []byte) *Pattern {
	if int(e.patterns.count.Load()) >= e.opts.MostPatterns {
		return e.rest(sql)
	}
	p := &Pattern{ID: statement.Name(text), Text: string(text), Facts: e.opts.Facts(string(sql)), clock: freshness.Clock{Name: patternClock}}
	p.rule.Store(e.rules.Load().For(p.ID))
	q := e.patterns.add(p, e.Ledger.NewPattern)
	q.rule.Store(e.rules.Load().For(q.ID)) // rules may have changed in between
	return q
}

// rest stands for the patterns beyond the limit. Each statement is parsed for its effects, and its numbers are summed.
func (e *Engine) rest(sql []byte) *Pattern {
	o := e.patterns.overflow.Load()
	if o == nil {
		o = &Pattern{
			ID: statement.Name([]byte("(all further patterns)")), Text: "(all further patterns)",
			Facts: &analysis.Facts{Verb: "several", Reasons: []string{tooMany}}, Numbers: e.Ledger.NewPattern(),
			clock: freshness.Clock{Name: patternClock},
		}
		if !e.patterns.overflow.CompareAndSwap(nil, o) {
			o = e.patterns.overflow.Load()
		}
	}
	facts := e.opts.Facts(string(sql))
	facts.AddReason(tooMany)
	return &Pattern{ID: o.ID, Text: o.Text, Facts: facts, Numbers: o.Numbers, passing: true, clock: freshness.Clock{Name: patternClock}}
}

// patternClock is the name of the clock that each pattern has for itself. No table is named so.
const patternClock = "(pattern)"

const tooMany = "more patterns are in use than are told apart"

// Does gives what the pattern does as far as is known now, in the database it was last used in.
func (p *Pattern) Does() *catalog.Resolved {
	if have := p.resolved.Load(); have != nil {
		return p.in((*have)[0].db).Resolved
	}
	return catalog.Unread(p.Facts)
}

// Unsure says whether what stands against keeping it may only be that the catalog is not known at this moment.
func (p *Pattern) Unsure() bool {
	have := p.resolved.Load()
	return p.Facts.Plain() && (have == nil || (*have)[0].db.current() == nil)
}
