package postgres_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	wire "jollylarder/internal/wire/postgres"
)

// A session that has the server leave out kinds of plans does not make the larder's questions about the catalog slow,
// which its client would wait for; and is left as it was.
func TestQuestionsArePlannedAsUsual(t *testing.T) {
	require.NotEmpty(t, wire.AboutCatalog())
	for kind, statements := range wire.AboutCatalog() {
		assert.Equal(t, wire.PlanningQuery, statements[0], "%v", kind)
	}
	l := newLarder(t, quay, quays)
	const shown = "select concat_ws(' ', current_setting('jit'), current_setting('enable_seqscan'), current_setting('enable_hashjoin'), current_setting('join_collapse_limit'), current_setting('work_mem'))"
	const set = "set jit = on; set enable_seqscan = off; set enable_hashjoin = off; set join_collapse_limit = 1; set work_mem = '5MB'"
	const as = "on off off 1 5MB"

	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, set)
	require.NoError(t, err)
	raw, err := c.PgConn().Hijack()
	require.NoError(t, err)
	defer raw.Conn.Close()
	_, err = raw.Conn.Write(wire.QuestionMessages(wire.PlanningQuery, shown))
	require.NoError(t, err)
	_, err = raw.Conn.Write(wire.QuestionMessages(shown))
	require.NoError(t, err)
	var rows []string
	for ended := 0; ended < 2; {
		m, err := raw.Frontend.Receive()
		require.NoError(t, err)
		switch m := m.(type) {
		case *pgproto3.DataRow:
			rows = append(rows, string(m.Values[0]))
		case *pgproto3.ErrorResponse:
			require.Fail(t, m.Message)
		case *pgproto3.ReadyForQuery:
			ended++
		}
	}
	assert.Equal(t, []string{"off on on 8 5MB", as}, rows, "while the larder asks, and for what comes behind")

	through := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	_, err = through.Exec(ctx, set)
	require.NoError(t, err)
	require.Eventually(t, func() (known bool) { // from the only session that there is
		one(t, through, "select 1")
		l.engine.Databases(func(_ string, k, _ bool, _ []string) { known = k })
		return known
	}, time.Minute, 10*time.Millisecond)
	assert.Equal(t, as, one(t, through, shown))
}
