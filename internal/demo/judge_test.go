package demo

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

// told is a connection that answers each read with what it was told.
type told struct {
	connection
	answers [][]string
}

func (c *told) rows(context.Context, string, ...any) ([]string, error) {
	next := c.answers[0]
	c.answers = c.answers[1:]
	return next, nil
}

// An answer is stale if the database itself gives another one; what is read before counting begins is left out.
func TestJudgedAnswers(t *testing.T) {
	j := &judge{}
	seats := func(n int) []string { return []string{strconv.Itoa(n)} }
	c := &judged{
		j:          j,
		connection: &told{answers: [][]string{seats(1), seats(5), seats(5), seats(4)}},
		truth:      &told{answers: [][]string{seats(2), seats(5), seats(4), seats(4)}},
	}
	for i := range 4 {
		j.count = i > 0
		_, err := c.rows(context.Background(), "select seats")
		require.NoError(t, err)
	}
	assert.Equal(t, 1, j.out.Stale)
	assert.Len(t, j.took, 3)
}

// keyValueServer starts a key-value server for a test.
func keyValueServer(t *testing.T) string {
	program, err := exec.LookPath("redis-server")
	if err != nil && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := ln.Addr().String()
	ln.Close()
	_, port, _ := net.SplitHostPort(address)
	cmd := exec.Command(program, "--bind", "127.0.0.1", "--port", port, "--save", "", "--appendonly", "no", "--dir", t.TempDir())
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _, _ = cmd.Process.Kill(), cmd.Wait() })
	require.Eventually(t, func() bool {
		k, err := dialKeyValue(address)
		if err != nil {
			return false
		}
		k.close()
		return true
	}, time.Minute, 20*time.Millisecond)
	return address
}

// What an application caches by hand comes back until its TTL has ended, whatever the database says meanwhile.
func TestCachedByHand(t *testing.T) {
	store, err := dialKeyValue(keyValueServer(t))
	require.NoError(t, err)
	defer store.close()
	_, ok, err := store.get("nothing")
	require.NoError(t, err)
	assert.False(t, ok)
	db := &told{answers: [][]string{{"a", "b\r\nc"}, {"d"}, {"e"}}}
	h := handCached{db, store, time.Hour}
	read := func(args ...any) []string {
		rows, err := h.rows(context.Background(), "select name where id = $1", args...)
		require.NoError(t, err)
		return rows
	}
	assert.Equal(t, []string{"a", "b\r\nc"}, read(1))
	assert.Equal(t, []string{"a", "b\r\nc"}, read(1))
	assert.Equal(t, []string{"d"}, read(2))
	h.ttl = time.Millisecond
	assert.Equal(t, []string{"e"}, read(3))
	require.Eventually(t, func() bool { _, ok, err := store.get("rows:select name where id = $1[3]"); return err == nil && !ok }, time.Minute, time.Millisecond)
}

// The demo's reads are answered in each way; only those that have no age are never stale.
func TestWaysAreJudged(t *testing.T) {
	server, err := privatepg.Start("", "wal_level=logical")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") != "true" {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer server.Stop()
	store := keyValueServer(t)
	for _, w := range Ways {
		got, err := Judge(context.Background(), server.URL("postgres", "postgres"), store, w, time.Hour, 2*time.Second)
		require.NoError(t, err, w)
		assert.Positive(t, got.Reads, w)
		assert.LessOrEqual(t, got.Median, got.P99, w)
		switch w {
		case Direct:
			assert.Zero(t, got.FromMemory, w)
			assert.Zero(t, got.Stale, w)
		case UntilWritten:
			assert.Zero(t, got.Stale, w)
		}
		assert.Equal(t, w == ByHand, got.Lines > 0, w)
	}
}
