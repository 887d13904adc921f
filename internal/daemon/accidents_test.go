package daemon

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
)

// With follow_rules a file that was emptied, removed or is still being written is not taken for what somebody meant.
func TestAnEmptiedRulesFileIsNotFollowed(t *testing.T) {
	d := newDesk(t)
	d.l.Close()
	d.cfg.FollowRules = true
	d.begin()
	rules := func() int { return len(d.l.Engine().Rules().List()) }
	for name, spoil := range map[string]func() error{
		"emptied":  func() error { return os.WriteFile(d.file, nil, 0o600) },
		"comments": func() error { return os.WriteFile(d.file, []byte("# nothing\n"), 0o600) },
		"removed":  func() error { return os.Remove(d.file) },
	} {
		require.NoError(t, spoil(), name)
		require.Eventually(t, func() bool {
			st, err := d.api.Status(ctx)
			return err == nil && st.Outside != nil
		}, time.Minute, 10*time.Millisecond, name)
		time.Sleep(stillTime + 5*quietTime) // by then it would have been taken
		assert.Equal(t, 1, rules(), name)
		require.NoError(t, os.WriteFile(d.file, []byte(mine), 0o600))
		require.Eventually(t, func() bool {
			st, err := d.api.Status(ctx)
			return err == nil && st.Outside == nil
		}, time.Minute, 10*time.Millisecond, name)
	}
	require.NoError(t, os.WriteFile(d.file, nil, 0o600))
	require.Eventually(t, func() bool {
		_, err := d.api.Apply(ctx, control.Apply{File: true, Why: "they are all wrong"})
		return err == nil
	}, time.Minute, 50*time.Millisecond)
	assert.Zero(t, rules(), "somebody has confirmed it")

	// A file that is written in pieces is taken when it is whole.
	f, err := os.Create(d.file)
	require.NoError(t, err)
	defer f.Close()
	for i := range 6 {
		_, err := f.WriteString("[[rule]]\ntext = \"select " + strings.Repeat("x", i+1) + "\"\naction = \"cache\"\nttl = \"1m\"\n")
		require.NoError(t, err)
		time.Sleep(stillTime / 5)
	}
	require.Eventually(t, func() bool { return rules() == 6 }, time.Minute, 10*time.Millisecond)
}

// No two larders use the same directory, rules file or socket, also when they start at the same moment.
func TestLardersShareNothing(t *testing.T) {
	d := newDesk(t)
	other := t.TempDir()
	for name, change := range map[string]func(){
		"directory for state": func() { d.cfg.Rules, d.cfg.Control = filepath.Join(other, "r.toml"), filepath.Join(other, "c.sock") },
		"rules file":          func() { d.cfg.State, d.cfg.Control = filepath.Join(other, "state"), filepath.Join(other, "c.sock") },
		"control socket":      func() { d.cfg.State, d.cfg.Rules = filepath.Join(other, "state"), filepath.Join(other, "r.toml") },
	} {
		was := d.cfg
		change()
		_, err := Start(d.cfg, Options{})
		assert.ErrorContains(t, err, name)
		assert.ErrorContains(t, err, "process")
		d.cfg = was
	}
	d.l.Close()
	d.begin() // what a larder that has ended leaves behind is in nobody's way
	second := make(chan error, 4)
	d.l.Close()
	for range 4 {
		go func() {
			l, err := Start(d.cfg, Options{})
			if err == nil {
				time.Sleep(100 * time.Millisecond)
				l.Close()
			}
			second <- err
		}()
	}
	started := 0
	for range 4 {
		if <-second == nil {
			started++
		}
	}
	assert.GreaterOrEqual(t, started, 1)
	d.begin()
}

// What nobody means is refused, with what is meant instead.
func TestLimitsThatNobodyMeans(t *testing.T) {
	d := newDesk(t)
	for _, bytes := range []int64{1<<63 - 1, 1 << 50, 0, -5} {
		err := d.api.SetLimit(ctx, control.Limit{Bytes: bytes})
		assert.ErrorContains(t, err, "expected at", bytes)
	}
	huge := bytes.Repeat([]byte("# a comment that goes on\n"), largestRules/25+2)
	require.NoError(t, os.WriteFile(d.file, huge, 0o600))
	require.Eventually(t, func() bool {
		st, err := d.api.Status(ctx)
		return err == nil && st.Outside != nil && strings.Contains(st.Outside.Problem, "larger than 16 MiB")
	}, time.Minute, 10*time.Millisecond)
	require.NoError(t, os.WriteFile(d.file, []byte(mine), 0o600))
	d.l.Close()
	d.cfg.Control = filepath.Join(t.TempDir(), strings.Repeat("long", 30), "c.sock")
	_, err := Start(d.cfg, Options{})
	assert.ErrorContains(t, err, "at most 100")
	d.cfg.Control = filepath.Join(t.TempDir(), "c.sock")
	d.begin()
}

// What the state holds is its owner's alone, in a directory that is open to others as well.
func TestTheStateIsItsOwnersAlone(t *testing.T) {
	d := newDesk(t)
	d.l.Close()
	require.NoError(t, os.RemoveAll(d.cfg.State))
	require.NoError(t, os.Mkdir(d.cfg.State, 0o777))
	require.NoError(t, os.Chmod(d.cfg.State, 0o777))
	d.begin()
	_, err := d.api.PutRule(ctx, "bado-kife-ruma", *cacheFor("bado-kife-ruma", "1h"))
	require.NoError(t, err)
	files, err := os.ReadDir(d.cfg.State)
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, f.Name())
	}
}

// The same of sockets for clients.
func TestOneLarderListensOnASocket(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".s.PGSQL.7432")
	l, err := listen(path)
	require.NoError(t, err)
	_, err = listen(path)
	assert.ErrorContains(t, err, "another larder uses it")
	require.NoError(t, l.Close())
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	_, err = listen(path)
	assert.ErrorContains(t, err, "a file of that name is there")
	require.NoError(t, os.Remove(path))
	l, err = listen(path)
	require.NoError(t, err)
	require.NoError(t, l.Close())
}
