package feed

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
)

// A stream that is not heard of falls behind by its silence.
func TestAStreamThatStalls(t *testing.T) {
	now := time.Now()
	s := Status{Mode: Stream, At: now.Add(-time.Second), Lag: time.Millisecond}
	assert.Equal(t, s, s.seen(now))
	s.At = now.Add(-20 * time.Second)
	assert.Equal(t, 20*time.Second+time.Millisecond, s.seen(now).Lag)
	assert.Equal(t, "the stream has told nothing for 20 s", s.seen(now).Problem)
}

// What is not seen yet is called once, when it is.
func TestUnseen(t *testing.T) {
	var u Unseen[int]
	called := map[int]int{}
	for i := range 4 {
		u.Add(i, func() { called[i]++ })
	}
	assert.True(t, u.Shown(func(i int) bool { return i%2 == 0 }))
	assert.True(t, u.Any())
	assert.False(t, u.Shown(func(int) bool { return true }))
	u.All()
	assert.False(t, u.Any())
	assert.Equal(t, map[int]int{0: 1, 1: 1, 2: 1, 3: 1}, called)
}

// Of a transaction of too many rows the tables alone are told, and any way of writing them.
func TestRowsOfALargeTransaction(t *testing.T) {
	var r Rows
	for i := range MostRows {
		r.Add(engine.RowChange{Schema: "s", Table: []string{"a", "b"}[i%2], Kind: analysis.Insert})
	}
	require.Len(t, r.All(), MostRows)
	r.Add(engine.RowChange{Schema: "s", Table: "c", Kind: analysis.Delete})
	tables := map[string]analysis.Events{}
	for _, c := range r.All() {
		tables[c.Table] = c.Kind
	}
	assert.Equal(t, map[string]analysis.Events{"a": AnyWrite, "b": AnyWrite, "c": AnyWrite}, tables)
}

// Pauses grow up to the longest.
func TestPauses(t *testing.T) {
	var p Pause
	var all []time.Duration
	for range 5 {
		all = append(all, p.Next(6*time.Millisecond))
	}
	assert.Equal(t, []time.Duration{1e6, 2e6, 4e6, 6e6, 6e6}, all)
}

func TestAPlanThatFails(t *testing.T) {
	var done []string
	err := Plan{Steps: []string{"one", "two", "three"}}.Run(context.Background(), func(_ context.Context, step string) error {
		if step == "two" {
			return errors.New("it is refused")
		}
		done = append(done, step)
		return nil
	})
	assert.Equal(t, []string{"one"}, done)
	assert.EqualError(t, err, "step 2 of 3, two: it is refused; the steps before it are done, and running this again goes on from there")
}

// Whatever goes wrong, a fault among it, it is followed again. What was told and could not be seen is forgotten if that
// does not succeed.
func TestFollowingGoesOn(t *testing.T) {
	e, err := engine.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	require.NoError(t, err)
	var k Keeping[int]
	o := &Options{Feed: e.Feed("", "skerrow")}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	tries, forgotten, released := 0, 0, 0
	k.Keep(ctx, o, func(context.Context) error {
		switch tries++; tries {
		case 1:
			k.Begins(o, "it begins", "here", 0)
			k.Unseen.Add(1, func() { released++ })
			return nil
		case 2:
			assert.Equal(t, "the connection ended", k.Status().Problem)
			assert.Zero(t, released, "it may go on from there")
			panic("a fault")
		}
		assert.Equal(t, "a fault in the larder: a fault", k.Status().Problem)
		assert.Equal(t, []int{2, 1}, []int{forgotten, released})
		k.Begins(o, "", "there", 7)
		assert.Equal(t, Status{Mode: Stream, Bound: 7}, k.Status())
		stop()
		return nil
	}, func() { forgotten++ })
	assert.Equal(t, 3, tries)
}
