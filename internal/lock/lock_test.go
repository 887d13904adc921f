package lock

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALockIsOnesAtATime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	release, err := File(path)
	require.NoError(t, err)
	_, err = File(path)
	var held *HeldError
	require.ErrorAs(t, err, &held)
	assert.Equal(t, os.Getpid(), held.Process)
	assert.Contains(t, err.Error(), path)
	release()
	again, err := File(path)
	require.NoError(t, err)
	again()
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = File(filepath.Join(path, "not a directory"))
	assert.Error(t, err)
}
