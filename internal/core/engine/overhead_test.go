package engine

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// What patterns take is counted about as the allocator counts.
func TestThePatternsBytesAreCounted(t *testing.T) {
	for name, sql := range map[string]string{
		"short":      "select a%d from berths where id = 1",
		"columns":    "select a%d" + strings.Repeat(", n", 200) + " from berths where id = 1",
		"conditions": "select a%d from berths where id = 1" + strings.Repeat(" or id = 5 and n = 6", 60),
		"a write":    "update berths set n = %d, a%[1]d = 5 where id = 1",
	} {
		t.Run(name, func(t *testing.T) {
			e, s := begin(t, Options{})
			ask(s, "select 1", now)
			before, counted := heap(), e.Overhead().Patterns.Used
			for i := range 500 {
				ask(s, fmt.Sprintf(sql, i), now)
			}
			took := heap() - before
			counted = e.Overhead().Patterns.Used + e.Overhead().Texts.Used - counted
			t.Logf("%d bytes each, counted as %d", took/500, counted/500)
			assert.InEpsilon(t, took, counted, 0.35)
			runtime.KeepAlive(e)
		})
	}
}

// A flood of patterns and of long texts takes no more than there is room for; statements of what is not remembered are judged
// all the same; and the room is given back when the flood is over.
func TestAFloodOfPatternsStaysWithinItsRoom(t *testing.T) {
	e, s := begin(t, Options{Overhead: 8 << 20})
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "select n from berths*", Action: rules.Cache, ControlSample: -1}}))
	const read = "select n from berths where id = 1"
	require.Equal(t, ledger.Miss, ask(s, read, now))
	before := heap()
	for i := range 4000 {
		switch i % 4 {
		case 0:
			ask(s, fmt.Sprintf("select x%d from berths", i), now)
		case 1:
			ask(s, fmt.Sprintf("select x%d%s from berths", i, strings.Repeat(", some_column", 30)), now)
		case 2:
			ask(s, fmt.Sprintf("select y%d from nowhere%[1]d /* %[2]s */", i, strings.Repeat("comment ", 200)), now)
		case 3:
			if i%400 == 3 {
				ask(s, fmt.Sprintf("select z%d%s from berths", i, strings.Repeat(", a_very_long_name", 4000)), now)
			}
		}
		if i%500 == 0 {
			o := e.Overhead()
			for _, p := range []Part{o.Patterns, o.Texts, o.Sessions} {
				require.LessOrEqual(t, p.Used, p.Limit)
			}
		}
	}
	assert.Less(t, heap()-before, int64(10<<20))
	assert.Greater(t, e.Overhead().Patterns.Used, e.Overhead().Patterns.Limit*9/10)
	assert.Equal(t, ledger.Hit, ask(s, read, now), "what was there before is still there")
	w := decide(s, "update berths set n = 5, nobody_knows_this = 6 where id = 1")
	assert.Equal(t, ledger.Write, w.Outcome, "what is not remembered is judged all the same")
	assert.Equal(t, ledger.Bypass, ask(s, "select nobody_has_asked_this from berths", now))

	for i := range 200 { // the minute that is looked at goes by
		e.Tick(now.Add(time.Duration(i) * time.Second))
	}
	assert.LessOrEqual(t, e.Overhead().Patterns.Used, e.Overhead().Patterns.Limit/2)
	assert.Equal(t, ledger.Hit, ask(s, read, now), "a rule speaks of it")
	runtime.KeepAlive(e)
}

// Results of a pattern whose text is not remembered whole are not kept: no rule could tell such patterns apart by their ends.
func TestLongPatternsAreNotKept(t *testing.T) {
	e, s := begin(t, Options{})
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	long := "select n" + strings.Repeat(", n as a_name_that_is_long", 800) + " from berths where id = 1"
	assert.Equal(t, ledger.Bypass, ask(s, long, now))
	assert.Equal(t, ledger.Bypass, ask(s, long, now))
	p := s.Read([]byte(long)).Pattern
	assert.Less(t, len(p.Text), longestPattern+100)
	assert.NotEqual(t, p.ID, s.Read([]byte(long+" and n = 1")).Pattern.ID)
	assert.Same(t, p, s.Read([]byte(strings.Replace(long, "id = 1", "id = 2", 1))).Pattern, "it is one pattern all the same")
}
