package engine

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
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
	readings freshness.Readings
	reads    []narrowRead
	columns  []freshness.Pinned // tables of which only some columns are read
	writes   []narrowWrite
	ifOwn    *resolution        // what it does if the tables that are missing are its session's own
	shape    freshness.Readings // what a result rests on that is answered whatever is written
	change   freshness.Change
	ruled    ruled
	amid     atomic.Pointer[amid]
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
			db:       db,
			schema:   schema,
			path:     pathKey,
			Resolved: own,
			readings: r.readings,
			shape:    r.shape,
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
	r.readings = append(db.clocks.Readings(r.Reads), &p.clock)
	r.shape = freshness.Readings{db.clocks.Schema, db.clocks.Shape, &p.clock}
	if r.System {
		r.readings = append(r.readings, db.clocks.System)
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

// patterns holds all patterns. The way of a known statement goes by its shape, in parts so that sessions do not wait
// for each other.
type patterns struct {
	room  *Room
	parts [32]struct {
		sync.RWMutex
		bySyntax map[*statement.Syntax]*shapes
	}
	byID  sync.Map // statement.ID to *Pattern
	count atomic.Int64

	mu     sync.Mutex // taken before a part's
	byText map[key]*Pattern
	shapes int

	overflow atomic.Pointer[Pattern]
}

// shapes are those of one syntax, long ones by their hash.
type shapes struct {
	short map[string]*shaped
	long  map[[sha256.Size]byte]*shaped
}

// shapesEach bounds the shapes that are remembered, as so many times the number of patterns: bulk inserts have one for
// every number of rows. A statement of a shape that is not remembered takes the long way each time.
const shapesEach = 4

var seed = maphash.MakeSeed()

// find gives the pattern of a shape, or nil. It does not hold on to the shape. What is not made of a statement's text has
// no syntax.
func (ps *patterns) find(syntax *statement.Syntax, shape []byte) *Pattern {
	if x := ps.shaped(syntax, shape); x != nil {
		return x.pattern
	}
	return nil
}

// shaped gives what is known of a shape, or nil. It does not hold on to it.
func (ps *patterns) shaped(syntax *statement.Syntax, shape []byte) *shaped {
	part := &ps.parts[maphash.Bytes(seed, shape)%uint64(len(ps.parts))]
	if len(shape) > longKey {
		sum := sha256.Sum256(shape)
		part.RLock()
		defer part.RUnlock()
		if of := part.bySyntax[syntax]; of != nil {
			return of.long[sum]
		}
		return nil
	}
	part.RLock()
	defer part.RUnlock()
	if of := part.bySyntax[syntax]; of != nil {
		return of.short[string(shape)]
	}
	return nil
}

// longKey is the length in bytes up to which texts and shapes are remembered whole. Of longer ones there is only a hash
// that nobody can find another text for.
const longKey = 1 << 10

// key is a text in a syntax, or the hash of a long one.
type key struct {
	syntax *statement.Syntax
	text   string
	long   [sha256.Size]byte
	part   uint8 // of the engine's patterns, where it is a shape's
}

func keyOf(syntax *statement.Syntax, text []byte) key {
	if len(text) > longKey {
		return key{syntax: syntax, long: sha256.Sum256(text)}
	}
	return key{syntax: syntax, text: string(text)}
}

// bytes is what a key takes in a map, with what it leads to.
func (k key) bytes() int64 { return int64(len(k.text)) + 160 }

// known gives the pattern with this text, or nil, and remembers that the shape is of it, if there is room for that.
func (ps *patterns) known(syntax *statement.Syntax, text, shape []byte, most int) *Pattern {
	k := keyOf(syntax, text)
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.byText[k]
	if p != nil && ps.shapes < shapesEach*most {
		ps.remember(p, syntax, shape)
	}
	return p
}

// also remembers that a shape is of a pattern which is no more than a name for such, if there is room for that.
func (ps *patterns) also(p *Pattern, syntax *statement.Syntax, shape []byte, most int) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if ps.byText[p.key] == p && ps.shapes < shapesEach*most {
		ps.remember(p, syntax, shape)
	}
}

// remember is called with mu held.
func (ps *patterns) remember(p *Pattern, syntax *statement.Syntax, shape []byte) {
	k := keyOf(syntax, shape)
	k.part = uint8(maphash.Bytes(seed, shape) % uint64(len(ps.parts)))
	if !ps.room.Take(k.bytes()) {
		return // it takes the long way each time
	}
	part := &ps.parts[k.part]
	part.Lock()
	defer part.Unlock()
	of := part.bySyntax[syntax]
	if of == nil {
		of = &shapes{map[string]*shaped{}, map[[sha256.Size]byte]*shaped{}}
		if part.bySyntax == nil {
			part.bySyntax = map[*statement.Syntax]*shapes{}
		}
		part.bySyntax[syntax] = of
	}
	if k.text == "" && of.long[k.long] != nil || k.text != "" && of.short[k.text] != nil {
		ps.room.Give(k.bytes())
		return
	}
	if k.text == "" && len(shape) > 0 {
		of.long[k.long] = &shaped{pattern: p}
	} else {
		of.short[k.text] = &shaped{pattern: p}
	}
	p.shapes = append(p.shapes, k)
	p.bytes += k.bytes()
	ps.shapes++
}

// add puts a pattern in, unless another session was first; it gives the one that is in, or nil if there is no room for
// it.
func (ps *patterns) add(
	p *Pattern,
	syntax *statement.Syntax,
	text, shape []byte,
	numbers func() (*ledger.Pattern, *inputs.Pattern),
) *Pattern {
	k := keyOf(syntax, text)
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if have := ps.byText[k]; have != nil {
		return have
	}
	p.key, p.bytes = k, patternBytes(p)+k.bytes()
	if !ps.room.Take(p.bytes) {
		return nil
	}
	if ps.byText == nil {
		ps.byText = map[key]*Pattern{}
	}
	p.Numbers, p.Inputs = numbers()
	ps.byText[k] = p
	ps.remember(p, syntax, shape)
	ps.byID.Store(p.ID, p)
	ps.count.Add(1)
	return p
}

// patternBytes is what a pattern takes: its numbers, its text and what is known of its effects, as measured of many
// (see the tests).
func patternBytes(p *Pattern) int64 { return 4000 + int64(len(p.Text)) + p.Facts.Bytes() }

// remove takes patterns out.
func (ps *patterns) remove(list []*Pattern) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	for _, p := range list {
		if ps.byText[p.key] != p {
			continue
		}
		delete(ps.byText, p.key)
		ps.byID.Delete(p.ID)
		ps.count.Add(-1)
		for _, k := range p.shapes {
			part := &ps.parts[k.part]
			part.Lock()
			if k.text == "" {
				delete(part.bySyntax[k.syntax].long, k.long)
			}
			delete(part.bySyntax[k.syntax].short, k.text)
			part.Unlock()
		}
		ps.shapes -= len(p.shapes)
		ps.room.Give(p.bytes)
		p.shapes, p.bytes = nil, 0
	}
}

func (ps *patterns) each(f func(*Pattern)) {
	ps.mu.Lock()
	list := make([]*Pattern, 0, len(ps.byText))
	for _, p := range ps.byText {
		list = append(list, p)
	}
	ps.mu.Unlock()
	for _, p := range list {
		f(p)
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

// learnInTurn is learn, while no more than half of the processors are busy with the like: answering what is known comes
// first.
func (e *Engine) learnInTurn(syntax *statement.Syntax, d *dialect.Dialect, shape, sql []byte) *Pattern {
	if len(sql) <= long { // else it has its turn already
		e.reading <- struct{}{}
		defer func() { <-e.reading }()
	}
	return e.learn(syntax, d, shape, sql)
}

// learn makes a pattern of a statement seen for the first time; its text is parsed here and never again.
func (e *Engine) learn(syntax *statement.Syntax, d *dialect.Dialect, shape, sql []byte) *Pattern {
	text := syntax.Normalise(sql)
	if p := e.patterns.known(syntax, text, shape, e.opts.MostPatterns); p != nil {
		return p
	}
	facts := factsOf(syntax, d, text, sql)
	if facts.Kind == analysis.KindUnknown {
		// Where it is not understood it is not certain either what in it is a literal: so its text is not shown.
		p := e.named(unread(text)+": "+facts.Reasons[0].String(), facts)
		e.patterns.also(p, syntax, shape, e.opts.MostPatterns)
		return p
	}
	if int(e.patterns.count.Load()) >= e.opts.MostPatterns {
		return e.rest(facts)
	}
	p := &Pattern{
		ID:     syntax.ID(text),
		Text:   shortened(text),
		Syntax: syntax,
		Facts:  facts,
		clock:  freshness.Clock{Name: patternClock},
		own:    d.AsksForLast != "" && string(text) == d.AsksForLast,
	}
	if len(text) > longestPattern {
		facts.Passes(reason.TooLong)
	}
	if known := e.patterns.add(p, syntax, text, shape, e.newNumbers); known != nil {
		return known
	}
	return e.rest(facts)
}

// unread names a statement that is not understood by the word it begins with, if that is one of SQL's.
func unread(text []byte) string {
	word, _, _ := bytes.Cut(text, []byte(" "))
	switch w := string(word); w {
	case "select",
		"insert",
		"update",
		"delete",
		"merge",
		"with",
		"values",
		"table",
		"create",
		"alter",
		"drop",
		"grant",
		"revoke",
		"set",
		"reset",
		"show",
		"begin",
		"start",
		"commit",
		"rollback",
		"call",
		"do",
		"copy",
		"explain",
		"prepare",
		"execute",
		"declare",
		"fetch",
		"lock",
		"truncate",
		"vacuum",
		"analyze":
		return w + " …"
	}
	return "a statement"
}

// longestPattern is the length in bytes of the longest text of a pattern that is remembered whole. Results of longer
// ones are not kept: no rule could tell them apart by their ends.
const longestPattern = 16 << 10

// shortened gives a text, or the beginning of a long one.
func shortened(text []byte) string {
	if len(text) <= longestPattern {
		return string(text)
	}
	return strings.ToValidUTF8(string(text[:longestPattern]), "") + fmt.Sprintf(" … (%d bytes)", len(text))
}

// long is the length in bytes from which a statement is read by its pattern's text: a load of rows of megabytes would
// take long to parse, and says no more than its first row.
const long = 16 << 10

// factsOf reads what a statement does.
func factsOf(syntax *statement.Syntax, d *dialect.Dialect, text, sql []byte) *analysis.Facts {
	if len(sql) > long {
		if f := d.Facts(syntax, syntax.Parameterised(text)); f.Effect&analysis.Unknown == 0 {
			return f
		}
	}
	return d.Facts(syntax, string(sql))
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
	facts.Passes(reason.TooRare)
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
		if !p.named(set) && p.Numbers.Kept.Held.Load() == 0 && p.Numbers.Minute().Calls() == 0 &&
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
