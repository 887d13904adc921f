package freshness

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// world is a database of two tables and everything that clients of it have been told, against which hits are judged.
type world struct {
	clocks    *Clocks
	committed [2]int // the number last written to each table
	told      [2]int // the highest number any client has seen or had acknowledged
	next      int
	kept      [2]*kept
	fetches   []*fetch
	writes    []*write
}

type kept struct {
	value int
	stamp Stamp
}

type fetch struct {
	table   int
	stamp   Stamp
	value   int
	atValue bool // its snapshot is taken
}

type write struct {
	table, value int
	pending      Pending
	committed    bool
}

func (w *world) names() [2]string { return [2]string{"a", "b"} }

// judge compares an answer with what has been told before it.
func (w *world) judge(table, value int) error {
	if value < w.told[table] {
		return fmt.Errorf("table %d answered %d after %d was known", table, value, w.told[table])
	}
	w.told[table] = value
	return nil
}

// step does one random step of a random client, and reports an answer that breaks the contract.
func (w *world) step(t *rapid.T) error {
	pick := func(n int) int { return rapid.IntRange(0, n-1).Draw(t, "which") }
	switch rapid.IntRange(0, 6).Draw(t, "step") {
	case 0: // a miss is sent
		table := pick(2)
		w.fetches = append(w.fetches, &fetch{table: table, stamp: w.clocks.Readings([]string{w.names()[table]}).Take()})
	case 1: // its snapshot is taken by the origin
		if n := len(w.fetches); n > 0 {
			f := w.fetches[pick(n)]
			f.value, f.atValue = w.committed[f.table], true
		}
	case 2: // its last byte arrives
		if n := len(w.fetches); n > 0 {
			i := pick(n)
			f := w.fetches[i]
			if !f.atValue {
				return nil
			}
			w.fetches = append(w.fetches[:i], w.fetches[i+1:]...)
			if f.stamp.Storable() {
				w.kept[f.table] = &kept{f.value, f.stamp}
			}
		}
	case 3: // a write is sent
		if len(w.writes) == 2 {
			return nil // more at once would leave no quiet moment in which anything is kept
		}
		table := pick(2)
		var c Change
		c.Add(w.clocks.Table(w.names()[table]))
		if pick(4) == 0 {
			c = Change{}
			c.Add(w.clocks.Every)
		}
		w.next++
		w.writes = append(w.writes, &write{table: table, value: w.next, pending: c.Begin()})
	case 4: // the origin commits it
		if n := len(w.writes); n > 0 {
			x := w.writes[pick(n)]
			if !x.committed && x.value > w.committed[x.table] {
				w.committed[x.table], x.committed = x.value, true
			}
		}
	case 5: // its reply arrives
		if n := len(w.writes); n > 0 {
			i := pick(n)
			x := w.writes[i]
			if !x.committed {
				return nil
			}
			w.writes = append(w.writes[:i], w.writes[i+1:]...)
			x.pending.End()
			w.told[x.table] = max(w.told[x.table], x.value)
		}
	case 6: // a reader asks; what is not kept the origin answers at once
		table := pick(2)
		if k := w.kept[table]; k != nil && k.stamp.Valid() {
			return w.judge(table, k.value)
		}
		return w.judge(table, w.committed[table])
	}
	return nil
}

func TestNobodyReadsOld(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := &world{clocks: New()}
		for range 120 {
			if err := w.step(t); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// Each safeguard is needed: without it the same check finds an old answer.
func TestEverySafeguardIsNeeded(t *testing.T) {
	for name, off := range map[string]*bool{
		"clock moved": &disabled.clockMoved, "pending at sending": &disabled.pendingAtSending,
	} {
		*off = true
		found := false
		for seed := 0; seed < 2000 && !found; seed++ {
			found = violates(seed)
		}
		*off = false
		assert.True(t, found, "%s may be left out unnoticed", name)
	}
}

// violates runs one history from a seed and says whether it broke the contract.
func violates(seed int) (broken bool) {
	gen := rapid.Custom(func(t *rapid.T) bool {
		w := &world{clocks: New()}
		for range 120 {
			if w.step(t) != nil {
				return true
			}
		}
		return false
	})
	return gen.Example(seed)
}

func TestChangeOfEverythingTouchesAll(t *testing.T) {
	c := New()
	var one, all Change
	one.Add(c.Table("a"))
	all.Add(c.Every)
	assert.True(t, one.Touches(c.Readings([]string{"a", "b"})))
	assert.False(t, one.Touches(c.Readings([]string{"b"})))
	assert.True(t, all.Touches(c.Readings([]string{"b"})))
}

func TestAnOutcomeThatNeverArrives(t *testing.T) {
	c := New()
	r := c.Readings([]string{"a"})
	var change Change
	change.Add(c.Table("a"))
	p := change.Begin()
	during := r.Take()
	assert.False(t, during.Storable(), "while the outcome is unknown nothing is kept")
	p.Settle()
	assert.False(t, during.Valid(), "what was read before it settled is not trusted after")
	after := r.Take()
	assert.True(t, after.Storable())
}

func BenchmarkValidFourReadings(b *testing.B) {
	s := New().Readings([]string{"a", "b", "c"}).Take()
	b.ReportAllocs()
	for b.Loop() {
		if !s.Valid() {
			b.Fatal()
		}
	}
}
