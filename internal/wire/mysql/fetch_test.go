package mysql_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

// fetches has results be fetched ahead up to the end of the test, on the account ines.
func (a *answering) fetches() *link.Fetcher {
	f := wire.NewFetcher(a.server, link.Account{User: "ines", Password: "Quay#7"})
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); f.Run(ctx) }()
	a.t.Cleanup(func() { stop(); <-ended })
	return f
}

// fetched waits until results have been fetched, or could not be, after something was done. It gives why not.
func (a *answering) fetched(f *link.Fetcher, do func()) (why string) {
	done, failed, _ := f.Counts()
	do()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(time.Millisecond) {
		a.core.Tick(time.Now()) // which finds what a write has dropped
		switch d, no, why := f.Counts(); {
		case no > failed:
			return why
		case d > done:
			return ""
		}
	}
	require.Fail(a.t, "nothing was fetched")
	return ""
}

// client asks as one kind of client does.
type client func(sql ...string) (heard string)

// fetchers are kinds of clients, whose results differ in form.
func (a *answering) clients() map[string]func() client {
	talks := func(further uint32, ask func(x *conversing, sql string) (string, error)) func() client {
		return func() client {
			c, err := net.Dial("tcp", a.address)
			require.NoError(a.t, err)
			a.t.Cleanup(func() { c.Close() })
			x, err := enters(c, "skerrow", further)
			require.NoError(a.t, err)
			return func(sql ...string) (heard string) {
				for i, q := range sql {
					reads := ask
					if i < len(sql)-1 {
						reads = (*conversing).Ask
					}
					heard, err = reads(x, q)
					require.NoError(a.t, err, q)
				}
				return heard
			}
		}
	}
	prepared := func(x *conversing, sql string) (string, error) { return x.Bound(sql, "250") }
	return map[string]func() client{
		"text": talks(0, (*conversing).Ask), "without marks": talks(deprecateEOF, (*conversing).Ask), "prepared": talks(0, prepared), "prepared, without marks": talks(deprecateEOF, prepared),
		"found rows, state, files": talks(1<<1|1<<23|1<<7, (*conversing).Ask),
		"the driver of Go": func() client {
			db := connect(a.t, a.address, "ines", "Quay#7", "clientFoundRows=true&multiStatements=true")
			return func(sql ...string) (heard string) {
				var err error
				for _, q := range sql {
					if heard, err = asks(db, q); err != nil && err.Error() != "sql: no rows in result set" {
						require.NoError(a.t, err, q)
					}
				}
				return heard
			}
		},
		"the server's program": func() client {
			return func(sql ...string) (heard string) {
				host, port, err := net.SplitHostPort(a.address)
				require.NoError(a.t, err)
				text := ""
				for _, q := range sql {
					text += q + ";"
				}
				cmd := exec.Command("mariadb", "--no-defaults", "-h", host, "-P", port, "-u", "ines", "-N", "--protocol=tcp", "-e", text, "skerrow")
				cmd.Env = append(os.Environ(), "MYSQL_PWD=Quay#7")
				out, err := cmd.CombinedOutput()
				require.NoError(a.t, err, string(out))
				return string(out)
			}
		},
	}
}

// What a write dropped is fetched again in the form and with the settings that its client has, so that the next reader
// does not wait.
func TestFetchingAhead(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	root := connect(t, server.Address(), "root", "", "")
	for _, q := range []string{
		"create or replace table fetched (id int primary key, ship varchar(40) collate utf8mb4_general_ci) engine=innodb", "insert into fetched values (250, 'tern')",
		"create or replace role purser", "grant select on skerrow.* to purser", "grant purser to ines", "create database if not exists quay",
	} {
		_, err := root.Exec(q)
		require.NoError(t, err, q)
	}
	a := newAnswering(t)
	a.core.SetRules(rules.NewSet([]rules.Rule{{Name: "all", Text: "*", Action: rules.Cache, TTL: time.Hour, Refetch: true, ControlSample: -1}}))
	f := a.fetches()
	writer := a.enters()
	ships := 0
	for name, begins := range a.clients() {
		t.Run(name, func(t *testing.T) {
			const begun = "select ship from skerrow.berths where id = 1" // goes to the server, which begins a transaction with it
			for _, set := range [][]string{
				nil, {"set autocommit = 0", begun}, {"set names latin1 collate latin1_german1_ci", "set time_zone = '+03:00'", "set group_concat_max_len = 77"},
				{"set sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES'", "set max_statement_time = 7.5", "set character_set_results = null"}, {"set role purser", "use quay"},
				{"set session transaction isolation level read committed", "set optimizer_switch = 'mrr=on'", "set lc_time_names = 'de_DE'"},
			} {
				ask := begins()
				read := "select ship from skerrow.fetched where id = 250"
				if name == "prepared" || name == "prepared, without marks" {
					read = "select ship from skerrow.fetched where id = ?"
				}
				asks := func(before ...string) string { return ask(append(before, read)...) }
				first := asks(set...)
				again := func() string {
					switch {
					case name == "the server's program": // which has a session for each
						return asks(set...)
					case slices.Contains(set, begun):
						return asks("commit", begun)
					}
					return asks()
				}
				before := a.hits()
				for end := time.Now().Add(time.Minute); a.hits() == before && time.Now().Before(end); {
					a.core.Tick(time.Now())
					require.Equal(t, first, again(), set)
				}
				require.Greater(t, a.hits(), before, set)
				ships++
				why := a.fetched(f, func() {
					a.ask(writer, fmt.Sprintf("update skerrow.fetched set ship = 'tern %d' where id = 250", ships))
				})
				require.Empty(t, why, set)
				before = a.hits()
				assert.Contains(t, again(), fmt.Sprintf("tern %d", ships), set)
				assert.Equal(t, before+1, a.hits(), set)
				a.core.DropAll()
			}
		})
	}
	a.core.Ledger.Applications(func(name string, _ *ledger.Tally) { assert.NotEqual(t, "jolly larder", name) })
}

// What another account was answered is not fetched, and neither is what its role or server would have to be: the larder
// says why.
func TestWhatIsNotFetchedAhead(t *testing.T) {
	a := newAnswering(t)
	a.core.SetRules(rules.NewSet([]rules.Rule{{Name: "all", Text: "*", Action: rules.Cache, TTL: time.Hour, Refetch: true, ControlSample: -1}}))
	f := a.fetches()
	tern := connect(t, a.address, "tern", "", "")
	before := a.hits()
	for end := time.Now().Add(time.Minute); a.hits() == before && time.Now().Before(end); {
		_, err := asks(tern, "select ship from berths where id = 251")
		require.NoError(t, err)
	}
	why := a.fetched(f, func() { a.ask(a.enters(), "update berths set ship = 'x' where id = 251") })
	assert.Contains(t, why, "results of the user tern are not fetched by the account ines")
}

// A connection that has been ended meanwhile, as after an idle timeout, costs no fetch.
func TestFetchingAheadOverANewConnection(t *testing.T) {
	a := newAnswering(t)
	a.core.SetRules(rules.NewSet([]rules.Rule{{Name: "all", Text: "*", Action: rules.Cache, TTL: time.Hour, Refetch: true, ControlSample: -1}}))
	f := a.fetches()
	x := a.enters()
	for i := range 3 {
		for range 3 {
			a.ask(x, "select ship from berths where id = 252")
		}
		require.Empty(t, a.fetched(f, func() { a.ask(x, fmt.Sprintf("update berths set ship = 'y %d' where id = 252", i)) }))
		db := connect(t, server.Address(), "root", "", "")
		rows, err := db.Query("select id from information_schema.processlist where user = 'ines' and id <> ?", x.thread)
		require.NoError(t, err)
		var ids []int
		for rows.Next() {
			var id int
			require.NoError(t, rows.Scan(&id))
			ids = append(ids, id)
		}
		require.NoError(t, rows.Err())
		for _, id := range ids {
			_, err := db.Exec(fmt.Sprintf("kill %d", id))
			require.NoError(t, err)
		}
	}
}

// A larder that has just begun fetches what was used most before, as soon as it knows the schema.
func TestFetchingAtTheStart(t *testing.T) {
	before := newAnswering(t)
	x := before.enters()
	const read = "select ship from berths where id = 253"
	for range 3 {
		before.ask(x, read)
	}
	keys := before.core.MostUsed(before.core.Rules().List()[0].Name, 10)
	require.NotEmpty(t, keys)
	l := newLarder(t, link.Settings{Unchallenged: link.Anybody, Catalog: &link.Account{User: "root"}})
	l.keepsAll()
	a := &answering{larder: l, t: t}
	f := a.fetches()
	for i := range keys {
		why := a.fetched(f, func() { l.core.WarmUp(&l.core.Rules().List()[0], keys[i:i+1]) })
		require.Empty(t, why)
	}
	assert.Equal(t, "hit", a.outcome(a.enters(), read))
}
