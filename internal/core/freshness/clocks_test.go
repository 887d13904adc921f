package freshness

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChangeOfEverythingTouchesAll(t *testing.T) {
	c := New()
	var one, all Change
	one.Add(c.Table("a"))
	all.Add(c.Every)
	assert.True(t, one.Touches(c.Dependencies([]string{"a", "b"})))
	assert.False(t, one.Touches(c.Dependencies([]string{"b"})))
	assert.True(t, all.Touches(c.Dependencies([]string{"b"})))
}

func TestAnOutcomeThatNeverArrives(t *testing.T) {
	c := New()
	r := c.Dependencies([]string{"a"})
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
	s := New().Dependencies([]string{"a", "b", "c"}).Take()
	b.ReportAllocs()
	for b.Loop() {
		if !s.Valid() {
			b.Fatal()
		}
	}
}

// A write that waited while the schema was changed may have done more than was known of it.
func TestAWriteThatWaitedForADefinition(t *testing.T) {
	c := New()
	audit := c.Dependencies([]string{"audit"})
	for name, meanwhile := range map[string]bool{"nothing happened": false, "a trigger was made": true} {
		t.Run(name, func(t *testing.T) {
			seen := c.Schema.Changes()
			var write, definition Change
			write.Add(c.Table("ports"))
			p := write.Begin()
			p.Guard(c, seen)
			if meanwhile {
				definition.Add(c.Every, c.Schema)
				d := definition.Begin()
				d.End()
			}
			kept := audit.Take() // fetched and kept before the write is done
			assert.True(t, kept.Storable())
			p.End()
			assert.Equal(t, !meanwhile, kept.Valid())
		})
	}
}

// A counter that has gone all the way round is another all the same.
func TestClocksThatWrap(t *testing.T) {
	c := New()
	c.Table("a").changes.Store(math.MaxUint64)
	stamp := c.Dependencies([]string{"a"}).Take()
	var change Change
	change.Add(c.Table("a"))
	p := change.Begin()
	p.End()
	assert.Zero(t, c.Table("a").Changes())
	assert.False(t, stamp.Valid())
}

// What is kept while few values of a key are told apart stays as more are, whatever is done to other rows; a change of
// its own row drops it.
func TestMoreCountersDropNothing(t *testing.T) {
	c := New()
	table := c.Table("a")
	key := table.Key([]string{"id"}, true)
	stamps := make([]Stamp, 100_000)
	for i := range stamps {
		stamps[i] = c.Dependencies([]string{"a"}).Take(Pinned{Table: table, Key: key, Hashes: []uint64{hashOf(i)}, Single: true})
	}
	require.Greater(t, len(*key.cells.Load()), 4, "there were more counters, again and again")
	valid := func() (n int) {
		for i := range stamps {
			if stamps[i].Valid() {
				n++
			}
		}
		return n
	}
	assert.Equal(t, len(stamps), valid())
	for _, i := range []int{0, 100, 1_000, 10_000, 99_999} {
		before := valid()
		var change Change
		change.AddPart(Part{Clock: table, Values: []Values{{"id", []uint64{hashOf(i)}}}})
		p := change.Begin()
		p.End()
		assert.False(t, stamps[i].Valid())
		assert.Greater(t, valid(), before-3*crowded, "few others share its counters")
	}
}

// A million values of one key share a bounded number of counters: a change drops too much then, never too little.
func TestAMillionValuesOfOneKey(t *testing.T) {
	c := New()
	table := c.Table("a")
	key := table.Key([]string{"id"}, true)
	stamps := make([]Stamp, 0, 1_000_000)
	take := func(i int) Stamp {
		return c.Dependencies([]string{"a"}).Take(Pinned{Table: table, Key: key, Hashes: []uint64{hashOf(i)}, Single: true})
	}
	for i := range cap(stamps) {
		take(i) // until there are as many counters as there will be
	}
	for i := range cap(stamps) {
		stamps = append(stamps, take(i))
	}
	assert.LessOrEqual(t, len(key.last().byHash), mostCells)
	var change Change
	change.AddPart(Part{Clock: table, Values: []Values{{"id", []uint64{hashOf(77)}}}})
	p := change.Begin()
	p.End()
	dropped := 0
	for i := range stamps {
		if !stamps[i].Valid() {
			dropped++
		}
	}
	assert.False(t, stamps[77].Valid())
	assert.Less(t, dropped, 20)
}

func BenchmarkAChangeOfOneRow(b *testing.B) {
	for _, kept := range []int{1, 1_000_000} {
		b.Run(fmt.Sprint(kept, " cached"), func(b *testing.B) {
			c := New()
			table := c.Table("a")
			key, other := table.Key([]string{"id"}, true), table.Key([]string{"k"}, false)
			stamps := make([]Stamp, kept)
			for i := range stamps {
				stamps[i] = c.Dependencies([]string{"a"}).Take(Pinned{Table: table, Key: []*Key{key, other}[i%2], Hashes: []uint64{hashOf(i)}, Single: true})
			}
			b.ReportAllocs()
			for i := 0; b.Loop(); i++ {
				var change Change
				change.AddPart(Part{Clock: table, Values: []Values{{"id", []uint64{hashOf(i)}}}})
				p := change.Begin()
				p.End()
			}
		})
	}
}

func BenchmarkValidFourPinnedReadings(b *testing.B) {
	c := New()
	var pins []Pinned
	for _, name := range []string{"a", "b", "c"} {
		pins = append(pins, Pinned{Table: c.Table(name), Key: c.Table(name).Key([]string{"id"}, true), Hashes: []uint64{hashOf(1)}, Single: true})
	}
	s := c.Dependencies([]string{"a", "b", "c"}).Take(pins...)
	s.Found()
	b.ReportAllocs()
	for b.Loop() {
		if !s.Valid() {
			b.Fatal()
		}
	}
}

// Several values may have one hash: that a row was found for one of them says nothing of the others.
func TestSeveralValuesOfOneHash(t *testing.T) {
	c := New()
	table := c.Table("a")
	key := table.Key([]string{"id"}, true)
	adds := func() {
		x := Change{parts: []Part{{Clock: table, Adds: true}}}
		p := x.Begin()
		p.End()
	}
	for _, single := range []bool{true, false} {
		s := c.Dependencies([]string{"a"}).Take(Pinned{Table: table, Key: key, Hashes: []uint64{hashOf(1)}, Single: single})
		s.Found()
		adds()
		assert.Equal(t, single, s.Valid(), "single %t", single)
	}
}
