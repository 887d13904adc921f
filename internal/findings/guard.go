package findings

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/rules"
)

// Bounds on what is told at once.
const (
	mostWrites  = 64
	mostReadBy  = 30
	mostUnknown = 50
)

// Guard says what is promised at this moment, and what writes did. Feeds are the change feeds of the larder's origins.
func Guard(e *larder.Larder, feeds []control.Feed) control.Guard {
	out := control.Guard{Feeds: feeds, Stale: []control.Stale{}, Tables: []control.GuardedTable{}, Writes: []control.SeenWrite{}, Unknown: []control.UnknownWrite{}, Servers: []control.ServerChange{}}
	changes, _ := e.Servers()
	for _, c := range changes {
		out.Servers = append(out.Servers, control.ServerChange{At: c.At, Origin: c.Origin, Lost: c.Lost, Before: c.Before, After: c.After})
	}
	if out.Feeds == nil {
		out.Feeds = []control.Feed{}
	}
	found := e.Samples.Counts()
	out.Samples.Taken, out.Samples.Equal, out.Samples.Explained, out.Samples.Unordered, out.Samples.Stale = found.Taken, found.Equal, found.Explained, found.Unordered, found.Stale
	out.Drops.Changed, out.Drops.Same = e.Drops.Counts()
	for _, c := range e.Samples.Stale() {
		out.Stale = append(out.Stale, control.Stale{At: c.At, Database: c.Database, Pattern: string(c.Pattern.ID), Text: c.Pattern.Text, Rule: c.Rule, Tables: c.Tables, AgeMS: Milliseconds(c.Age), Paused: c.Paused})
	}
	slices.Reverse(out.Stale)
	for _, x := range e.RecentWrites() {
		seen := control.SeenWrite{At: x.At, Database: x.Database, Application: x.Application, Around: x.Around, Tables: x.Tables, By: x.By, Stayed: x.Saved}
		if x.Pattern != nil {
			seen.Pattern = &control.PatternRef{ID: string(x.Pattern.ID), Text: x.Pattern.Text}
		}
		for id, n := range x.Dropped {
			ref := control.PatternRef{ID: string(id)}
			if p := e.Pattern(id); p != nil {
				ref.Text = p.Text
			}
			seen.Dropped = append(seen.Dropped, control.DroppedFrom{PatternRef: ref, Results: n})
		}
		slices.SortFunc(seen.Dropped, func(a, b control.DroppedFrom) int { return cmp.Or(b.Results-a.Results, strings.Compare(a.ID, b.ID)) })
		out.Writes = append(out.Writes, seen)
	}
	slices.Reverse(out.Writes)
	out.Writes = out.Writes[:min(len(out.Writes), mostWrites)]
	out.Tables, out.Unknown = guarded(e)
	out.Promise = promise(e, out)
	return out
}

// guarded gives the tables, with what reads and writes them, and the patterns of which it is not known what they write.
func guarded(e *larder.Larder) (list []control.GuardedTable, unknown []control.UnknownWrite) {
	by := map[string]*control.GuardedTable{}
	dropped := e.DroppedOf()
	table := func(name string) *control.GuardedTable {
		t := by[name]
		if t == nil {
			t = &control.GuardedTable{Table: control.Table{Name: name}, Cached: e.KeptReading(name), Read: []control.ReadBy{}, Written: []control.PatternRef{}}
			by[name] = t
		}
		return t
	}
	for _, t := range e.Tables() {
		x := table(t.Table)
		x.Writes, x.Minute, x.Drops, x.Narrow, x.Around = t.Writes, t.Minute, t.Drops, t.Narrow, t.Around
		if !t.LastDrop.IsZero() {
			x.LastDrop = &t.LastDrop
		}
	}
	list, unknown = []control.GuardedTable{}, []control.UnknownWrite{}
	e.Patterns(func(p *engine.Pattern) {
		does, ref := e.Does(p), control.PatternRef{ID: string(p.ID), Text: p.Text}
		if does.Everything && p.Facts.Effect&analysis.Schema == 0 && len(p.Facts.Defines) == 0 && !p.Unsure() && p.Numbers.Calls() > 0 {
			u := control.UnknownWrite{PatternRef: ref, Calls: p.Numbers.Calls()}
			if len(does.Reasons) > 0 {
				u.Why = does.Reasons[0].String()
			}
			for _, f := range p.Facts.Functions {
				u.Functions = append(u.Functions, f.String())
			}
			unknown = append(unknown, u)
		}
		for _, t := range does.Writes {
			x := table(t)
			if len(x.Written) < mostReadBy {
				x.Written = append(x.Written, ref)
			}
		}
		r := ShownRule(e, p)
		kept := int(p.Numbers.Cached.Held.Load())
		for _, t := range does.Reads {
			lost := dropped[t][p.ID]
			if lost == 0 && kept == 0 && (r == nil || r.Action != rules.Cache) {
				continue
			}
			x := table(t)
			reads := control.ReadBy{PatternRef: ref, Cached: kept, How: does.ReadHow[t], Dropped: lost}
			if lost > 0 {
				reads.Refetch = float64(lost) * Milliseconds(p.Numbers.Origin().Mean())
			}
			if r != nil {
				reads.Rule = r.Name
			}
			if pin, ok := does.ReadPins[t]; ok {
				for _, c := range pin.Columns {
					reads.By = append(reads.By, c.Name)
				}
			}
			reads.Columns = does.ReadColumns[t]
			x.Read = append(x.Read, reads)
		}
	})
	delete(by, "(schema)")
	delete(by, "(system catalogs)")
	delete(by, "(definitions)")
	for name, t := range by {
		if name == "" {
			t.Name = AnyTable
		}
		slices.SortFunc(t.Read, func(a, b control.ReadBy) int {
			return cmp.Or(cmp.Compare(b.Refetch, a.Refetch), b.Cached-a.Cached, strings.Compare(a.ID, b.ID))
		})
		t.Read = t.Read[:min(len(t.Read), mostReadBy)]
		slices.SortFunc(t.Written, func(a, b control.PatternRef) int { return strings.Compare(a.ID, b.ID) })
		list = append(list, *t)
	}
	slices.SortFunc(list, func(a, b control.GuardedTable) int {
		return cmp.Or(cmp.Compare(b.Writes, a.Writes), strings.Compare(a.Name, b.Name))
	})
	slices.SortFunc(unknown, func(a, b control.UnknownWrite) int {
		return cmp.Or(cmp.Compare(b.Calls, a.Calls), strings.Compare(a.ID, b.ID))
	})
	return list, unknown[:min(len(unknown), mostUnknown)]
}

// AnyTable stands for the table of writes that may have changed any.
const AnyTable = "any table"

// shownServer is for how long the change of a server is among what is promised.
const shownServer = time.Hour

// promise says in words what holds at this moment.
func promise(e *larder.Larder, g control.Guard) (out []control.Promise) {
	say := func(level, format string, args ...any) {
		out = append(out, control.Promise{Level: level, Text: fmt.Sprintf(format, args...)})
	}
	if n := g.Samples.Stale; n > 0 {
		hint := ""
		if len(g.Feeds) == 0 {
			hint = " Without a change feed a direct write looks like that."
		}
		say(control.Trouble, "%s found by a control sample, with no write that explains it.%s", count(int(n), "answer was", "answers were"), hint)
	}
	now := time.Now()
	changes, _ := e.Servers()
	for _, c := range changes {
		if !c.At.IsZero() && now.Sub(c.At) > shownServer {
			continue
		}
		where := ""
		if c.Origin != "" {
			where = " of " + c.Origin
		}
		if c.Lost {
			say(control.Age, "At %s connections to the database%s were lost, as in a crash: all cached results were dropped.", c.At.Local().Format("15:04:05"), where)
		} else {
			say(control.Age, "At %s another database server%s answered than before, or the same after a restart: all cached results were dropped.", c.At.Local().Format("15:04:05"), where)
		}
	}
	longest, ends, aged := time.Duration(0), true, 0
	for i := range e.Rules().List() {
		r := &e.Rules().List()[i]
		switch {
		case !r.Caches() && (r.Paused || e.Rules().Chosen(r) == 0):
			continue
		case r.TTLOnly:
			aged++
		}
		ends = ends && r.TTL > 0
		longest = max(longest, r.TTL)
	}
	switch {
	case e.CachingOff():
		say(control.Well, "Caching is off: every answer comes from the database.")
		return out
	case !e.Rules().Caches():
		say(control.Well, "Nothing is cached: every answer comes from the database.")
		return out
	}
	say(control.Well, "Writes through this larder are seen before their client is answered: after that no client gets an older result.")
	bound := "stays until a write through the larder touches its tables"
	if ends {
		bound = "may be as old as its rule's TTL, " + rules.FormatTTL(longest) + " at most"
	}
	if len(g.Feeds) == 0 {
		say(control.Age, "Direct writes are not seen: a cached result %s.", bound)
	}
	for _, f := range g.Feeds {
		promiseOf(f, bound, say)
	}
	if list := unfollowed(e, g.Feeds); len(g.Feeds) > 0 && len(list) > 0 {
		say(control.Age, "Direct writes in %s are not seen: a cached result %s.", some(list), bound)
	}
	if aged > 0 {
		say(control.Age, "%s mode \"ttl only\": writes do not drop their results, which may be as old as their TTL.", count(aged, "rule accepts", "rules accept"))
	}
	if n := len(g.Unknown); n > 0 {
		say(control.Age, "%s so each drops everything; a declaration can limit that.", count(n, "pattern's effect is not known,", "patterns' effects are not known,"))
	}
	return out
}

// unfollowed gives the databases that were connected to and that no feed follows.
func unfollowed(e *larder.Larder, feeds []control.Feed) (list []string) {
	e.Databases(func(name string, _, _ bool, _ []string) {
		origin, database, named := strings.Cut(name, "/")
		if !named {
			origin, database = "", name
		}
		if !slices.ContainsFunc(feeds, func(f control.Feed) bool { return f.Origin == origin && f.Database == database }) {
			list = append(list, control.Where(origin, database))
		}
	})
	slices.Sort(list)
	return list
}

// promiseOf says what holds of a change feed; bound is how old an answer may be without one.
func promiseOf(f control.Feed, bound string, say func(level, format string, args ...any)) {
	where := f.Where()
	switch {
	case f.Mode == "stream":
		say(control.Well, "Direct writes in %s are seen %s after their commit, as measured.", where, lag(f.LagMS))
		if n := len(f.Polled); n > 0 {
			say(control.Age, "%s of %s are seen by counters only, up to 11 s later: %s.", count(n, "table", "tables"), where, some(f.Polled))
		}
	case f.Mode == "poll":
		say(control.Age, "Direct writes in %s are found by the server's counters, up to %s later.", where, lag(f.LagMS))
	default:
		say(control.Trouble, "Direct writes in %s are not seen at this moment: a cached result %s. %s", where, bound, f.Problem)
	}
	if f.Mode != "" && f.Problem != "" {
		say(control.Trouble, "%s", f.Problem)
	}
}

func lag(ms float64) string {
	if ms < 1000 {
		return fmt.Sprintf("%.0f ms", max(ms, 1))
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

func count(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

func some(names []string) string {
	if len(names) > 4 {
		return strings.Join(names[:4], ", ") + " …"
	}
	return strings.Join(names, ", ")
}
