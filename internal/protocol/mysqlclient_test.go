package protocol

import (
	"context"
	"errors"
	"math"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatemaria"
	"jollylarder/internal/trial"
)

// A recorded parameter is sent as what it was: a whole number, a fraction, NULL, or else a text.
func TestArgumentsOfATrial(t *testing.T) {
	for _, c := range []struct {
		value, kind string
		want        any
	}{
		{"5", "int", int64(5)}, {"-5", "bigint", int64(-5)}, {"18446744073709551615", "bigint", uint64(math.MaxUint64)}, {"1.5", "double", 1.5},
		{"5", "varchar", "5"}, {"x", "int", "x"}, {"2026-12-01", "date", "2026-12-01"}, {"5", "", "5"},
	} {
		assert.Equal(t, c.want, argumentOf([]byte(c.value), c.kind), c)
	}
	assert.Nil(t, argumentOf(nil, "int"))
}

// Rows are the same bytes if they are equal, with and without parameters, and NULL is no text.
func TestATrialAsksMariaDB(t *testing.T) {
	s, err := privatemaria.Options{}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip("no MariaDB here")
	}
	require.NoError(t, err)
	defer s.Stop()
	ctx := context.Background()
	c, err := dialMySQL(ctx, "mysql://root@"+s.Address()+"/", "trial through on")
	require.NoError(t, err)
	defer c.Close()
	rows, err := c.Ask(ctx, &trial.Statement{SQL: "select 5, null, '' union all select 6, 'x', 'y:'"}, "\n/* behind */")
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("1:5\x000:"), []byte("1:61:x2:y:")}, rows)
	for range 2 { // the second time it is prepared already
		rows, err = c.Ask(ctx, &trial.Statement{SQL: "select ? + 1, ?", Parameters: []trial.Parameter{{Value: []byte("4")}, {}}, Types: []string{"int", "varchar"}}, "")
		require.NoError(t, err)
		assert.Equal(t, [][]byte{[]byte("1:5\x00")}, rows)
	}
	rows, err = c.Ask(ctx, &trial.Statement{SQL: "select attr_value from performance_schema.session_connect_attrs where attr_name = 'program_name'"}, "")
	require.NoError(t, err)
	assert.Empty(t, rows, "which this server does not tell")
	_, err = c.Ask(ctx, &trial.Statement{SQL: "select from"}, "")
	assert.Error(t, err)
	assert.False(t, c.Closed(), "after an error of the server it goes on")
	require.NoError(t, c.Begin(ctx))
	require.NoError(t, c.Rollback(ctx))
	_, err = c.Ask(ctx, &trial.Statement{SQL: "kill connection_id()"}, "")
	assert.Error(t, err)
	_, err = c.Ask(ctx, &trial.Statement{SQL: "select 1"}, "")
	assert.Error(t, err)
	assert.True(t, c.Closed())
}
