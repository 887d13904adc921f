package engine

import (
	"runtime"
	"slices"
	"sync/atomic"

	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// ruled holds what a set of rules comes to somewhere: for a pattern, or for what it does to a database. It is worked
// out once for a set; before a set is put in force it is worked out for everything that is known, so that no statement
// waits.
type ruled struct{ now, next atomic.Pointer[ruling] }

type ruling struct {
	set   *rules.Set
	list  []*rules.Rule
	keeps bool // one of them keeps results now
}

func newRuling(set *rules.Set, list []*rules.Rule) *ruling {
	return &ruling{set, list, slices.ContainsFunc(list, (*rules.Rule).Caches)}
}

// get gives the rules of the set in force, worked out by make if they are not known yet.
func (r *ruled) get(set *rules.Set, make func() []*rules.Rule) *ruling {
	if x := r.now.Load(); x != nil && x.set == set {
		return x
	}
	x := r.next.Load()
	if x == nil || x.set != set {
		x = newRuling(set, make())
	}
	r.now.Store(x)
	return x
}

// prepare works the rules out for a set that is to be put in force.
func (r *ruled) prepare(set *rules.Set, make func() []*rules.Rule) {
	r.next.Store(newRuling(set, make()))
}

// candidates gives the rules that may decide for statements of the pattern, whatever the database and the caller.
func (p *Pattern) candidates(set *rules.Set) *ruling {
	return p.ruled.get(set, func() []*rules.Rule { return set.Candidates(p.ID, p.Text) })
}

// rules gives the rules that may decide for statements of the pattern in a database.
func (r *resolution) rules(p *Pattern, set *rules.Set) []*rules.Rule {
	return r.ruled.get(set, func() []*rules.Rule { return rules.ThatRead(p.candidates(set).list, r.Reads) }).list
}

// prepare works out what a set that is to be put in force comes to for a pattern.
func (p *Pattern) prepare(set *rules.Set) {
	p.ruled.prepare(set, func() []*rules.Rule { return set.Candidates(p.ID, p.Text) })
	if have := p.resolved.Load(); have != nil {
		for _, r := range *have {
			r.ruled.prepare(set, func() []*rules.Rule { return rules.ThatRead(p.ruled.next.Load().list, r.Reads) })
		}
	}
}

// RulesOf gives the rules that may decide for statements of a pattern, in the database it was last asked of.
func (e *Engine) RulesOf(p *Pattern) []*rules.Rule {
	return rules.ThatRead(p.candidates(e.Rules()).list, e.Does(p).Reads)
}

// MayCache says whether some rule may keep results of a pattern.
func (e *Engine) MayCache(p *Pattern) bool { return p.candidates(e.Rules()).keeps }

// mostClasses bounds what a session remembers of the rules that hold for it.
const mostClasses = 1000

// rule gives the rule that decides for a statement of this session, or nil.
func (s *Session) rule(set *rules.Set, res *resolution, r *Request) *rules.Rule {
	list := res.rules(r.Pattern, set)
	if len(list) == 0 {
		return nil
	}
	if list[0].When.None() {
		return list[0]
	}
	mine := s.mine[res]
	if mine == nil || mine.set != set {
		mine = newRuling(
			set,
			rules.For(
				list,
				&rules.Caller{Application: s.Application, User: s.User, Database: s.Database, Address: s.Address},
			),
		)
		if s.mine == nil || len(s.mine) >= mostClasses {
			s.mine = map[*resolution]*ruling{}
		}
		s.mine[res] = mine
	}
	return rules.Labelled(mine.list, r.Comment)
}

// SetRules puts a set of rules in force for all sessions at once, and drops what no rule keeps any more. Statements
// under way end under the rules that they began with. It is to be called by one at a time.
func (e *Engine) SetRules(set *rules.Set) {
	e.patterns.each(func(p *Pattern) {
		p.prepare(set)
		runtime.Gosched() // statements come first
	})
	e.store.Divide(set)
	e.suspensions.resume(set) // before anything is answered by them
	before := e.rules.Swap(set)
	e.suspensions.resume(set)          // and with what was found meanwhile
	if !before.SameDeclarations(set) { // what results rest on may be more than it was
		e.mu.RLock()
		for _, db := range e.databases {
			db.declare(set)
			move(db.clocks.Every, db.clocks.Shape)
		}
		e.mu.RUnlock()
		e.dropWhere(func(*store.Entry) bool { return true })
	}
	wanted := map[*Pattern]bool{}
	e.store.All(func(entry *store.Entry) bool {
		p := e.Pattern(entry.Pattern)
		keeps, known := wanted[p]
		if p != nil && !known {
			for _, r := range e.RulesOf(p) {
				keeps = keeps || r.Action == rules.Cache // paused or not
			}
			wanted[p] = keeps
		}
		if !keeps {
			e.release(entry)
		}
		return true
	})
}
