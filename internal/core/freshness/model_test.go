package freshness

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"pgregory.net/rapid"
)

// world is a database of one table and another, and everything that is kept of them, against which answers are judged: whatever is
// valid must be what the database would say now.
type world struct {
	clocks  *Clocks
	rows    map[int]row // by their unique id
	other   int         // the number in the other table
	next    int
	kept    map[query]*kept
	fetches []*fetch
	writes  []*write
}

type row struct{ k, n int }

// query is one that asks for the rows with an id, with a value that several may have, or for all of them, or for one column of all, or for the
// other table.
type query struct {
	by    byte // i, k, a, c or o
	value int
}

type kept struct {
	answer string
	stamp  Stamp
}

type fetch struct {
	query  query
	stamp  Stamp
	answer string
	found  bool
	done   bool // its snapshot is taken
}

type write struct {
	apply   func()
	pending Pending
	done    bool
}

// ask gives what the database says now, and whether it found a row.
func (w *world) ask(q query) (answer string, found bool) {
	if q.by == 'o' {
		return fmt.Sprint(w.other), true
	}
	for _, id := range slices.Sorted(maps.Keys(w.rows)) {
		r := w.rows[id]
		if q.by == 'c' {
			answer += fmt.Sprint(id, r.k, " ")
			found = true
		}
		if q.by == 'a' || q.by == 'i' && id == q.value || q.by == 'k' && r.k == q.value {
			answer += fmt.Sprint(id, r, " ")
			found = true
		}
	}
	return answer, found
}

func hashOf(n int) uint64 { return IntegerValue(int64(n)).Hash() }

// take stamps a query that is about to be sent. Its key is made when it is first needed.
func (w *world) take(q query) Stamp {
	t := w.clocks.Table("rows")
	switch q.by {
	case 'i':
		return w.clocks.Dependencies([]string{"rows"}).Take(Pinned{Table: t, Key: t.Key([]string{"id"}, true), Hashes: []uint64{hashOf(q.value)}, Single: true})
	case 'k':
		return w.clocks.Dependencies([]string{"rows"}).Take(Pinned{Table: t, Key: t.Key([]string{"k"}, false), Hashes: []uint64{hashOf(q.value)}, Single: true})
	case 'c':
		return w.clocks.Dependencies([]string{"rows"}).Take(Pinned{Table: t, Columns: []*Column{t.Column(""), t.Column("k")}})
	case 'o':
		return w.clocks.Dependencies([]string{"other"}).Take()
	}
	return w.clocks.Dependencies([]string{"rows"}).Take()
}

// write makes a random one, and what is known of it.
func (w *world) write(pick func(int) int) (apply func(), c Change) {
	w.next++
	n, id, k, to := w.next, pick(3), pick(3), pick(3)
	part := Part{Clock: w.clocks.Table("rows")}
	in := func(column string, values ...int) {
		v := Values{Column: column}
		for _, x := range values {
			v.Hashes = append(v.Hashes, hashOf(x))
		}
		part.Values = append(part.Values, v)
	}
	each := func(f func(id int, r row) (row, bool)) func() {
		return func() {
			for i, r := range w.rows {
				if now, stays := f(i, r); stays {
					w.rows[i] = now
				} else {
					delete(w.rows, i)
				}
			}
		}
	}
	switch pick(8) {
	case 0: // by its id
		in("id", id)
		part.Sets = []string{"n"}
		apply = each(func(i int, r row) (row, bool) {
			if i == id {
				r.n = n
			}
			return r, true
		})
	case 1: // by a value that several have
		in("k", k)
		apply = each(func(_ int, r row) (row, bool) {
			if r.k == k {
				r.n = n
			}
			return r, true
		})
	case 2: // that value itself, of the row with an id
		in("id", id)
		part.Sets = []string{"k"}
		apply = each(func(i int, r row) (row, bool) {
			if i == id {
				r.k = to
			}
			return r, true
		})
	case 3: // or from one to another
		if Off(Assigned) {
			in("k", k)
		} else {
			in("k", k, to)
		}
		apply = each(func(_ int, r row) (row, bool) {
			if r.k == k {
				r.k = to
			}
			return r, true
		})
	case 4: // a row is added, with an id that is said or one that the database finds
		part.Adds = true
		if in("k", k); pick(2) == 0 {
			in("id", id)
		}
		apply = func() {
			for try := range 3 {
				if i := (id + try) % 3; len(part.Values) == 1 || try == 0 {
					if _, there := w.rows[i]; !there {
						w.rows[i] = row{k, n}
						return
					}
				}
			}
		}
	case 5:
		in("id", id)
		apply = each(func(i int, r row) (row, bool) { return r, i != id })
	case 6: // the other table, or nobody knows
		part = Part{Clock: w.clocks.Table("other")}
		if pick(3) == 0 {
			part.Clock = w.clocks.Every
		}
		apply = func() { w.other = n }
	default:
		apply = each(func(_ int, r row) (row, bool) { r.n = n; return r, true })
	}
	c.AddPart(part)
	return apply, c
}

// step does one random step, and reports an answer that breaks the contract.
func (w *world) step(t *rapid.T) error {
	pick := func(n int) int { return rapid.IntRange(0, n-1).Draw(t, "which") }
	q := query{"iikkaoc"[pick(7)], pick(3)}
	switch pick(8) {
	case 0: // a miss is sent
		w.fetches = append(w.fetches, &fetch{query: q, stamp: w.take(q)})
	case 1: // its snapshot is taken by the database
		if n := len(w.fetches); n > 0 {
			f := w.fetches[pick(n)]
			f.answer, f.found = w.ask(f.query)
			f.done = true
		}
	case 2: // its last byte arrives
		if n := len(w.fetches); n > 0 {
			i := pick(n)
			f := w.fetches[i]
			if !f.done {
				return nil
			}
			w.fetches = slices.Delete(w.fetches, i, i+1)
			if f.found || Off(UniqueFound) {
				f.stamp.Found()
			}
			if f.stamp.Storable() {
				w.kept[f.query] = &kept{f.answer, f.stamp}
			}
		}
	case 3: // a write is sent
		if len(w.writes) == 2 {
			return nil // more at once would leave no quiet moment in which anything is kept
		}
		apply, c := w.write(pick)
		w.writes = append(w.writes, &write{apply: apply, pending: c.Begin()})
	case 4: // the database commits it
		if n := len(w.writes); n > 0 {
			if x := w.writes[pick(n)]; !x.done {
				x.apply()
				x.done = true
			}
		}
	case 5: // its reply arrives
		if n := len(w.writes); n > 0 {
			i := pick(n)
			if x := w.writes[i]; x.done {
				w.writes = slices.Delete(w.writes, i, i+1)
				x.pending.End()
			}
		}
	default: // a reader asks
		if x := w.kept[q]; x != nil && x.stamp.Valid() {
			if now, _ := w.ask(q); now != x.answer {
				return fmt.Errorf("%c%d is answered %q, and is %q", q.by, q.value, x.answer, now)
			}
		}
	}
	return nil
}

func newWorld() *world {
	FewestCounters = 1 // so that counters are shared, and replaced by more
	return &world{clocks: New(), rows: map[int]row{0: {0, 0}, 1: {1, 0}}, kept: map[query]*kept{}}
}

func TestNobodyReadsOld(t *testing.T) {
	defer func(n int) { FewestCounters = n }(FewestCounters)
	rapid.Check(t, func(t *rapid.T) {
		w := newWorld()
		for range 200 {
			if err := w.step(t); err != nil {
				t.Fatal(err)
			}
		}
	})
}
