package server

import (
	"slices"
	"testing"

	"jollylarder/internal/state"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Undo and redo go back and forth over changes as an editor's do, in whatever order they come.
func TestUndoAndRedo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var past history // the latest first
		add := func(restores int64) int64 {
			id := int64(len(past) + 1)
			past = slices.Insert(past, 0, state.Entry{ID: id, Restores: restores})
			return id
		}
		done, undone := []int64{add(0)}, []int64{} // an editor's two stacks
		for range rapid.IntRange(1, 40).Draw(t, "steps") {
			switch rapid.IntRange(0, 3).Draw(t, "step") {
			case 0:
				done, undone = append(done, add(0)), undone[:0]
			case 1, 2:
				to := past.undo()
				if len(done) == 1 {
					require.Nil(t, to)
					continue
				}
				last := len(done) - 1
				require.NotNil(t, to)
				require.Equal(t, done[last-1], to.ID)
				done, undone = done[:last], append(undone, done[last])
				add(to.ID)
			case 3:
				to := past.redo()
				if len(undone) == 0 {
					require.Nil(t, to)
					continue
				}
				last := len(undone) - 1
				require.NotNil(t, to)
				require.Equal(t, undone[last], to.ID)
				done, undone = append(done, undone[last]), undone[:last]
				add(to.ID)
			}
		}
	})
}

// An undo to an entry of one's choice is where the next undo goes on from. A history whose beginning was forgotten is not
// gone back over.
func TestUndoFromWhereOneChose(t *testing.T) {
	past := history{{ID: 5, Restores: 2}, {ID: 4}, {ID: 3}, {ID: 2}, {ID: 1}}
	require.NotNil(t, past.undo())
	assert.EqualValues(t, 1, past.undo().ID)
	require.NotNil(t, past.redo())
	assert.EqualValues(t, 3, past.redo().ID, "the change after")
	assert.Nil(t, past[:3].undo(), "the entry that was gone back to is forgotten")
	assert.Nil(t, past[:3].redo())
	assert.Nil(t, history(nil).undo())
	assert.Nil(t, history(nil).redo())
}
