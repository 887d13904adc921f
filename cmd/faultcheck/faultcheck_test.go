package main

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

// The checker finds old answers where there are some, and none where there are none.
func TestTheCheckerCanFail(t *testing.T) {
	if _, err := privatepg.Binaries(); errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip("no PostgreSQL here")
	}
	larder := filepath.Join(t.TempDir(), "jollylarder")
	out, err := exec.Command("go", "build", "-o", larder, "jollylarder/cmd/jollylarder").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.NoError(t, run(larder, 500*time.Millisecond, false, "nothing"))
	assert.ErrorContains(t, run(larder, 500*time.Millisecond, true, "nothing"), "old answers were found")
	assert.ErrorContains(t, run(larder, time.Millisecond, false, "an earthquake"), "no fault")
}
