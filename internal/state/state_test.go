package state

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

var now = time.Date(2027, 3, 1, 8, 30, 0, 0, time.UTC)

func TestWhatWasRememberedIsThereAgain(t *testing.T) {
	dir := t.TempDir()
	s := Open(dir, now)
	require.Empty(t, s.Problem())
	id := s.Add(Entry{At: now, Kind: "apply", Who: "ines", Why: "boards", Text: []byte("# rules"), Changes: []string{"added x"}, Forecast: "{}"})
	s.Add(Entry{At: now, Kind: "undo", Who: "tomas"})
	s.Actual(id, false, `{"hits": 0.5}`)
	s.PutDraft("ines", Draft{At: now, Base: "abc", Text: []byte("# draft")})
	s.PutInputs("boards", []string{"k\x00ey", "other"})
	s.Close()

	s = Open(dir, now)
	list := s.History(10)
	require.Len(t, list, 2)
	assert.Equal(t, "tomas", list[0].Who, "the latest first")
	e, ok := s.Entry(id)
	require.True(t, ok)
	assert.Equal(t, []any{"boards", "# rules", []string{"added x"}, `{"hits": 0.5}`}, []any{e.Why, string(e.Text), e.Changes, e.Hour})
	d, ok := s.Draft("ines")
	assert.Equal(t, "# draft", string(d.Text))
	assert.True(t, ok)
	s.RemoveDraft("ines")
	_, ok = s.Draft("ines")
	assert.False(t, ok)
	assert.Equal(t, []string{"k\x00ey", "other"}, s.Inputs("boards"))
	s.ForgetInputs([]string{"boards"})
	assert.Len(t, s.Inputs("boards"), 2)
	s.ForgetInputs(nil)
	assert.Empty(t, s.Inputs("boards"))
	assert.Equal(t, int64(3), s.Add(Entry{At: now}), "numbers go on")
	s.Close()
	info, err := os.Stat(filepath.Join(dir, FileName))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A process that is killed in the middle of its writing loses nothing that it was told is written.
func TestKilledWhileWriting(t *testing.T) {
	if dir := os.Getenv("STATE_TO_BE_KILLED"); dir != "" {
		s := Open(dir, now)
		for i := range 10_000 {
			fmt.Println(s.Add(Entry{At: now, Kind: "apply", Why: fmt.Sprint(i), Text: make([]byte, 2000)}))
		}
		return
	}
	dir := t.TempDir()
	cmd := exec.Command(os.Args[0], "-test.run", "^TestKilledWhileWriting$")
	cmd.Env = append(os.Environ(), "STATE_TO_BE_KILLED="+dir)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	var last int64
	for last < 20 {
		_, err := fmt.Fscanln(out, &last)
		require.NoError(t, err)
	}
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	s := Open(dir, now)
	defer s.Close()
	assert.Empty(t, s.Notice())
	assert.GreaterOrEqual(t, s.History(1)[0].ID, last)
}

func TestADamagedFileIsSetAside(t *testing.T) {
	for name, damage := range map[string]func(path string){
		"no database":  func(path string) { require.NoError(t, os.WriteFile(path, []byte("this is no database at all"), 0o600)) },
		"cut short":    func(path string) { require.NoError(t, os.Truncate(path, 5000)) },
		"overwritten":  func(path string) { overwrite(t, path) },
		"other tables": func(path string) { otherTables(t, path) },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s := Open(dir, now)
			for range 50 {
				s.Add(Entry{At: now, Text: make([]byte, 3000)})
			}
			s.Close()
			damage(filepath.Join(dir, FileName))
			s = Open(dir, now)
			defer s.Close()
			assert.Contains(t, s.Notice(), "renamed to "+filepath.Join(dir, FileName)+".damaged-20270301-083000")
			assert.Empty(t, s.Problem())
			assert.Empty(t, s.History(10))
			s.Add(Entry{At: now})
			assert.Empty(t, s.Problem(), "the fresh one is written")
		})
	}
}

func overwrite(t *testing.T, path string) {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for i := 4096; i < len(text); i++ {
		text[i] = 'x'
	}
	require.NoError(t, os.WriteFile(path, text, 0o600))
}

func otherTables(t *testing.T, path string) {
	s := &Store{drafts: map[string]Draft{}}
	require.NoError(t, s.open(path))
	_, err := s.db.Exec("drop table history; create table history (x)")
	require.NoError(t, err)
	s.db.Close()
}

func TestWithoutAPlaceToWrite(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	s := Open(filepath.Join(file, "below"), now)
	assert.Contains(t, s.Problem(), "cannot be made")
	id := s.Add(Entry{At: now, Why: "x"})
	e, ok := s.Entry(id)
	assert.True(t, ok, "what happens is known while the program runs")
	assert.Equal(t, "x", e.Why)

	s = Open(dir, now)
	defer s.Close()
	_, err := s.db.Exec("pragma max_page_count = 12") // a full disk
	require.NoError(t, err)
	s.Add(Entry{At: now, Text: make([]byte, 1<<20)})
	assert.Contains(t, s.Problem(), "cannot be written")
	require.Len(t, s.History(10), 1)
	_, err = s.db.Exec("pragma max_page_count = 100000")
	require.NoError(t, err)
	s.Flush()
	assert.Empty(t, s.Problem(), "it is tried again")
	var n int
	require.NoError(t, s.db.QueryRow("select count(*) from history").Scan(&n))
	assert.Equal(t, 1, n)
}

func TestRollupsAreThinnedWithAge(t *testing.T) {
	s := Open(t.TempDir(), now)
	defer s.Close()
	count := func(where string) (n int) {
		require.NoError(t, s.db.QueryRow("select count(*) from numbers where "+where).Scan(&n))
		return n
	}
	at := now
	numbers := ledger.Sums{Count: [4]uint64{5, 0, 5, 0}, Saved: time.Second, Before: ledger.Part{Calls: 5, Waited: time.Second}, Samples: ledger.Samples{Count: 2, Took: 3, Squares: 5}}
	for range 30 * 60 {
		s.AddRollups([]Rollup{{At: at, Minutes: 1, Sums: numbers, Memory: 1000}, {At: at, Kind: Pattern, Name: "bado-kife-ruma", Text: "select $", Minutes: 1, Sums: numbers}}, at)
		at = at.Add(time.Minute)
	}
	sum := s.Sum(Everything, "", at.Add(-time.Hour), at)
	assert.Equal(t, uint64(60), sum.Minutes)
	assert.Equal(t, uint64(600), sum.Calls())
	assert.Equal(t, time.Minute, sum.Saved)
	assert.Equal(t, ledger.Part{Calls: 300, Waited: time.Minute}, sum.Before)
	assert.Equal(t, ledger.Samples{Count: 120, Took: 180, Squares: 300}, sum.Samples)
	assert.InDelta(t, 1000, sum.Memory, 0.01, "an average, and no sum")
	series := s.Series(Pattern, "bado-kife-ruma", at.Add(-3*time.Hour), at, time.Hour)
	require.GreaterOrEqual(t, len(series), 3)
	assert.Equal(t, uint64(600), series[0].Calls())
	totals := s.Totals(Pattern, at.Add(-2*time.Hour), at, time.Minute)
	require.Len(t, totals, 1)
	assert.Equal(t, "select $", totals[0].Text)
	assert.Equal(t, uint64(1200), totals[0].Calls())
	assert.LessOrEqual(t, count("step = 60"), 2*(24*60+1), "minutes for a day")
	assert.Equal(t, 2*31, count("step = 3600"))
	var many []Rollup
	for i := range 300 {
		many = append(many, Rollup{At: at, Kind: Pattern, Name: fmt.Sprint("p", i), Sums: ledger.Sums{Saved: time.Duration(i) * time.Second}})
	}
	s.AddRollups(many, at)
	hour := at.Truncate(time.Hour).Add(time.Hour)
	s.AddRollups(nil, hour)
	assert.LessOrEqual(t, count(fmt.Sprintf("step = 3600 and at = %d", at.Truncate(time.Hour).Unix())), Each+2)
	assert.Equal(t, 1, count("step = 3600 and name = 'p299'"), "those waited for most remain")
}

// What an earlier version wrote is taken over, from whichever version, and once only.
func TestWhatEarlierVersionsWroteIsTakenOver(t *testing.T) {
	for from := range len(migrations) {
		dir := t.TempDir()
		db, err := sql.Open("sqlite", filepath.Join(dir, FileName))
		require.NoError(t, err)
		require.NoError(t, migrate(db, from))
		if from == 1 {
			_, err = db.Exec("insert into rollups values (60, ?, '', 10, 4, 1, 5, 0, 2, 3000000, 2000000)", now.Unix()/60*60)
			require.NoError(t, err)
		}
		require.NoError(t, db.Close())
		for range 2 {
			s := Open(dir, now)
			require.Empty(t, s.Problem()+s.Notice())
			sum := s.Sum(Everything, "", now.Add(-time.Hour), now.Add(time.Hour))
			if from == 1 {
				assert.Equal(t, uint64(10), sum.Calls())
				assert.Equal(t, 3*time.Second, sum.AllWaited())
				assert.Equal(t, 2*time.Second, sum.Saved)
			}
			s.Close()
		}
	}
}

// A migration that fails leaves the file as it was; a file of a later version is left alone.
func TestMigrationsThatCannotBeMade(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, FileName)
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("create table inputs (mine text)")
	require.NoError(t, err)
	assert.ErrorContains(t, migrate(db, len(migrations)), "version 1")
	var version, tables int
	require.NoError(t, db.QueryRow("pragma user_version").Scan(&version))
	require.NoError(t, db.QueryRow("select count(*) from sqlite_master where type = 'table'").Scan(&tables))
	assert.Zero(t, version)
	assert.Equal(t, 1, tables, "nothing half made")
	_, err = db.Exec(fmt.Sprintf("pragma user_version = %d", len(migrations)+1))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s := Open(dir, now)
	defer s.Close()
	assert.Contains(t, s.Problem(), "newer version")
}
