package daemon

import (
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/privatemaria"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/protocol"
)

// found gives what was found of a subject, a line each: the state and the text.
func found(x Examination, subject string) (lines []string) {
	for _, f := range x.Findings {
		if strings.TrimSpace(f.Subject+" "+f.About) == subject || f.Subject == subject {
			lines = append(lines, string(f.State)+": "+f.Found)
		}
	}
	return lines
}

// one gives the only thing that was found of a subject.
func one(t *testing.T, x Examination, subject string) string {
	list := found(x, subject)
	require.Len(t, list, 1, "%s of %+v", subject, x.Findings)
	return list[0]
}

// remedied checks that whatever is not well has something that can be done about it.
func remedied(t *testing.T, x Examination) {
	for _, f := range x.Findings {
		assert.Equal(t, f.State != Fine, f.Remedy != "", "%+v", f)
		assert.NotEmpty(t, f.Found, "%+v", f)
	}
}

// What is wrong of files, limits and addresses is found without any server.
func TestTheDoctorWithoutAServer(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for name, c := range map[string]struct {
		change        func(*config.Config)
		subject, want string
		worst         State
	}{
		"nothing but the larder that does not run":  {func(*config.Config) {}, "larder", "not checked: no larder answers at ", Unchecked},
		"no control socket":                         {func(c *config.Config) { c.Control = "" }, "larder", "not checked: there is no control socket", Unchecked},
		"a rules file that is wrong":                {func(c *config.Config) { c.Rules = file("wrong.toml", "[[rule]]\naction = 7") }, "rules", "problem: the rules file ", Bad},
		"rules that do nothing":                     {func(c *config.Config) { c.Rules = file("two.toml", twoAlike) }, "rules", "warning: rule ", Doubtful},
		"a rule that is paused":                     {func(c *config.Config) { c.Rules = file("paused.toml", paused) }, "rules ports", "warning: the rule is paused", Doubtful},
		"no rules file":                             {func(c *config.Config) { c.Rules = "" }, "rules", "warning: there is no rules file", Doubtful},
		"no directory for state":                    {func(c *config.Config) { c.State = "" }, "state", "warning: history, drafts and statistics end", Doubtful},
		"one that is not there yet":                 {func(c *config.Config) { c.State = filepath.Join(dir, "new") }, "state", "not checked: there is no directory", Unchecked},
		"one that is a file":                        {func(c *config.Config) { c.State = file("state", "") }, "state", "problem: ", Bad},
		"more memory than there is":                 {func(c *config.Config) { c.Memory = 1 << 50 }, "memory", "problem: memory and overhead may take 1048576.2 GiB of ", Bad},
		"much memory":                               {func(c *config.Config) { c.Memory = least(thisProcess()) * 7 / 10 }, "memory", "warning: ", Doubtful},
		"more clients than descriptors":             {func(c *config.Config) { c.Origins[0].Connections = 1 << 29 }, "descriptors", "problem: this shell's limit is ", Bad},
		"an address that is taken":                  {func(c *config.Config) { c.Origins[0].Listen = []string{taken.Addr().String()} }, "listener", "problem: listen tcp", Bad},
		"an origin that is not there":               {func(c *config.Config) { c.Origins[0].Address = gone(t) }, "origin", "problem: it cannot be reached at ", Bad},
		"an origin that is not there, with account": {func(c *config.Config) { c.Origins[0].Address, c.Origins[0].CatalogUser = gone(t), "larder" }, "origin", "problem: it cannot be reached at ", Bad},
		"a password that cannot be read": {func(c *config.Config) {
			c.Origins[0].CatalogUser, c.Origins[0].CatalogPassword = "larder", filepath.Join(dir, "nowhere")
		}, "configuration", "problem: origin mainland: the account for reading catalogs", Bad},
		"a file where a socket is to be": {func(c *config.Config) { c.Origins[0].Listen = []string{file("taken.sock", "")} }, "listener", "problem: " + filepath.Join(dir, "taken.sock") + ": a file of that name is there", Bad},
		"no directory for a socket":      {func(c *config.Config) { c.Origins[0].Listen = []string{filepath.Join(dir, "nowhere", "a.sock")} }, "listener", "problem: making a socket in ", Bad},
		"a warning of the configuration": {func(c *config.Config) { c.Warnings = []string{"that is odd"} }, "configuration", "warning: that is odd", Doubtful},
		"MariaDB without an account":     {func(c *config.Config) { c.Origins[0].Protocol = "mysql" }, "account", "warning: there is none: statements are only watched", Doubtful},
	} {
		t.Run(name, func(t *testing.T) {
			cfg := before(taken.Addr().String(), "127.0.0.1:0", file("rules.toml", ""), filepath.Join(dir, "c.sock"))
			cfg.State = t.TempDir()
			cfg.Origins[0].Name = "mainland"
			cfg.Origins[0].Connections = 10
			c.change(&cfg)
			x := Examine(ctx, cfg, "")
			remedied(t, x)
			all := found(x, c.subject)
			require.NotEmpty(t, all, "%+v", x.Findings)
			assert.Contains(t, strings.Join(all, "\n"), c.want)
			if c.worst != Unchecked { // no feed is worth a word, too
				assert.GreaterOrEqual(t, worse(x.Worst), worse(c.worst))
			}
			assert.Equal(t, c.worst == Bad, x.Worst == Bad, "%+v", x.Findings)
		})
	}
	x := Unreadable(errors.New("larder.toml:3: memory is no size"))
	assert.Equal(t, "problem: larder.toml:3: memory is no size", one(t, x, "configuration"))
	assert.Equal(t, Bad, x.Worst)
}

func worse(v State) int {
	return map[State]int{Fine: 0, Unchecked: 1, Doubtful: 2, Bad: 3}[v]
}

// least is how much memory the tests may take.
func least(p control.Process) int64 {
	if p.Group > 0 {
		return min(p.Group, p.Machine)
	}
	return p.Machine
}

const (
	twoAlike = "[[rule]]\nname = \"a\"\ntext = \"*\"\naction = \"cache\"\nttl = \"1m\"\n[[rule]]\nname = \"b\"\ntext = \"select 1\"\naction = \"cache\"\nttl = \"1m\"\n"
	paused   = "[[rule]]\nname = \"ports\"\ntables = [\"ports\"]\naction = \"cache\"\nttl = \"1m\"\npaused = true\n"
)

// A doctor who is root leaves nothing behind that the larder's own user could not open.
func TestTheDoctorLeavesNothingBehind(t *testing.T) {
	dir := t.TempDir()
	cfg := before("127.0.0.1:1", filepath.Join(dir, "clients.sock"), filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
	cfg.State = filepath.Join(dir, "state")
	require.NoError(t, os.Mkdir(cfg.State, 0o700))
	x := Examine(ctx, cfg, "")
	assert.Equal(t, "ok: it is free", one(t, x, "listener"))
	var left []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error { left = append(left, path); return err }))
	assert.Equal(t, []string{dir, cfg.State}, left)
}

// Accounts, their rights, the feed and the clock are looked at on the server itself, and what is missing is said as the
// server sees it. When all has been done that it says, nothing is left.
func TestTheDoctorBeforePostgreSQL(t *testing.T) {
	s, err := privatepg.Start("", "wal_level=logical", "max_slot_wal_keep_size=64MB")
	if errors.Is(err, privatepg.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip("no PostgreSQL here")
	}
	require.NoError(t, err)
	defer s.Stop()
	root := fmt.Sprintf("postgres://postgres@%s/postgres?sslmode=disable", s.Address())
	c, err := pgx.Connect(ctx, root)
	require.NoError(t, err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "create table ports (id int primary key)")
	require.NoError(t, err)
	cfg := before(s.Address(), "127.0.0.1:0", filepath.Join(t.TempDir(), "rules.toml"), "")
	o := &cfg.Origins[0]
	o.Name, o.CatalogUser, o.FetchUser = "mainland", "larder", "booking"
	o.Feed = config.Feed{User: "larder_feed", Databases: []string{"postgres"}, Mode: "stream", PollEvery: time.Second}

	x := Examine(ctx, cfg, "")
	remedied(t, x)
	assert.Contains(t, one(t, x, "account mainland [origin.catalog]"), `problem: the user larder cannot log in: `)
	assert.Contains(t, one(t, x, "account mainland [origin.fetch]"), `role "booking" does not exist`)
	assert.Contains(t, one(t, x, "feed"), "problem: ")
	assert.Empty(t, found(x, "clock"), "nobody could ask")

	for _, q := range []string{"create role larder login", "create role booking login", "create role larder_feed login"} {
		_, err = c.Exec(ctx, q)
		require.NoError(t, err)
	}
	x = Examine(ctx, cfg, "")
	remedied(t, x)
	assert.Equal(t, "ok: the user larder can log in, and read the schema", one(t, x, "account mainland [origin.catalog]"))
	assert.Equal(t, "ok: the user booking can log in", one(t, x, "account mainland [origin.fetch]"))
	assert.Contains(t, one(t, x, "origin"), "ok: PostgreSQL answers: PostgreSQL ")
	assert.Contains(t, one(t, x, "clock"), "ok: ")
	feed := one(t, x, "feed")
	assert.Contains(t, feed, "problem: still to be done: alter role \"larder_feed\" replication; create publication")
	assert.Contains(t, feed, "pg_create_logical_replication_slot('jolly_larder_postgres'")

	_, steps, _ := strings.Cut(feed, "still to be done: ")
	for _, q := range strings.Split(steps, "; ") {
		_, err = c.Exec(ctx, q)
		require.NoError(t, err, q)
	}
	x = Examine(ctx, cfg, "")
	assert.Equal(t, "ok: the database is ready for it", one(t, x, "feed mainland/postgres"))
	assert.NotEqual(t, Bad, x.Worst, "%+v", x.Findings)
}

func TestTheDoctorBeforeMariaDB(t *testing.T) {
	s, err := privatemaria.Options{Settings: []string{"log-bin", "server-id=1"}}.Start()
	if errors.Is(err, privatemaria.ErrMissing) && os.Getenv("CI") == "" {
		t.Skip("no MariaDB here")
	}
	require.NoError(t, err)
	defer s.Stop()
	db, err := sql.Open("mysql", "root@tcp("+s.Address()+")/")
	require.NoError(t, err)
	defer db.Close()
	for _, q := range []string{"create user larder", "create user larder_feed"} {
		_, err = db.Exec(q)
		require.NoError(t, err)
	}
	cfg := before(s.Address(), "127.0.0.1:0", filepath.Join(t.TempDir(), "rules.toml"), "")
	o := &cfg.Origins[0]
	o.Name, o.Protocol, o.CatalogUser, o.FetchUser = "island", "mysql", "larder", "booking"
	o.Feed = config.Feed{User: "larder_feed"}

	x := Examine(ctx, cfg, "")
	remedied(t, x)
	assert.Contains(t, one(t, x, "account island [origin.catalog]"), "problem: the account for reading the catalog may not see all of it: it lacks SELECT, SHOW VIEW, TRIGGER")
	assert.Contains(t, one(t, x, "account island [origin.fetch]"), "problem: the user booking cannot log in: Error 1045")
	assert.Contains(t, one(t, x, "origin"), "ok: MariaDB or MySQL answers: 10.")
	assert.Contains(t, one(t, x, "clock"), "ok: ")
	feed := one(t, x, "feed")
	assert.Contains(t, feed, "problem: still to be done: set global binlog_format = 'ROW'; ")
	assert.Contains(t, feed, "grant replication slave on *.* to 'larder_feed'@'%'")

	_, steps, _ := strings.Cut(feed, "still to be done: ")
	for _, q := range append(strings.Split(steps, "; "), "grant select, show view, trigger on *.* to larder", "create user booking") {
		_, err = db.Exec(q)
		require.NoError(t, err, q)
	}
	x = Examine(ctx, cfg, "")
	assert.Equal(t, "ok: the database is ready for it", one(t, x, "feed island"))
	assert.Equal(t, "ok: the user larder can log in, and read the schema", one(t, x, "account island [origin.catalog]"))
	assert.NotEqual(t, Bad, x.Worst, "%+v", x.Findings)
}

// A larder that runs is asked what it knows of itself.
func TestTheDoctorAsksALarderThatRuns(t *testing.T) {
	dir := t.TempDir()
	cfg := before(standIn(t), "127.0.0.1:0", filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
	cfg.State = filepath.Join(dir, "state")
	l := start(t, cfg)
	cfg.Origins[0].Listen = []string{l.Address()}
	x := Examine(ctx, cfg, "")
	remedied(t, x)
	assert.Contains(t, one(t, x, "larder"), "ok: version "+Version+" runs since ")
	assert.Contains(t, one(t, x, "descriptors"), "ok: the larder's limit is ")
	assert.Empty(t, found(x, "listener"), "it has them itself")
	connected(t, l.Address())
	require.Eventually(t, func() bool { // clients show which databases there are
		s, err := client.NewClient(cfg.Control).Status(ctx)
		return err == nil && len(s.Databases) > 0
	}, time.Minute, 10*time.Millisecond)
	d := &doctor{}
	s, err := client.NewClient(cfg.Control).Status(ctx)
	require.NoError(t, err)
	d.running = &s
	assert.Equal(t, "skerrow", d.tried(&cfg.Origins[0]))
	d.database = "harbour"
	assert.Equal(t, "harbour", d.tried(&cfg.Origins[0]))
	assert.Equal(t, "postgres", (&doctor{}).tried(&cfg.Origins[0]))

	require.NoError(t, os.WriteFile(cfg.Rules, []byte("[[rule]]\nname = \"boats\"\ntables = [\"public.boats\"]\naction = \"cache\"\nttl = \"1m\"\n"), 0o600))
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(found(Examine(ctx, cfg, ""), "larder"), "\n"), "warning: the rules file was edited, and is not in force")
	}, time.Minute, 50*time.Millisecond)
}

// Feeds that run are judged by what they say, and clocks by what cannot be the question's own time.
func TestWhatTheDoctorMakesOfFeedsAndClocks(t *testing.T) {
	for name, c := range map[string]struct {
		feed control.Feed
		want State
	}{
		"well":          {control.Feed{Mode: "stream", LagMS: 40}, Fine},
		"late":          {control.Feed{Mode: "stream", LagMS: 61_000}, Doubtful},
		"not begun":     {control.Feed{}, Doubtful},
		"with problems": {control.Feed{Mode: "stream", Problem: "the slot is gone"}, Bad},
		"a long log":    {control.Feed{Mode: "stream", Held: 60, Bound: 100}, Doubtful},
	} {
		assert.Equal(t, c.want, followed(&c.feed).State, name)
	}
	now := time.Now()
	for ahead, want := range map[time.Duration]State{0: Fine, time.Second: Fine, -time.Second: Fine, time.Hour: Doubtful, -time.Hour: Doubtful} {
		d := &doctor{out: Examination{Worst: Fine}}
		d.clock("mainland", &protocol.Look{Sent: now, Came: now.Add(10 * time.Second), Clock: now.Add(5*time.Second + ahead)})
		assert.Equal(t, want, d.out.Worst, ahead)
	}
}
