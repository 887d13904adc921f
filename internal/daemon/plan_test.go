package daemon

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control/client"
	"jollylarder/internal/privatepg"
)

// A plan is the database's own, by the account of the larder; it is refused where there is none, and where planning
// might run something.
func TestPlansThroughTheAPI(t *testing.T) {
	server, err := privatepg.Start("")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip("no PostgreSQL here")
	}
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	socket := filepath.Join(t.TempDir(), "c.sock")
	cfg := before(server.Address(), "127.0.0.1:0", "", socket)
	l := start(t, cfg)
	c, err := pgx.Connect(ctx, "postgres://postgres@"+l.Address()+"/postgres?sslmode=disable")
	require.NoError(t, err)
	defer c.Close(ctx)
	for _, sql := range []string{"create table berths (id int primary key, n int)", "create function busy() returns int language sql as 'select 1'"} {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	api := client.NewClient(socket)
	pattern := func(sql, part string) (id string) {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			list, err := api.Patterns(ctx, "", "", false)
			for _, p := range list.Patterns {
				if strings.Contains(p.Text, part) {
					id = p.ID
				}
			}
			return err == nil && id != ""
		}, time.Minute, 20*time.Millisecond)
		return id
	}
	reads := pattern("select n from berths where id = 4", "from berths")
	_, err = api.Plan(ctx, reads)
	assert.ErrorContains(t, err, "[origin.fetch]")

	l.mu.Lock()
	l.cfg.Origins[0].CatalogUser = "postgres"
	l.mu.Unlock()
	require.Eventually(t, func() bool { // until the catalog says where the table is
		p, err := api.Plan(ctx, reads)
		_, asked := c.Exec(ctx, "select n from berths where id = 4")
		require.NoError(t, asked)
		return err == nil && p.User == "postgres" && p.Database == "postgres" && strings.Contains(p.Lines[0], "berths_pkey")
	}, time.Minute, 50*time.Millisecond)
	_, err = api.Plan(ctx, pattern("select busy()", "select busy"))
	assert.ErrorContains(t, err, "the server may run busy while it plans")
	_, err = api.Plan(ctx, pattern("set lock_timeout = 5", "lock_timeout"))
	assert.ErrorContains(t, err, "has no plan")
	_, err = api.Plan(ctx, "bado-kife-ruma")
	var refused *client.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.True(t, refused.Missing())
}
