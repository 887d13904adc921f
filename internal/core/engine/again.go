package engine

import (
	"cmp"
	"encoding/binary"
	"math"
	"slices"
	"sync"

	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// Asked is what a result was asked by, as its key holds it: what is needed to ask it again.
type Asked struct {
	Origin, Database string
	// User is empty for a result that is shared: then any who may read it will do.
	User string
	// Roles are those in force, as in Settings.Roles, and none of a result that is shared. Values are the settings of the
	// session, in the order of Settings.Values.
	Roles, Values []string
	Shape         byte
	// Exact is the statement, and Types and Bound are its parameters, as in a Request.
	Exact, Types, Bound []byte

	// Key is the whole key, spelled out, and Rule the name of the rule that kept the result.
	Key  string
	Rule string
}

// again is what is to be fetched again, in the order in which it was dropped.
type again struct {
	mu      sync.Mutex
	list    []fetch
	waiting map[string]bool // by key
	bell    chan struct{}   // rings when there is something; made with the engine
}

type fetch struct{ key, rule string }

// mostAgain bounds what waits to be fetched after drops: beyond it results are fetched when they are asked for.
const mostAgain = 4096

// add has a result fetched, if not so many wait already.
func (a *again) add(key, rule string, most int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.waiting == nil {
		a.waiting = map[string]bool{}
	}
	if a.waiting[key] || len(a.list) >= most {
		return
	}
	a.waiting[key] = true
	a.list = append(a.list, fetch{key, rule})
	select {
	case a.bell <- struct{}{}:
	default:
	}
}

// Refetch gives what is to be fetched next for an origin, if anything is; ring tells when to ask again.
func (e *Engine) Refetch(origin string) (next Asked, ok bool, ring <-chan struct{}) {
	a := &e.again
	if e.waits() != reason.None { // it would not be cached
		return Asked{}, false, a.bell
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := 0; i < len(a.list); i++ {
		asked, _, ok := e.asked(a.list[i].key)
		if ok && asked.Origin != origin {
			continue
		}
		asked.Rule = a.list[i].rule
		delete(a.waiting, a.list[i].key)
		a.list = slices.Delete(a.list, i, i+1)
		i--
		if ok && e.wanted(&asked) {
			return asked, true, a.bell
		}
	}
	return Asked{}, false, a.bell
}

// wanted says whether something is still to be fetched: its rule is in force, and nobody has asked for it meanwhile.
func (e *Engine) wanted(a *Asked) bool {
	r := e.Rules().Named(a.Rule)
	return r != nil && (r.Caches() || r.Action == rules.Advised && !r.Paused) && !e.off() && !e.Has(a.Rule, a.Key)
}

// Has says whether a result is kept by a rule, and true, under a key that is spelled out.
func (e *Engine) Has(rule, key string) bool {
	_, beginning, _ := e.asked(key)
	if beginning == 0 {
		return false
	}
	short, ok := e.identities.short(key, beginning)
	if !ok {
		return false
	}
	entry := e.store.Get(e.Rules().Named(rule), short)
	return entry != nil && entry.Stamp.Valid()
}

// WarmUp has results fetched whose keys were given by MostUsed before, for a rule in force.
func (e *Engine) WarmUp(rule *rules.Rule, keys []string) {
	for _, k := range keys {
		e.again.add(k, rule.Name, math.MaxInt) // so many as the rule says
	}
}

// MostUsed gives the keys, spelled out, of the results kept by a rule that were asked for most, so many at most. They
// hold values.
func (e *Engine) MostUsed(rule string, most int) (keys []string) {
	for _, w := range e.mostUsed(most, func(r *rules.Rule) bool { return r.Name == rule }) {
		keys = append(keys, string(w.Key))
	}
	return keys
}

// Wanted is a result that is to be fetched: its key, spelled out, and the rule by which it is cached.
type Wanted struct {
	Rule string
	Key  []byte
}

// MostUsedOfAll gives the results that were asked for most, whatever their rule, so many at most, the most asked first. Their
// keys hold values.
func (e *Engine) MostUsedOfAll(most int) []Wanted {
	return e.mostUsed(most, func(*rules.Rule) bool { return true })
}

// WarmUpAll has results fetched that MostUsedOfAll gave, of this process or of another. Those of rules that are not in force
// are left out.
func (e *Engine) WarmUpAll(list []Wanted) {
	for _, w := range list {
		e.again.add(string(w.Key), w.Rule, math.MaxInt)
	}
}

// mostUsed gives the results of some rules that were asked for most.
func (e *Engine) mostUsed(most int, of func(*rules.Rule) bool) (out []Wanted) {
	list := e.cached(func(entry *store.Entry) bool {
		return entry.Rule != nil && of(entry.Rule) && entry.Uses.Load() > 0
	})
	slices.SortFunc(list, func(a, b *store.Entry) int { return cmp.Compare(b.Uses.Load(), a.Uses.Load()) })
	for _, entry := range list[:min(len(list), most)] {
		if key, ok := e.identities.spell(entry.Key()); ok {
			out = append(out, Wanted{entry.Rule.Name, []byte(key)})
		}
	}
	return out
}

// cached gives the cached results for which of says so.
func (e *Engine) cached(of func(*store.Entry) bool) (list []*store.Entry) {
	e.store.All(func(entry *store.Entry) bool {
		if of(entry) {
			list = append(list, entry)
		}
		return true
	})
	return list
}

// keySettings is how many settings are in the keys of an origin's sessions.
func (e *Engine) keySettings(origin string) int {
	if d := e.dialect(origin); d != nil {
		return d.KeySettings
	}
	return 0 // there is no such origin any more
}

// asked reads a key that is spelled out, whose beginning takes so many bytes; it is false for one of another version of
// the program, whose keys hold other settings.
func (e *Engine) asked(key string) (a Asked, beginning int, ok bool) {
	b, bad := []byte(key), false
	part := func() []byte {
		n, used := binary.Uvarint(b)
		if used <= 0 || n > uint64(len(b)-used) {
			bad = true
			return nil
		}
		p := b[used : used+int(n)]
		b = b[used+int(n):]
		return p
	}
	a = Asked{Origin: string(part()), Database: string(part()), User: string(part()), Key: key}
	if a.User != "" {
		a.Roles = []string{string(part()), string(part())}
	}
	for range e.keySettings(a.Origin) {
		a.Values = append(a.Values, string(part()))
	}
	if len(b) == 0 {
		return a, 0, false
	}
	beginning = len(key) - len(b)
	a.Shape, b = b[0]&^ttlOnlyForm, b[1:]
	if a.Shape < 'a' {
		return a, beginning, false // it was prepared under other settings than those of its session
	}
	a.Exact, a.Types, a.Bound = part(), part(), part()
	return a, beginning, !bad && len(b) == 0 && len(a.Values) > 0
}
