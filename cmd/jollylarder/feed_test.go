package main

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

	"jollylarder/internal/privatepg"
)

// A database is prepared for a feed, followed by a larder, and left as it was.
func TestAFeedFromSetupToRemoval(t *testing.T) {
	server, err := privatepg.Start("", "wal_level=logical")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer server.Stop()
	url := server.URL("postgres", "skerrow")
	admin, err := pgx.Connect(ctx, server.URL("postgres", "postgres"))
	require.NoError(t, err)
	defer admin.Close(ctx)
	_, err = admin.Exec(ctx, "create database skerrow")
	require.NoError(t, err)
	db, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer db.Close(ctx)
	_, err = db.Exec(ctx, "create table ports (id int primary key, name text)")
	require.NoError(t, err)

	dir := t.TempDir()
	s := &shell{t, filepath.Join(dir, "larder.sock")}
	assert.Contains(t, s.does(exitUsage, "feed", "setup"), "--database is missing")
	args := []string{"--database", url, "--role", "larder_feed"}
	shown := s.does(0, append([]string{"feed", "setup"}, args...)...)
	assert.Contains(t, shown, `create publication "jolly_larder" for table "public"."ports"`)
	assert.Contains(t, shown, "Nothing was done")
	assert.Contains(t, s.does(0, append([]string{"feed", "setup", "--yes"}, args...)...), "[origin.feed]\nuser = \"larder_feed\"")
	config := filepath.Join(dir, "larder.toml")
	require.NoError(t, os.WriteFile(config, []byte("control = \"larder.sock\"\n[[origin]]\naddress = \""+server.Address()+"\"\nlisten = [\""+free(t)+"\"]\n[origin.feed]\nuser = \"larder_feed\"\ndatabases = [\"skerrow\"]\n"), 0o600))
	larder := run(t, "serve", "--config", config)
	larder.logs("changes are followed by the replication stream", 1)
	_, err = db.Exec(ctx, "insert into ports values (1, 'Hallan')")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		out, _ := s.run("status")
		return strings.Contains(out, "by the replication stream: 1 rows")
	}, eventually, 50*time.Millisecond)
	out, code := s.run(append([]string{"feed", "remove", "--yes"}, args...)...)
	assert.NotZero(t, code)
	assert.Contains(t, out, "nothing was done: the slot jolly_larder_skerrow is in use")
	require.NoError(t, larder.cmd.Process.Signal(os.Interrupt))
	_ = larder.cmd.Wait()
	require.Eventually(t, func() bool { // the server takes a moment to see that nobody follows any more
		out, code = s.run(append([]string{"feed", "remove", "--yes"}, args...)...)
		return code == 0
	}, eventually, 20*time.Millisecond)
	assert.Contains(t, out, "Done.")
	assert.Contains(t, s.does(0, append([]string{"feed", "remove", "--yes"}, args...)...), "There is nothing to do")
}
