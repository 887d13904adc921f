package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/ledger"
)

// What a feed tells drops what rests on the rows that it names; and where it may have left out something, everything.
func TestWhatAFeedTells(t *testing.T) {
	for name, c := range map[string]struct {
		tell func(*Feed)
		hit  bool
	}{
		"the row":        {func(f *Feed) { f.Changed([]RowChange{change("5", "5")}, now) }, false},
		"another":        {func(f *Feed) { f.Changed([]RowChange{change("6", "6")}, now) }, true},
		"it was another": {func(f *Feed) { f.Changed([]RowChange{change("5", "6")}, now) }, false},
		"it becomes it":  {func(f *Feed) { f.Changed([]RowChange{change("6", "5")}, now) }, false},
		"not known":      {func(f *Feed) { f.Changed([]RowChange{{Schema: "public", Table: "berths", Kind: analysis.Update}}, now) }, false},
		"another table":  {func(f *Feed) { f.Changed([]RowChange{{Schema: "public", Table: "ports", Kind: analysis.Update}}, now) }, true},
		"a gap":          {func(f *Feed) { f.Lost(now) }, false},
		"a definition":   {func(f *Feed) { f.Redefined(now) }, false},
		"a statement":    {func(f *Feed) { f.Ran(f.db.dialect.Syntax, "public", "update berths set n = 1", false, now)() }, false},
		"of another":     {func(f *Feed) { f.Ran(f.db.dialect.Syntax, "public", "update ports set n = 1", false, now)() }, true},
		"that defines":   {func(f *Feed) { f.Ran(f.db.dialect.Syntax, "public", "create table quays (id int)", false, now)() }, false},
		"that grants":    {func(f *Feed) { f.Ran(f.db.dialect.Syntax, "public", "grant select on ports to ines", false, now)() }, false},
		"not understood": {func(f *Feed) { f.Ran(f.db.dialect.Syntax, "public", "frobnicate", false, now)() }, false},
	} {
		t.Run(name, func(t *testing.T) {
			e, s := begin(t, Options{})
			keep(e, s, read)
			const sql = "select n from berths where id = 5"
			ask(s, sql, now)
			require.Equal(t, ledger.Hit, ask(s, sql, now))
			c.tell(e.Feed("", "skerrow"))
			assert.Equal(t, c.hit, ask(s, sql, now) == ledger.Hit)
		})
	}
}

// What not everybody sees yet is not cached, however often it is asked.
func TestWhatAFeedTellsBeforeItIsSeen(t *testing.T) {
	for name, tell := range map[string]func(*Feed) func(){
		"a row":        func(f *Feed) func() { return f.Committing([]RowChange{change("5", "5")}, now) },
		"a statement":  func(f *Feed) func() { return f.Ran(f.db.dialect.Syntax, "public", "delete from berths", false, now) },
		"a definition": func(f *Feed) func() { return f.Redefining(now) },
	} {
		t.Run(name, func(t *testing.T) {
			e, s := begin(t, Options{})
			keep(e, s, read)
			const sql = "select n from berths where id = 5"
			visible := tell(e.Feed("", "skerrow"))
			for range 3 {
				assert.NotEqual(t, ledger.Hit, ask(s, sql, now))
			}
			visible()
			ask(s, sql, now)
			if name != "a definition" { // whose catalog is to be read first
				assert.Equal(t, ledger.Hit, ask(s, sql, now))
			}
		})
	}
}

func change(before, after string) RowChange {
	column := func(v string) []ColumnValue { return []ColumnValue{{Column: "id", Value: []byte(v)}} }
	return RowChange{Schema: "public", Table: "berths", Kind: analysis.Update, Old: column(before), New: column(after)}
}

// An answer that differs is not called old before the feed has told all of its tables, which takes longer where only counters tell.
func TestWhenAFeedHasToldAll(t *testing.T) {
	e, _ := begin(t, Options{})
	f := e.Feed("", "skerrow")
	streamed, counted := []string{"public.berths"}, []string{"public.berths", "public.log"}
	assert.True(t, f.passed(counted, now, now), "nobody tells")
	f.Running(true)
	f.Counted([]string{"public.log"}, now.Add(-10*time.Second))
	f.Told(now.Add(time.Second))
	assert.True(t, f.passed(streamed, now, now))
	assert.False(t, f.passed(counted, now, now))
	f.Counted([]string{"public.log"}, now.Add(time.Second))
	assert.True(t, f.passed(counted, now, now))
	assert.True(t, f.passed(counted, now.Add(2*time.Second), now.Add(time.Minute)), "it is not waited for for ever")

	tell := func() uint64 {
		f.Changed([]RowChange{{Schema: "public", Table: "ports", Kind: analysis.Update}}, now)
		for _, x := range e.Tables() {
			if x.Table == "public.ports" {
				return x.Around
			}
		}
		return 0
	}
	w := session(e)
	d := decide(w, "update ports set n = 1")
	d.Sent(now)
	d.End(Result{}, now)
	assert.Zero(t, tell(), "what a client of the larder wrote is not around it")
	assert.Equal(t, uint64(1), tell())
}
