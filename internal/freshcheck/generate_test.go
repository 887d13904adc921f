package freshcheck

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is asked of whatever tables, nobody is answered with what the database would not have answered.
func TestNobodyIsAnsweredOldWhateverIsAsked(t *testing.T) {
	c := checker(t)
	c.Generated, c.Steps = true, 500
	sum, found, err := c.Run(context.Background(), 1000, 40*time.Second, 2, nil)
	require.NoError(t, err)
	require.Nil(t, found, "%v", found)
	t.Logf("%+v", sum)
	assert.Greater(t, sum.Hits, 500)
}
