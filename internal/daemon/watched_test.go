package daemon

import (
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"testing"

	_ "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/control/client"
	"jollylarder/internal/privatemaria"
)

// A larder stands before MariaDB and PostgreSQL at once: of the one, for which it has no account, it only watches the
// statements and says so.
func TestAnOriginThatIsOnlyWatched(t *testing.T) {
	server, err := privatemaria.Options{}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip("no MariaDB here")
	}
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	dir := t.TempDir()
	file := filepath.Join(dir, "larder.toml")
	require.NoError(t, os.WriteFile(file, []byte(`control = "`+filepath.Join(dir, "c.sock")+`"
[[origin]]
name = "shop"
protocol = "mysql"
address = "`+server.Address()+`"
listen = ["127.0.0.1:0"]
[[origin]]
name = "quays"
address = "`+standIn(t)+`"
listen = ["127.0.0.1:0"]
`), 0o600))
	cfg, err := config.Read(file)
	require.NoError(t, err)
	l := start(t, cfg)
	db, err := sql.Open("mysql", "root@tcp("+l.Address()+")/mysql")
	require.NoError(t, err)
	defer db.Close()
	var version string
	require.NoError(t, db.QueryRow("select version()").Scan(&version))
	assert.Contains(t, version, "MariaDB")

	c := connected(t, l.origins[1].listeners[0].Addr().String())
	var name string
	require.NoError(t, c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
	s, err := client.NewClient(cfg.Control).Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, s.Origins[0].Clients)
	assert.Equal(t, "mysql", s.Origins[0].Protocol)
	assert.True(t, s.Origins[0].OnlyWatched)
	assert.False(t, s.Origins[1].OnlyWatched)
	require.Len(t, s.Problems, 1)
	assert.Contains(t, s.Problems[0], "only watched until [origin.catalog] names an account: statements for "+server.Address())
	assert.Positive(t, s.Total.Calls(), "the other is watched")
}

// One that stands before nothing else needs no other kind of database.
func TestALarderThatOnlyWatches(t *testing.T) {
	cfg := before("127.0.0.1:1", "127.0.0.1:0", "", "")
	cfg.Origins[0].Protocol = "mysql"
	l := start(t, cfg)
	db, err := sql.Open("mysql", "root@tcp("+l.Address()+")/mysql")
	require.NoError(t, err)
	defer db.Close()
	assert.ErrorContains(t, db.Ping(), "jolly larder cannot reach the database at 127.0.0.1:1")
}
