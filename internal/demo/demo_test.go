package demo

import (
	"context"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatemaria"
	"jollylarder/internal/privatepg"
)

func runHeadless(t *testing.T, cfg Config) Summary {
	d, err := Start(context.Background(), cfg)
	require.NoError(t, err)
	s, err := d.Headless(context.Background(), 6*time.Second)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	assert.Empty(t, s.FirstError)
	assert.Zero(t, s.Errors)
	assert.Zero(t, s.Stale, "a kept answer differed from the origin")
	assert.Greater(t, s.Compared, 100)
	assert.Greater(t, s.Hits, uint64(100))
	assert.Greater(t, s.Misses, uint64(10))
	assert.Positive(t, s.Drops)
	assert.Positive(t, s.Writes)
	assert.Positive(t, s.Saved)
	assert.Equal(t, s.Statements, s.Hits+s.Misses+s.Bypasses+s.Writes)
	return s
}

func TestHeadlessOnTheStandIn(t *testing.T) {
	for _, p := range Protocols() {
		t.Run(p, func(t *testing.T) { runHeadless(t, Config{Protocol: p, Seed: 3, Distance: time.Millisecond, Work: 1}) })
	}
}

func TestHeadlessOnMariaDB(t *testing.T) {
	server, err := privatemaria.Options{Settings: []string{"log-bin", "server-id=1", "binlog-format=ROW", "binlog-row-metadata=FULL"}}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer server.Stop()
	url := "mysql://root@" + server.Address()
	s := runHeadless(t, Config{Seed: 3, Origin: url})
	assert.Positive(t, s.Around, "the gauges write around the larder")
	assert.Positive(t, s.Followed, "and the boards follow")

	ctx := context.Background()
	db, c, err := opened(ctx, url, "", "test")
	require.NoError(t, err)
	defer db.Close()
	defer c.Close()
	_, err = c.ExecContext(ctx, "create database "+Database)
	require.NoError(t, err, "the demo removes its database")
	_, err = Start(ctx, Config{Origin: url})
	assert.ErrorContains(t, err, "already has a database")
	_, err = c.ExecContext(ctx, "drop database "+Database)
	require.NoError(t, err, "and leaves alone one that is not its own")
}

func TestHeadlessOnPostgreSQL(t *testing.T) {
	server, err := privatepg.Start("", "wal_level=logical")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer server.Stop()
	url := server.URL("postgres", "postgres")
	s := runHeadless(t, Config{Seed: 3, Origin: url})
	assert.Positive(t, s.Around, "the gauges write around the larder")
	assert.Positive(t, s.Followed, "and the boards follow")
	assert.Less(t, s.Followed, 10_000.0)

	c, err := pgx.Connect(context.Background(), url)
	require.NoError(t, err)
	defer c.Close(context.Background())
	var left int
	require.NoError(t, c.QueryRow(context.Background(), "select count(*) from pg_database where datname = $1", Database).Scan(&left))
	assert.Zero(t, left, "the demo removes its database")
	_, err = c.Exec(context.Background(), "create database "+Database)
	require.NoError(t, err)
	_, err = Start(context.Background(), Config{Origin: url})
	assert.ErrorContains(t, err, "already has a database")
	require.NoError(t, c.QueryRow(context.Background(), "select count(*) from pg_database where datname = $1", Database).Scan(&left))
	assert.Equal(t, 1, left, "and leaves alone one that is not its own")
}
