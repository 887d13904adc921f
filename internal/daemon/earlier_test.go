package daemon

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control/client"
	"jollylarder/internal/core/rules"
)

// What an earlier larder has sent for clients that were busy at its end may still be running: a later one waits for it. After
// an end that left nothing behind it does not wait.
func TestALarderBehindOneThatEndedAtOnce(t *testing.T) {
	dir, address := t.TempDir(), standIn(t)
	cfg := before(address, "127.0.0.1:0", filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
	cfg.State = filepath.Join(dir, "state")
	waits := func(l *Larder) bool { return !l.engine.Earlier().IsZero() }
	starts := func() *Larder {
		l, err := Start(cfg, Options{})
		require.NoError(t, err)
		return l
	}

	l := starts()
	assert.False(t, waits(l), "there was none before")
	idle := connected(t, l.Address())
	l.Close()
	assert.Error(t, idle.Ping(ctx))

	l = starts()
	assert.False(t, waits(l), "nobody was busy")
	busy := connected(t, l.Address())
	_, err := busy.Exec(ctx, "begin")
	require.NoError(t, err)
	_, err = busy.Exec(ctx, "update ports set name = 'x' where id = 1")
	require.NoError(t, err)
	l.Close()

	l = starts()
	require.True(t, waits(l), "somebody was in a transaction")
	l.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour}}))
	c := connected(t, l.Address())
	for range 3 {
		_, err := c.Exec(ctx, "select name from ports where id = 1")
		require.NoError(t, err)
	}
	var last string
	rows, err := c.Query(ctx, "show jollylarder.last", pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
	for rows.Next() {
		values, err := rows.Values()
		require.NoError(t, err)
		for _, v := range values {
			if text, ok := v.(string); ok {
				last += text + " "
			}
		}
	}
	require.NoError(t, rows.Err())
	assert.Contains(t, last, "the larder that ran before ended while clients were busy")
	s, err := client.NewClient(cfg.Control).Status(ctx)
	require.NoError(t, err)
	require.Len(t, s.Problems, 1)
	assert.Contains(t, s.Problems[0], "nothing is cached until ")
	c.Close(ctx)
	l.Close()

	l = starts()
	assert.True(t, waits(l), "the time had not passed")
	l.engine.Tick(time.Now().Add(time.Hour))
	assert.False(t, waits(l))
	l.Close()
	l = starts()
	assert.False(t, waits(l))
	l.Close()
}
