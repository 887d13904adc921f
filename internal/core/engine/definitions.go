package engine

import (
	"slices"
	"sync/atomic"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// A change of definitions that concerns some names only does not make the whole catalog unknown. Until the catalog has
// been read again, what has to do with one of these names passes, and all else goes on by the catalog as it is.

// definition is such a change. The numbers count the beginnings and ends of all of them in their database.
type definition struct {
	*catalog.Defined
	begun  uint64
	ended  atomic.Uint64 // 0 while it is under way
	counts atomic.Bool   // it may have been committed, and what rests on its relations has been dropped
}

// definitions are those of a database.
type definitions struct {
	open  atomic.Pointer[[]*definition] // those that the catalog does not hold yet; nil for none
	count atomic.Uint64
	// Under the database's lock: the last ones, for statements that were prepared before, and when the latest of those
	// that were forgotten ended.
	log       []*definition
	forgotten uint64
}

// mostOpen bounds the definitions that the catalog does not hold yet, and mostLogged those that are remembered.
const (
	mostOpen   = 256
	mostLogged = 1024
)

// defines notes the definitions that a statement is about to change. It is false if there are too many to be told
// apart.
func (db *database) defines(list []*catalog.Defined) (out []*definition, ok bool) {
	db.mu.Lock()
	defer db.mu.Unlock()
	ds := &db.definitions
	var open []*definition
	if have := ds.open.Load(); have != nil {
		open = slices.Clone(*have)
	}
	if len(open)+len(list) > mostOpen {
		return nil, false
	}
	for _, d := range list {
		if d.Unknown && d.Quiet == analysis.Loud {
			d = likeThoseBefore(d, open)
		}
		out = append(out, &definition{Defined: d, begun: ds.count.Add(1)})
	}
	ds.remember(out...)
	open = append(open, out...)
	ds.open.Store(&open)
	return out, true
}

// likeThoseBefore gives a definition of what only others have made so far, which does what these do.
func likeThoseBefore(d *catalog.Defined, open []*definition) *catalog.Defined {
	like := *d
	for _, o := range open {
		switch {
		case !slices.Contains(o.Names, d.Names[0]):
		case o.Quiet != analysis.QuietAll:
			return d
		default:
			like.Quiet = analysis.QuietAll
		}
	}
	return &like
}

// remember puts definitions into the log. It is called with the database's lock held.
func (ds *definitions) remember(list ...*definition) {
	ds.log = append(ds.log, list...)
	for len(ds.log) > mostLogged {
		ds.forgotten = max(ds.forgotten, ds.log[0].begun, ds.log[0].ended.Load())
		ds.log = slices.Delete(ds.log, 0, 1)
	}
}

// around notes that any definition may have been changed since a catalog was asked for. It is called with the
// database's lock held.
func (ds *definitions) around(asked uint64) {
	d := &definition{Defined: &catalog.Defined{All: true}, begun: asked}
	d.ended.Store(ds.count.Add(1))
	ds.remember(d)
}

// defined notes that definitions have been changed, or will not be.
func (db *database) defined(list []*definition) {
	for _, d := range list {
		if d.ended.Load() == 0 {
			d.ended.Store(db.definitions.count.Add(1))
		}
	}
}

// definedSoFar gives how many beginnings and ends there have been; one less while a definition is under way, which may
// come before what is sent now.
func (db *database) definedSoFar() uint64 {
	n := db.definitions.count.Load()
	if slices.ContainsFunc(db.openDefinitions(), func(d *definition) bool { return d.ended.Load() == 0 }) {
		n--
	}
	return n
}

// openDefinitions gives those that the catalog does not hold yet.
func (db *database) openDefinitions() []*definition {
	if open := db.definitions.open.Load(); open != nil {
		return *open
	}
	return nil
}

// settledDefinitions gives those that have ended, which a catalog that is read from now on holds.
func (db *database) settledDefinitions() (out []*definition) {
	for _, d := range db.openDefinitions() {
		if d.ended.Load() != 0 {
			out = append(out, d)
		}
	}
	return out
}

// holds notes that the catalog holds some definitions. It is called with the database's lock held.
func (db *database) holds(list []*definition) {
	left := slices.DeleteFunc(
		slices.Clone(db.openDefinitions()),
		func(d *definition) bool { return slices.Contains(list, d) },
	)
	if len(left) == 0 {
		db.definitions.open.Store(nil)
		return
	}
	db.definitions.open.Store(&left)
}

// amid is what a pattern does while some definitions have changed.
type amid struct {
	open *[]*definition
	res  *resolution
}

// among gives what a pattern does though some definitions have changed since the catalog was read.
func (r *resolution) among(p *Pattern) *resolution {
	open := r.db.definitions.open.Load()
	if open == nil || r.schema == nil || freshness.Off(freshness.OpenDefinitions) {
		return r
	}
	if have := r.amid.Load(); have != nil && have.open == open {
		return have.res
	}
	list := concerned(*open)
	out := r
	writes := len(p.Facts.Writes)+len(r.Writes) > 0 || r.Everything
	touched, quiet := r.Among(list, writes)
	switch {
	case !touched:
	case quiet == analysis.QuietAll || quiet == analysis.QuietReads && !writes:
		does := *r.Resolved
		if r.IfOwn != nil && quiet == analysis.QuietAll && missingAmong(r.Missing, list) {
			does = *r.IfOwn
		}
		does.Reasons = append(slices.Clone(does.Reasons), reason.Of(reason.DefinitionChanged))
		does.OfTime, does.Missing, does.IfOwn = false, nil, nil
		out = newResolution(r.db, r.schema, r.path, &does, p)
	default:
		out = newResolution(r.db, nil, "", catalog.Unread(p.Facts), p)
	}
	r.amid.Store(&amid{open, out})
	return out
}

// missingAmong says whether all of some names are of relations that definitions have made.
func missingAmong(names []string, list []*catalog.Defined) bool {
	return !slices.ContainsFunc(names, func(n string) bool {
		return !slices.ContainsFunc(list, func(d *catalog.Defined) bool { return slices.Contains(d.Names, n) })
	})
}

// changed says when, among the beginnings and ends of definitions, the last one that has to do with a resolution's
// names was before a moment, and whether that is certain for a moment that lies between two.
func (db *database) changed(r *resolution, from, to uint64) (last uint64, sure bool) {
	db.mu.Lock()
	defer db.mu.Unlock()
	if from < db.definitions.forgotten {
		return 0, false
	}
	for _, d := range db.definitions.log {
		ended := d.ended.Load()
		if touched, _ := r.Among([]*catalog.Defined{d.Defined}, false); !touched || d.begun > to {
			continue
		}
		if ended == 0 || ended > from {
			return 0, false
		}
		last = max(last, d.begun)
	}
	return last, true
}

// endedSince follows the end of what wrote by a catalog that may not be the present one any more, or that did not hold
// what has been defined since: it may have done more than was known when it was sent.
func (e *Engine) endedSince(db *database, schema catalog.Schema, count uint64, list []write) {
	now := db.current()
	if now == schema && db.definitions.count.Load() == count || freshness.Off(freshness.SchemaMeanwhile) {
		return
	}
	if now == nil || len(list) > mostWrites {
		move(db.clocks.Every)
		return
	}
	for _, w := range list {
		p := w.pattern.doing(w.does)
		does := p.in(e, db, nil, "").among(p)
		if does.Everything {
			move(db.clocks.Every)
			return
		}
		for _, t := range does.Writes {
			move(db.clocks.Table(t))
		}
	}
}

// write is something that wrote, or may have.
type write struct {
	does    *analysis.Facts
	pattern *Pattern
}

// mostWrites bounds the writes that are remembered of a transaction.
const mostWrites = 32

// definitionClocks gives the clocks that every change of a definition moves: those that system catalogs, and results
// that are answered by age alone, rest on.
func (r *resolution) definitionClocks() []*freshness.Clock {
	return []*freshness.Clock{r.db.clocks.System, r.db.clocks.Shape}
}
