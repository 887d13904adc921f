package engine

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/rules"
)

// oneSetting is a dialect whose sessions have one setting.
func oneSetting() *dialect.Dialect {
	d := *postgres.Dialect
	d.KeySettings = 1
	return &d
}

// A key holds all that is needed to ask again.
func TestAKeyTellsWhatWasAsked(t *testing.T) {
	for _, change := range []func(*rules.Rule){func(*rules.Rule) {}, func(r *rules.Rule) { r.AcrossUsers = true }, func(r *rules.Rule) { r.TTLOnly = true }} {
		e, s := begin(t, Options{Dialect: oneSetting()})
		s.Asking(NeedSettings, now)
		s.Learned(Settings{Values: []string{"UTC"}, Roles: []string{"ines", "ines"}, Isolation: analysis.ReadCommitted})
		r := rules.Rule{Pattern: s.Read([]byte(read)).Pattern.ID, Action: rules.Cache, TTL: 1 << 40, Refetch: true}
		change(&r)
		e.SetRules(rules.NewSet([]rules.Rule{r}))
		ask(s, read, now)
		ask(s, read, now)
		keys := e.MostUsed(string(r.Pattern), 10)
		require.Len(t, keys, 1)
		a, _, ok := e.asked(keys[0])
		require.True(t, ok)
		assert.Equal(t, []any{"skerrow", "ines", []string{"ines", "ines"}, []string{"UTC"}, byte('q'), read}, []any{a.Database, a.User, a.Roles, a.Values, a.Shape, string(a.Exact)})
		e.DropPattern(r.Pattern)
		e.WarmUp(&e.Rules().List()[0], keys)
		next, ok, _ := e.Refetch("")
		assert.True(t, ok)
		assert.Equal(t, keys[0], next.Key)
		_, ok, _ = e.Refetch("")
		assert.False(t, ok, "once")
	}
}

// While what an earlier process has sent may be running nothing would be cached: what is to be fetched waits.
func TestNothingIsFetchedAheadBeforeItWouldBeCached(t *testing.T) {
	e, s := begin(t, Options{Dialect: oneSetting()})
	s.Asking(NeedSettings, now)
	s.Learned(Settings{Values: []string{"UTC"}, Roles: []string{"ines", "ines"}, Isolation: analysis.ReadCommitted})
	e.SetRules(rules.NewSet([]rules.Rule{{Pattern: s.Read([]byte(read)).Pattern.ID, Action: rules.Cache, TTL: 1 << 40}}))
	ask(s, read, now)
	ask(s, read, now)
	r := &e.Rules().List()[0]
	keys := e.MostUsed(r.Name, 10)
	require.Len(t, keys, 1)
	e.DropPattern(r.Pattern)
	assert.True(t, e.Settled())
	e.WaitsForEarlier(now)
	assert.False(t, e.Settled())
	e.WarmUp(r, keys)
	_, ok, _ := e.Refetch("")
	assert.False(t, ok)
	e.Tick(now.Add(59 * time.Second))
	_, ok, _ = e.Refetch("")
	assert.False(t, ok)
	e.Tick(now.Add(60 * time.Second))
	_, ok, _ = e.Refetch("")
	assert.True(t, ok, "none was lost")
	assert.True(t, e.Settled())
}

// A rule may ask for more at the start than may wait after drops.
func TestAllThatARuleAsksForAtTheStart(t *testing.T) {
	e, _ := begin(t, Options{Dialect: oneSetting()})
	var keys []string
	for i := range 3 * mostAgain {
		keys = append(keys, fmt.Sprint(i))
	}
	e.WarmUp(&rules.Rule{Name: "boards"}, keys)
	assert.Len(t, e.again.list, len(keys))
	e.again.add("dropped", "boards", mostAgain)
	assert.Len(t, e.again.list, len(keys))
}

// Keys come from a file as well.
func FuzzKey(f *testing.F) {
	f.Add([]byte("\x00\x07skerrow\x04ines\x04ines\x04ines\x03UTCq\x08select 1\x00\x00"), 1)
	f.Add([]byte("\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01"), 30)
	f.Fuzz(func(t *testing.T, key []byte, values int) {
		d := &dialect.Dialect{KeySettings: values % 100}
		e := &Engine{opts: Options{Dialect: d}}
		a, beginning, ok := e.asked(string(key))
		require.LessOrEqual(t, beginning, len(key))
		if ok {
			require.LessOrEqual(t, len(a.Exact)+len(a.Types)+len(a.Bound), len(key))
		}
	})
}
