package control

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Undo and redo go back and forth over changes as an editor's do, in whatever order they come.
func TestUndoAndRedo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var history []Entry // the latest first
		add := func(restores int64) int64 {
			id := int64(len(history) + 1)
			history = slices.Insert(history, 0, Entry{ID: id, Restores: restores})
			return id
		}
		done, undone := []int64{add(0)}, []int64{} // an editor's two stacks
		for range rapid.IntRange(1, 40).Draw(t, "steps") {
			switch rapid.IntRange(0, 3).Draw(t, "step") {
			case 0:
				done, undone = append(done, add(0)), undone[:0]
			case 1, 2:
				to := UndoTo(history)
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
				to := RedoTo(history)
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
	history := []Entry{{ID: 5, Restores: 2}, {ID: 4}, {ID: 3}, {ID: 2}, {ID: 1}}
	require.NotNil(t, UndoTo(history))
	assert.EqualValues(t, 1, UndoTo(history).ID)
	require.NotNil(t, RedoTo(history))
	assert.EqualValues(t, 3, RedoTo(history).ID, "the change after")
	assert.Nil(t, UndoTo(history[:3]), "the entry that was gone back to is forgotten")
	assert.Nil(t, RedoTo(history[:3]))
	assert.Nil(t, UndoTo(nil))
	assert.Nil(t, RedoTo(nil))
}
