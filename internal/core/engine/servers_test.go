package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// knows has a session know its settings, and which server it is connected to.
func knows(s *Session, server string) {
	s.Asking(NeedSettings, now)
	set := Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted, Server: server}
	s.Learned(set)
}

// Nothing that one server said is answered to who is connected to another, whichever was first.
func TestResultsBelongToTheServerThatGaveThem(t *testing.T) {
	const sql = "select n from berths where id = 1"
	e, old := begin(t, Options{})
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	knows(old, "first")
	require.Equal(t, ledger.Miss, ask(old, sql, now))
	require.Equal(t, ledger.Hit, ask(old, sql, now))

	fresh := session(e)
	knows(fresh, "second")
	assert.Equal(t, ledger.Bypass, ask(old, sql, now), "it is connected to the first")
	assert.Equal(t, ledger.Bypass, ask(fresh, sql, now), "definitions are not known")
	learn(fresh)
	assert.Equal(t, ledger.Miss, ask(fresh, sql, now))
	assert.Equal(t, ledger.Hit, ask(fresh, sql, now))
	assert.Equal(t, ledger.Bypass, ask(old, sql, now))
	knows(old, "first")
	assert.Equal(t, ledger.Bypass, ask(old, sql, now), "that its server is asked again makes it no present one")
	assert.Equal(t, ledger.Hit, ask(fresh, sql, now))

	e.Tick(now.Add(time.Second))
	changes, present := e.Servers()
	require.Len(t, changes, 1)
	assert.Equal(t, ServerChange{At: now.Add(time.Second), Before: "first", After: "second"}, changes[0])
	assert.Equal(t, "second", present[""])

	e.LostServer("")
	e.LostServer("")
	changes, _ = e.Servers()
	require.Len(t, changes, 2, "connections that are lost together are one change")
	assert.True(t, changes[1].Lost)
	assert.NotEqual(t, ledger.Hit, ask(fresh, sql, now))
	for range 3 * mostServerChanges {
		e.LostServer("")
		e.Tick(now.Add(time.Minute))
	}
	changes, _ = e.Servers()
	assert.Len(t, changes, mostServerChanges)
	assert.Equal(t, e.SeenServer("another origin", "7 1 123.5"), e.SeenServer("another origin", "123.5"), "not everybody may ask for all of it")
	changes, _ = e.Servers()
	assert.Len(t, changes, mostServerChanges)
}

// A rule that was paused for an old answer stays so, whatever else is changed, until somebody has looked at it.
func TestARuleThatWasPausedForAnOldAnswerStaysSo(t *testing.T) {
	for name, r := range map[string]rules.Rule{"by its name": parsed(t, "name = \"berths\"\ntext = \"*\"\naction = \"cache\"\nttl = \"none\""), "by what it says": parsed(t, "text = \"*\"\naction = \"cache\"\nttl = \"none\"")} {
		t.Run(name, func(t *testing.T) {
			e, _ := begin(t, Options{})
			other := rules.Rule{Text: "select 2*", Action: rules.Cache}
			e.SetRules(rules.NewSet([]rules.Rule{r}))
			e.Suspend(&e.Rules().List()[0])
			suspended := func() (n int) {
				for i := range e.Rules().List() {
					if e.Suspended(&e.Rules().List()[i]) {
						n++
					}
				}
				return n
			}
			require.Equal(t, 1, suspended())
			e.SetRules(rules.NewSet([]rules.Rule{other, r}))
			assert.Equal(t, 1, suspended(), "another rule was added")
			e.SetRules(rules.NewSet([]rules.Rule{other}))
			assert.Zero(t, suspended())
			e.SetRules(rules.NewSet([]rules.Rule{r, other}))
			assert.Equal(t, 1, suspended(), "it was taken out and put back")
			paused := r
			paused.Paused = true
			e.SetRules(rules.NewSet([]rules.Rule{paused}))
			assert.Equal(t, 1, suspended())
			e.SetRules(rules.NewSet([]rules.Rule{r}))
			assert.Zero(t, suspended(), "somebody has said that it goes on")
		})
	}
}

func parsed(t *testing.T, text string) rules.Rule {
	set, err := rules.Parse([]byte("[[rule]]\n" + text + "\n"))
	require.NoError(t, err)
	return set.List()[0]
}
