package control

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/rules"
)

// Guard is what is known of whether anything old may be answered.
type Guard struct {
	// Promise says in words what is promised at this moment.
	Promise []Promise      `json:"promise"`
	Feeds   []Feed         `json:"feeds"`
	Samples Samples        `json:"samples"`
	Drops   Drops          `json:"drops"`
	Stale   []Stale        `json:"stale"`  // the latest first
	Tables  []GuardedTable `json:"tables"` // those written most first
	Writes  []SeenWrite    `json:"writes"` // the latest first that dropped something
	Unknown []UnknownWrite `json:"unknown"`
	Servers []ServerChange `json:"servers"` // the latest last for each origin
}

// ServerChange is the moment when another database server was found to answer than before, or, with Lost, when a connection
// ended without a word. Everything that was kept of it was dropped.
type ServerChange struct {
	At     time.Time `json:"at"`
	Origin string    `json:"origin,omitempty"`
	Lost   bool      `json:"lost"`
	Before string    `json:"before"`
	After  string    `json:"after,omitempty"`
}

// Promise is one sentence of what is promised. Level is well, age where an answer may be old within a bound that somebody has chosen or a feed has, and
// trouble where something is wrong.
type Promise struct {
	Level string `json:"level"`
	Text  string `json:"text"`
}

// Samples are the control samples so far. Explained are those that differed since something was written meanwhile, and Unordered those of
// statements that do not say which rows they want.
type Samples struct {
	Taken     uint64 `json:"taken"`
	Equal     uint64 `json:"equal"`
	Explained uint64 `json:"explained"`
	Unordered uint64 `json:"unordered"`
	Stale     uint64 `json:"stale"`
}

// Drops are the dropped results that were fetched again: how many were other ones then, and how many the same.
type Drops struct {
	Changed uint64 `json:"changed"`
	Same    uint64 `json:"same"`
}

// Stale is an answer that was found to be old.
type Stale struct {
	At       time.Time `json:"at"`
	Database string    `json:"database"`
	Pattern  string    `json:"pattern"`
	Text     string    `json:"text"`
	Rule     string    `json:"rule"`
	Tables   []string  `json:"tables"`
	AgeMS    float64   `json:"age_ms"`
	Paused   bool      `json:"paused"`
}

// GuardedTable is one table, with what its writes did and what rests on it.
type GuardedTable struct {
	Table
	Narrow  uint64       `json:"narrow_writes"` // of which it was known what rows they alter
	Around  uint64       `json:"writes_around"`
	Kept    int          `json:"kept_results"`
	Read    []ReadBy     `json:"read_by"`
	Written []PatternRef `json:"written_by"`
}

// PatternRef names a pattern.
type PatternRef struct {
	ID   string `json:"id"`
	Text string `json:"text"`
}

// ReadBy is a pattern whose results rest on a table. By are the columns whose values tell its rows apart; without any it rests on all of them, but perhaps
// on some Columns only.
type ReadBy struct {
	PatternRef
	By      []string `json:"by,omitempty"`
	Columns []string `json:"columns,omitempty"`
	How     []string `json:"how,omitempty"`
	Kept    int      `json:"kept_results"`
	Rule    string   `json:"rule,omitempty"`
}

// SeenWrite is a write, or a transaction, that dropped something. One without a pattern was told by a change feed; Around is
// set if no client of the larder made it.
type SeenWrite struct {
	At          time.Time     `json:"at"`
	Database    string        `json:"database"`
	Pattern     *PatternRef   `json:"pattern,omitempty"`
	Application string        `json:"application,omitempty"`
	Around      bool          `json:"around,omitempty"`
	Tables      []string      `json:"tables"`
	By          []string      `json:"by,omitempty"`
	Dropped     []DroppedFrom `json:"dropped"`
	Spared      int           `json:"spared"` // results that rest on the same tables, and stayed
}

// DroppedFrom is how many results of a pattern were dropped.
type DroppedFrom struct {
	PatternRef
	Results int `json:"results"`
}

// UnknownWrite is a pattern of which it is not known what it writes, so that each of its statements drops everything.
type UnknownWrite struct {
	PatternRef
	Why   string `json:"why"`
	Calls uint64 `json:"calls"`
	// Functions are those that a declaration in the rules file could speak of.
	Functions []string `json:"functions,omitempty"`
}

// The levels of a promise.
const (
	Well    = "well"
	Age     = "age"
	Trouble = "trouble"
)

// Bounds on what is told at once.
const (
	mostWrites  = 64
	mostReadBy  = 30
	mostUnknown = 50
)

func (s *server) guard(w http.ResponseWriter, _ *http.Request) {
	e := s.l.Engine()
	var st Status
	s.l.Describe(&st)
	out := Guard{Feeds: st.Feeds, Stale: []Stale{}, Tables: []GuardedTable{}, Writes: []SeenWrite{}, Unknown: []UnknownWrite{}, Servers: []ServerChange{}}
	changes, _ := e.Servers()
	for _, c := range changes {
		out.Servers = append(out.Servers, ServerChange{c.At, c.Origin, c.Lost, c.Before, c.After})
	}
	if out.Feeds == nil {
		out.Feeds = []Feed{}
	}
	found := e.Samples.Counts()
	out.Samples.Taken, out.Samples.Equal, out.Samples.Explained, out.Samples.Unordered, out.Samples.Stale = found.Taken, found.Equal, found.Explained, found.Unordered, found.Stale
	out.Drops.Changed, out.Drops.Same = e.Drops.Counts()
	for _, c := range e.Samples.Stale() {
		out.Stale = append(out.Stale, Stale{c.At, c.Database, string(c.Pattern.ID), c.Pattern.Text, c.Rule, c.Tables, ms(c.Age), c.Paused})
	}
	slices.Reverse(out.Stale)
	for _, x := range e.RecentWrites() {
		seen := SeenWrite{At: x.At, Database: x.Database, Application: x.Application, Around: x.Around, Tables: x.Tables, By: x.By, Spared: x.Spared}
		if x.Pattern != nil {
			seen.Pattern = &PatternRef{string(x.Pattern.ID), x.Pattern.Text}
		}
		for id, n := range x.Dropped {
			ref := PatternRef{ID: string(id)}
			if p := e.Pattern(id); p != nil {
				ref.Text = p.Text
			}
			seen.Dropped = append(seen.Dropped, DroppedFrom{ref, n})
		}
		slices.SortFunc(seen.Dropped, func(a, b DroppedFrom) int { return cmp.Or(b.Results-a.Results, strings.Compare(a.ID, b.ID)) })
		out.Writes = append(out.Writes, seen)
	}
	slices.Reverse(out.Writes)
	out.Writes = out.Writes[:min(len(out.Writes), mostWrites)]
	out.Tables, out.Unknown = guarded(e)
	out.Promise = promise(e, out)
	reply(w, out)
}

// guarded gives the tables, with what reads and writes them, and the patterns of which it is not known what they write.
func guarded(e *larder.Larder) (list []GuardedTable, unknown []UnknownWrite) {
	by := map[string]*GuardedTable{}
	table := func(name string) *GuardedTable {
		t := by[name]
		if t == nil {
			t = &GuardedTable{Table: Table{Name: name}, Kept: e.KeptReading(name), Read: []ReadBy{}, Written: []PatternRef{}}
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
	list, unknown = []GuardedTable{}, []UnknownWrite{}
	e.Patterns(func(p *engine.Pattern) {
		does, ref := e.Does(p), PatternRef{string(p.ID), p.Text}
		if does.Everything && p.Facts.Effect&analysis.Schema == 0 && len(p.Facts.Defines) == 0 && !p.Unsure() && p.Numbers.Calls() > 0 {
			u := UnknownWrite{PatternRef: ref, Calls: p.Numbers.Calls()}
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
		r := shownRule(e, p)
		kept := int(p.Numbers.Kept.Held.Load())
		if kept == 0 && (r == nil || r.Verdict != rules.Keep) {
			return
		}
		for _, t := range does.Reads {
			x := table(t)
			if len(x.Read) >= mostReadBy {
				continue
			}
			reads := ReadBy{PatternRef: ref, Kept: kept, How: does.ReadHow[t]}
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
			t.Name = "any table"
		}
		slices.SortFunc(t.Read, func(a, b ReadBy) int { return cmp.Or(b.Kept-a.Kept, strings.Compare(a.ID, b.ID)) })
		slices.SortFunc(t.Written, func(a, b PatternRef) int { return strings.Compare(a.ID, b.ID) })
		list = append(list, *t)
	}
	slices.SortFunc(list, func(a, b GuardedTable) int {
		return cmp.Or(cmp.Compare(b.Writes, a.Writes), strings.Compare(a.Name, b.Name))
	})
	slices.SortFunc(unknown, func(a, b UnknownWrite) int {
		return cmp.Or(cmp.Compare(b.Calls, a.Calls), strings.Compare(a.ID, b.ID))
	})
	return list, unknown[:min(len(unknown), mostUnknown)]
}

// shownServer is for how long the change of a server is among what is promised.
const shownServer = time.Hour

// promise says in words what holds at this moment.
func promise(e *larder.Larder, g Guard) (out []Promise) {
	say := func(level, format string, args ...any) {
		out = append(out, Promise{level, fmt.Sprintf(format, args...)})
	}
	if n := g.Samples.Stale; n > 0 {
		hint := ""
		if len(g.Feeds) == 0 {
			hint = " Without a change feed a write around the larder looks like that."
		}
		say(Trouble, "%s found old by a control sample, and no write explains it.%s", count(int(n), "answer was", "answers were"), hint)
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
			say(Age, "At %s connections to the database%s ended without a word, as in a crash: everything kept was dropped.", c.At.Local().Format("15:04:05"), where)
		} else {
			say(Age, "At %s another database server%s answered than before, or the same after a restart: everything kept was dropped.", c.At.Local().Format("15:04:05"), where)
		}
	}
	longest, ends, aged := time.Duration(0), true, 0
	for i := range e.Rules().List() {
		r := &e.Rules().List()[i]
		switch {
		case !r.Keeps():
			continue
		case r.TTLOnly:
			aged++
		}
		ends = ends && r.TTL > 0
		longest = max(longest, r.TTL)
	}
	switch {
	case e.Held():
		say(Well, "All keeping is on hold: every answer is the database's own.")
		return out
	case !e.Rules().Keeps():
		say(Well, "Nothing is kept: every answer is the database's own.")
		return out
	}
	say(Well, "Writes through this larder count before their writer is answered: after that nobody is given an older value.")
	bound := "stays until a write through the larder touches its tables"
	if ends {
		bound = "may be as old as its rule's TTL, " + rules.FormatTTL(longest) + " at most"
	}
	if len(g.Feeds) == 0 {
		say(Age, "Writes around it are not seen: of those an answer knows nothing, and %s.", bound)
	}
	for _, f := range g.Feeds {
		where := f.Database
		if f.Origin != "" {
			where = f.Origin + "/" + f.Database
		}
		switch {
		case f.Mode == "stream":
			say(Well, "Writes around it in %s count %s after their commit, as measured.", where, lag(f.LagMS))
			if n := len(f.Polled); n > 0 {
				say(Age, "%s of %s counters alone tell, up to some 11 s later: %s.", count(n, "table", "tables"), where, some(f.Polled))
			}
		case f.Mode == "poll":
			say(Age, "Writes around it in %s are found by the server's counters, up to %s later.", where, lag(f.LagMS))
		default:
			say(Trouble, "Writes around it in %s are not seen at this moment: an answer %s. %s", where, bound, f.Problem)
		}
		if f.Mode != "" && f.Problem != "" {
			say(Trouble, "%s", f.Problem)
		}
	}
	if aged > 0 {
		say(Age, "%s an age: their answers may be as old as their TTL, whatever is written.", count(aged, "rule accepts", "rules accept"))
	}
	if n := len(g.Unknown); n > 0 {
		say(Age, "%s so that each drops everything: a declaration would tell what it writes.", count(n, "pattern's effect is not known,", "patterns' effects are not known,"))
	}
	return out
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
