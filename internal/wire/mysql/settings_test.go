package mysql_test

import (
	"database/sql"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/wire/link"
)

// Of each variable that a session can set it is known what it does to results, or it stands for the moment: whoever sets
// another is not answered from memory.
func TestVariablesAreReviewed(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	db, err := sql.Open("mysql", "root@tcp("+server.Address()+")/")
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Query("select lower(variable_name) from information_schema.system_variables where variable_scope like 'SESSION%' and read_only = 'NO'")
	require.NoError(t, err)
	defer rows.Close()
	var not []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		if !syntax.Reviewed(name) {
			not = append(not, name)
		}
	}
	slices.Sort(not)
	assert.Equal(t, []string{"identity", "insert_id", "last_insert_id", "pseudo_thread_id", "rand_seed1", "rand_seed2", "timestamp"}, not)
}

// answering is a larder that caches everything, with what it does seen from the outside.
type answering struct {
	*larder
	t      testing.TB
	around bool // what is done is done directly
}

func newAnswering(t testing.TB) *answering { return newAnsweringWith(t, link.Options{}) }

func newAnsweringWith(t testing.TB, o link.Options) *answering {
	l := newLarderWith(t, o, link.Settings{Unchallenged: link.Anybody, Catalog: &link.Account{User: "root"}})
	l.keepsAll()
	a := &answering{larder: l, t: t}
	x := a.enters()
	for end := time.Now().Add(time.Minute); l.hits() == 0 && time.Now().Before(end); {
		a.ask(x, "select ship from berths where id = 1")
	}
	require.NotZero(t, l.hits())
	return a
}

func (a *answering) enters() *conversing {
	c, err := net.Dial("tcp", a.address)
	require.NoError(a.t, err)
	a.t.Cleanup(func() { c.Close() })
	x, err := enters(c, "skerrow", 0)
	require.NoError(a.t, err)
	return x
}

func (a *answering) ask(x *conversing, sql string) string {
	heard, err := x.Ask(sql)
	require.NoError(a.t, err)
	return heard
}

// outcome asks something, and gives what became of it.
func (a *answering) outcome(x *conversing, sql string) string {
	a.ask(x, sql)
	return outcome(a.ask(x, "show jollylarder.last"))
}

// outcome reads the answer to who asks what became of the last statement.
func outcome(report string) string {
	lines := strings.Split(strings.TrimSpace(report), "\n")
	row := lines[len(lines)-2]
	for _, o := range []string{"hit", "miss", "write"} {
		if strings.Contains(row, fmt.Sprintf(`\x%02x%s`, len(o), o)) {
			return o
		}
	}
	return row
}

// questions gives how often the server was asked for a session's settings since the last call.
func questions(t testing.TB) func() int {
	db, err := sql.Open("mysql", "root@tcp("+server.Address()+")/")
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	_, err = db.Exec("set global general_log = 1, global log_output = 'TABLE'")
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = db.Exec("set global general_log = 0") })
	before := 0
	return func() int {
		var n int
		require.NoError(t, db.QueryRow("select count(*) from mysql.general_log where command_type = 'Query' and argument like 'select @jollylarder\\_caching%'").Scan(&n))
		n, before = n-before, n
		return n
	}
}

// Settings are asked for at the end of a login, and then only where a statement may have changed them in a way that is
// not known yet.
func TestSettingsAreAskedForAsRarelyAsCanBe(t *testing.T) {
	a := newAnswering(t)
	count := questions(t)
	const read = "select ship from berths where id = 1"
	count()
	x := a.enters()
	assert.Equal(t, "hit", a.outcome(x, read))
	assert.Equal(t, 1, count(), "at the login")
	a.ask(x, "set time_zone = '+01:00'")
	assert.Equal(t, "miss", a.outcome(x, read), "in other settings")
	assert.Equal(t, 1, count(), "for what is set for the first time")
	a.ask(x, "set time_zone = 'SYSTEM'")
	assert.Equal(t, "hit", a.outcome(x, read))
	assert.Equal(t, 1, count())
	for range 3 {
		a.ask(x, "set time_zone = '+01:00'")
		assert.Equal(t, "hit", a.outcome(x, read))
		a.ask(x, "set time_zone = 'SYSTEM'")
		assert.Equal(t, "hit", a.outcome(x, read))
	}
	assert.Zero(t, count(), "for what was set before")
	y := a.enters()
	a.ask(y, "set time_zone = '+01:00'")
	assert.Equal(t, "hit", a.outcome(y, read))
	assert.Equal(t, 1, count(), "at the login of another")
	a.ask(x, "use mysql")
	a.ask(x, "use skerrow")
	assert.Equal(t, "hit", a.outcome(x, read))
	assert.Zero(t, count(), "for which database is in use")
	a.ask(x, "set time_zone = concat('+01', ':00')")
	assert.Equal(t, "hit", a.outcome(x, read))
	assert.Equal(t, 1, count(), "for what is computed")
	a.ask(x, "set time_zone = 'nowhere'")
	a.ask(x, read) // by which the server says where the session stands
	assert.Equal(t, "hit", a.outcome(x, read))
	assert.Equal(t, 1, count(), "for what has failed")
}

// A session says for itself whether it is answered from memory; and what it has set, made or locked may keep it from that.
func TestSessionsThatAreNotAnswered(t *testing.T) {
	a := newAnswering(t)
	const read = "select ship from berths where id = 1"
	for _, c := range []struct{ first, why, then string }{
		{"set @jollylarder_caching = 'off'", "asked to be left out", "set @jollylarder_caching = null"},
		{"set timestamp = 5", "a setting of which it is not known", ""},
		{"create temporary table passing (id int)", "has temporary tables", ""},
		{"create temporary table berths (id int, ship varchar(40))", "has temporary tables", ""},
		{"lock tables berths read", "locked tables", "unlock tables"},
		{"set transaction isolation level read uncommitted", "next transaction", "begin; commit"},
		{"set session transaction isolation level serializable", "isolation by default", "set session transaction isolation level repeatable read"},
		{"set sql_auto_is_null = 1", "asks", "set sql_auto_is_null = 0"},
	} {
		x := a.enters()
		assert.Equal(t, "hit", a.outcome(x, read))
		a.ask(x, c.first)
		assert.Contains(t, a.outcome(x, read), c.why, c.first)
		for sql := range strings.SplitSeq(c.then, "; ") {
			if sql != "" {
				a.ask(x, sql)
			}
		}
		a.ask(x, "select 1")
		if c.then != "" {
			assert.Equal(t, "hit", a.outcome(x, read), c.first)
		}
		a.ask(x, c.first)
		_, err := x.command(0x1f, nil)
		require.NoError(t, err)
		a.ask(x, read)
		assert.Equal(t, "hit", a.outcome(x, read), "%s: as at its beginning", c.first)
	}
}

// What a statement sets counts from then on, though others were sent before and behind it in one piece: the reply to the one
// before comes when it is under way already, and the one behind may be none that the engine is told of.
func TestSettingsThatAreSetInOnePieceWithOthers(t *testing.T) {
	a := newAnswering(t)
	behind := map[string][]byte{"nothing": nil, "a ping": {0x0e}, "a reset of a prepared statement": {0x1a, 0xff, 0xff, 0xff, 0xff}, "an option": {0x1b, 1, 0}, "a read": []byte("\x03select 1")}
	n := 200
	for name, last := range behind {
		for _, change := range []string{"set names latin1", "use mysql", "set sql_mode = 'ANSI_QUOTES'", "set sql_select_limit = 1"} {
			t.Run(change+" before "+name, func(t *testing.T) {
				n++
				var said [2][]string
				for i, address := range []string{server.Address(), a.address} {
					c, err := net.Dial("tcp", address)
					require.NoError(t, err)
					defer c.Close()
					x, err := enters(c, "skerrow", 0)
					require.NoError(t, err)
					for range 3 {
						a.ask(x, "select ship from berths where id < 3 order by id")
					}
					all := packet(0, fmt.Appendf(nil, "\x03select ship from berths where id = %d", n))
					all = append(all, packet(0, append([]byte{3}, change...))...)
					x.asked = []byte{3, 3}
					if len(last) > 0 {
						all = append(all, packet(0, last)...)
						x.asked = append(x.asked, last[0])
					}
					_, err = x.Write(all)
					require.NoError(t, err)
					for len(x.asked) > 0 {
						_, err := x.Hear("")
						require.NoError(t, err)
					}
					for range 2 {
						said[i] = append(said[i], a.ask(x, "select ship from berths where id < 3 order by id"))
					}
				}
				assert.Equal(t, said[0], said[1])
			})
		}
	}
}
