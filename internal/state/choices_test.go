package state

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/choices"
)

// What the larder chose and decided is there again, with what came of it; texts are shortened, and so many decisions are
// remembered.
func TestChoicesAreThereAgain(t *testing.T) {
	dir := t.TempDir()
	s := Open(dir, now)
	require.Empty(t, s.Problem())
	chosen := []choices.Choice{
		{Rule: "boards", Pattern: "a-b-c", TTL: time.Minute, Since: now, Changed: now, Forecast: choices.Rate{Calls: 12, Saved: time.Second}},
		{Rule: "boards", Pattern: "d-e-f", Changed: now, Withdrawals: 2},
	}
	s.PutChosen(append(chosen, choices.Choice{Rule: "boards", Pattern: "x-y-z"}))
	s.PutChosen(chosen)
	change := func(i int) choices.Change {
		return choices.Change{At: now.Add(time.Duration(i) * time.Minute), Rule: "boards", Pattern: "a-b-c", Text: "select " + strings.Repeat("ä", 5000), Kind: choices.Chosen, After: time.Minute, Why: fmt.Sprint(i)}
	}
	for i := range mostChoices + 3 {
		if i%100 == 0 || i > mostChoices {
			s.AddChoices([]choices.Change{change(i)})
		} else {
			s.choices = append(s.choices, ChoiceEntry{ID: s.nextOf, Change: change(i)}) // and do not wait for a disk
			s.nextOf++
		}
	}
	s.CameOf([]choices.Outcome{
		{Rule: "boards", Pattern: "a-b-c", At: now.Add((mostChoices + 2) * time.Minute), Actual: choices.Rate{Minutes: 60, Hits: 10}},
		{Rule: "boards", Pattern: "a-b-c", At: now.Add(-time.Hour), Actual: choices.Rate{Minutes: 60, Hits: 99}},
	})
	s.Close()

	s = Open(dir, now)
	defer s.Close()
	for i, c := range s.Chosen() {
		assert.True(t, c.Changed.Equal(chosen[i].Changed))
		c.Since, c.Changed = chosen[i].Since, chosen[i].Changed
		assert.Equal(t, chosen[i], c)
	}
	assert.Len(t, s.Chosen(), 2)
	list := s.Choices(1 << 20)
	require.NotEmpty(t, list)
	assert.EqualValues(t, mostChoices+3, list[0].ID)
	require.NotNil(t, list[0].Actual)
	assert.Equal(t, 10.0, list[0].Actual.Hits)
	for _, e := range list[1:] {
		assert.Nil(t, e.Actual)
		assert.Less(t, len(e.Text), 2*longestText)
		assert.Greater(t, e.ID, int64(3))
	}
	assert.Len(t, s.Choices(2), 2)
	assert.Len(t, s.Choices(1), 1)
}

// What could not be written is written when that works again.
func TestChoicesThatCouldNotBeWritten(t *testing.T) {
	dir := t.TempDir()
	s := Open(dir, now)
	_, err := s.db.Exec("pragma query_only = on")
	require.NoError(t, err)
	s.PutChosen([]choices.Choice{{Rule: "boards", Pattern: "a-b-c", TTL: time.Minute}})
	s.AddChoices([]choices.Change{{At: now, Rule: "boards", Pattern: "a-b-c", Kind: choices.Chosen}})
	assert.NotEmpty(t, s.Problem())
	assert.Len(t, s.Choices(10), 1, "it is known all the same")
	_, err = s.db.Exec("pragma query_only = off")
	require.NoError(t, err)
	s.Close()
	s = Open(dir, now)
	defer s.Close()
	assert.Len(t, s.Chosen(), 1)
	assert.Len(t, s.Choices(10), 1)
}
