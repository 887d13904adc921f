package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// asked asks something twice, and gives what the second was.
func asked(s *Session, sql string) (ledger.Outcome, reason.Code) {
	ask(s, sql, now)
	outcome := ask(s, sql, now)
	d := s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'q'}, now)
	defer d.Drop()
	return outcome, d.Reason.Code
}

// caching gives an engine that caches a statement, and a session whose settings are known.
func caching(t *testing.T) (*Engine, *Session) {
	e, s := begin(t, Options{Dialect: oneSetting()})
	s.Asking(NeedSettings, now)
	s.Learned(Settings{Values: []string{"UTC"}, Roles: []string{"ines", "ines"}, Isolation: analysis.ReadCommitted})
	e.SetRules(rules.NewSet([]rules.Rule{{Name: "boards", Pattern: s.Read([]byte(read)).Pattern.ID, Action: rules.Cache, TTL: 1 << 40}}))
	return e, s
}

// A process that another has taken over from answers nothing from memory any more, and gives up what it has cached.
func TestAnEngineThatRetires(t *testing.T) {
	e, s := caching(t)
	outcome, _ := asked(s, read)
	require.Equal(t, ledger.Hit, outcome)
	e.Retires()
	results, _, _ := e.Cached()
	assert.Zero(t, results)
	outcome, why := asked(s, read)
	assert.Equal(t, ledger.Bypass, outcome)
	assert.Equal(t, reason.Successor, why)
	results, _, _ = e.Cached()
	assert.Zero(t, results)
}

// A process caches nothing while the one before serves clients, and for as long as what that has left behind may run.
func TestAnEngineThatWaitsForAPredecessor(t *testing.T) {
	e, s := caching(t)
	e.WaitsForPredecessor()
	assert.True(t, e.Predecessor())
	assert.False(t, e.Settled())
	outcome, why := asked(s, read)
	assert.Equal(t, ledger.Bypass, outcome)
	assert.Equal(t, reason.Predecessor, why)
	e.Tick(now.Add(time.Hour))
	_, why = asked(s, read)
	assert.Equal(t, reason.Predecessor, why, "however long that takes")
	e.PredecessorHasGone(true, now)
	assert.True(t, e.Settled())
	outcome, _ = asked(s, read)
	assert.Equal(t, ledger.Hit, outcome)

	e, s = caching(t)
	e.WaitsForPredecessor()
	e.PredecessorHasGone(false, now)
	_, why = asked(s, read)
	assert.Equal(t, reason.EarlierLarder, why)
	e.Tick(now.Add(time.Minute))
	outcome, _ = asked(s, read)
	assert.Equal(t, ledger.Hit, outcome)
}

// What was asked for most comes first, of whatever rule, and is fetched by another process that has the rule.
func TestWhatWasAskedForMostOfAll(t *testing.T) {
	e, s := caching(t)
	for range 5 {
		ask(s, read, now)
	}
	list := e.MostUsedOfAll(10)
	require.Len(t, list, 1)
	assert.Equal(t, "boards", list[0].Rule)
	assert.Empty(t, e.MostUsedOfAll(0))
	e.DropAll()
	e.WaitsForPredecessor()
	e.WarmUpAll(list)
	_, ok, _ := e.Refetch("")
	assert.False(t, ok, "it would not be cached")
	e.PredecessorHasGone(true, now)
	got, ok, _ := e.Refetch("")
	require.True(t, ok)
	assert.Equal(t, read, string(got.Exact))
}
