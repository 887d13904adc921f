package state

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Texts are shortened, so many are remembered, and the file is its owner's alone from its first moment on.
func TestTextsAreBounded(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	require.NoError(t, os.Mkdir(dir, 0o777))
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	s := Open(dir, now)
	defer s.Close()
	long := "select " + strings.Repeat("ä", 100_000)
	s.AddRollups([]Rollup{{At: now, Kind: Pattern, Name: "a-b-c", Text: long, Minutes: 1}, {At: now, Kind: Pattern, Name: "d-e-f", Text: "select 1", Minutes: 1}}, now)
	require.Empty(t, s.Problem())
	for _, r := range s.Totals(Pattern, now.Add(-time.Minute), now.Add(time.Minute), time.Minute) {
		assert.LessOrEqual(t, len(r.Text), longestText+len(" …"))
		assert.True(t, strings.HasPrefix(long, strings.TrimSuffix(r.Text, " …")) || r.Text == "select 1", r.Text)
	}
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, f.Name())
	}
}

// A file takes hardly more after the third day than after the second: the minutes of a day, and the hours of all.
func TestTheFileIsFlatOverDays(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	at := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	s := Open(dir, at)
	defer s.Close()
	var sizes []int64
	for day := range 3 {
		for range 24 * 60 {
			list := []Rollup{{At: at, Minutes: 1}}
			for i := range 20 {
				list = append(list, Rollup{At: at, Kind: Pattern, Name: fmt.Sprintf("p%d-%d", day, i), Text: "select " + strings.Repeat("x", 500), Minutes: 1})
			}
			s.AddRollups(list, at)
			s.Flush()
			at = at.Add(time.Minute)
		}
		require.Empty(t, s.Problem())
		_, err := s.db.Exec("pragma wal_checkpoint(truncate)")
		require.NoError(t, err)
		var size int64
		files, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, f := range files {
			info, err := f.Info()
			require.NoError(t, err)
			size += info.Size()
		}
		sizes = append(sizes, size)
	}
	assert.InEpsilon(t, sizes[1], sizes[2], 0.1, sizes)
}

// A file that has taken most of what it may keeps minutes for less time, and goes on being written.
func TestAFullFileKeepsMinutesForLessTime(t *testing.T) {
	s := Open(filepath.Join(t.TempDir(), "state"), time.Now())
	defer s.Close()
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	s.AddRollups([]Rollup{{At: now.Add(-4 * time.Hour), Kind: Everything, Minutes: 1}, {At: now.Add(-time.Hour), Kind: Everything, Minutes: 1}}, now)
	minutes := func() int {
		return len(s.Series(Everything, "", now.Add(-24*time.Hour), now.Add(time.Hour), time.Minute))
	}
	require.Equal(t, 2, minutes())
	_, err := s.db.Exec("create table filling (x blob)")
	require.NoError(t, err)
	for range mostBytes * 3 / 4 / (16 << 20) {
		_, err := s.db.Exec(fmt.Sprintf("insert into filling values (zeroblob(%d))", 16<<20+4096))
		require.NoError(t, err)
	}
	s.AddRollups([]Rollup{{At: now, Kind: Everything, Minutes: 1}}, now)
	assert.Empty(t, s.Problem())
	assert.Equal(t, 2, minutes(), "the one of four hours ago is in hours alone by now")
	for _, size := range []int{16 << 20, 1 << 20, 64 << 10, 100} { // and when it is full, that is said
		for err = nil; err == nil; {
			_, err = s.db.Exec(fmt.Sprintf("insert into filling values (zeroblob(%d))", size))
		}
	}
	for i := range 200 {
		s.AddRollups([]Rollup{{At: now.Add(time.Duration(i) * time.Minute), Kind: Pattern, Name: strings.Repeat("x", 60_000), Minutes: 1}}, now)
		if s.Problem() != "" {
			break
		}
	}
	assert.Contains(t, s.Problem(), "full")
}
