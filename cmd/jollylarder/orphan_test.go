package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

// A write that is under way when the larder is killed goes on in the database. The larder that is started behind it is not
// told of its end, and must not have cached what was before.
func TestAWriteThatOutlivesTheLarder(t *testing.T) {
	s, err := privatepg.Start("")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip("no PostgreSQL here")
	}
	require.NoError(t, err)
	defer s.Stop()
	url := func(address string) string {
		return fmt.Sprintf("postgres://postgres@%s/postgres?sslmode=disable", address)
	}
	direct := connect(t, url(s.Address()))
	_, err = direct.Exec(ctx, "create table ports (id int primary key, name text); insert into ports values (1, 'Skerrow'); select pg_advisory_lock(7)")
	require.NoError(t, err)
	dir := t.TempDir()
	rules := filepath.Join(dir, "rules.toml")
	require.NoError(t, os.WriteFile(rules, []byte("[[rule]]\nname = \"all\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1h\"\n"), 0o600))
	args := []string{"serve", "--origin", s.Address(), "--rules", rules, "--state", filepath.Join(dir, "state"), "--listen"}

	first := free(t)
	p := run(t, append(args, first)...)
	p.logs("the larder is running", 1)
	writer := connect(t, url(first))
	wrote := make(chan error, 1)
	go func() {
		_, err := writer.Exec(ctx, "update ports set name = 'Cairn Point' where id = 1 and pg_advisory_lock(7) is not null")
		wrote <- err
	}()
	waiting := "select count(*) from pg_stat_activity where wait_event = 'advisory' and query like 'update ports%'"
	count := func() (n int) {
		require.NoError(t, direct.QueryRow(ctx, waiting).Scan(&n))
		return n
	}
	require.Eventually(t, func() bool { return count() == 1 }, time.Minute, 5*time.Millisecond)
	require.NoError(t, p.cmd.Process.Kill())
	_ = p.cmd.Wait()
	require.Error(t, <-wrote)
	require.Equal(t, 1, count(), "it goes on")

	second := free(t)
	p = run(t, append(args, second)...)
	p.logs("the larder is running", 1)
	reader := connect(t, url(second))
	read := func() (name string) {
		require.NoError(t, reader.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
		return name
	}
	for range 50 { // until it would be cached
		require.Equal(t, "Skerrow", read())
		time.Sleep(10 * time.Millisecond)
	}
	_, err = direct.Exec(ctx, "select pg_advisory_unlock(7)")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		var name string
		return direct.QueryRow(ctx, "select name from ports where id = 1").Scan(&name) == nil && name == "Cairn Point"
	}, time.Minute, 5*time.Millisecond)
	assert.Equal(t, "Cairn Point", read())
}
