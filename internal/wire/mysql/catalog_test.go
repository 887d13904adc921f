package mysql_test

import (
	"context"
	"strings"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

// schema is what the tests of the catalog have beside the usual: a view of a view, a trigger, routines, and references.
var schema = []string{
	"create database harbour", "use harbour",
	"create table ports (id int primary key, name varchar(40)) engine=innodb",
	"create table sailings (id int primary key, route int, leaves time, foreign key (route) references ports (id) on delete cascade on update set null) engine=innodb",
	"create table log (id int auto_increment primary key, what text) engine=myisam",
	"create view open_sailings as select s.id, p.name, 'it''s \\\\ \"x\"' note from sailings s join ports p on s.route = p.id",
	"create view counted as select count(*) n from open_sailings",
	"create trigger noted after update on sailings for each row insert into log (what) values (new.id)",
	"create function price(x int) returns int reads sql data begin declare n int; select count(*) into n from ports; return n; end",
	"create procedure refit(x int) begin delete from log; call harbour.refit2(); end",
	"create procedure refit2() update ports set name = 'x'",
	"create user larder identified by 'Larder#1'", "grant select, show view, trigger on *.* to larder",
	"create user meagre identified by 'Meagre#1'", "grant select on *.* to meagre",
}

// harbour makes that.
func harbour(t testing.TB) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	db := connect(t, server.Address(), "root", "", "")
	c, err := db.Conn(context.Background())
	require.NoError(t, err)
	defer c.Close()
	for _, q := range schema {
		_, err := c.ExecContext(context.Background(), q)
		require.NoError(t, err, q)
	}
	t.Cleanup(func() {
		for _, q := range []string{"drop database harbour", "drop user larder", "drop user meagre"} {
			_, err := db.Exec(q)
			assert.NoError(t, err)
		}
	})
}

// With an account that sees the whole schema, statements are followed through all that stands behind their names, and
// also after that has been changed.
func TestTheSchemaIsReadByItsOwnAccount(t *testing.T) {
	harbour(t)
	l := newLarder(t, link.Settings{Catalog: &link.Account{User: "larder", Password: "Larder#1"}})
	c, err := connect(t, l.address, "ines", "Quay#7", "").Conn(context.Background())
	require.NoError(t, err)
	defer c.Close()
	known := func() bool {
		do(c, "select 1") // at the end of which the schema is asked for, if it is not known
		known := false
		l.core.Databases(func(_ string, is, whole bool, _ []string) { known = is && whole })
		return known
	}
	wait := func() { require.Eventually(t, known, time.Minute, 20*time.Millisecond) }
	wait()
	do(c, "use harbour")
	does := func(sql string) string {
		wait()
		do(c, sql)
		text := ""
		var found *engine.Pattern
		l.core.Patterns(func(p *engine.Pattern) {
			if strings.HasPrefix(sql, p.Text) {
				found, text = p, p.Text
			}
		})
		require.NotEmpty(t, text, sql)
		r := l.core.Does(found)
		out := strings.Join(r.Reads, " ") + " > " + strings.Join(r.Writes, " ")
		if r.Everything {
			out += " everything"
		}
		return out
	}
	for sql, want := range map[string]string{
		"select n from counted":                                           "harbour.ports harbour.sailings > ",
		"select price(n) from counted":                                    "harbour.ports harbour.sailings > ",
		"update sailings set route = id":                                  " > harbour.log harbour.sailings",
		"delete from ports where name is null":                            " > harbour.ports harbour.sailings",
		"update ports set id = id":                                        " > harbour.log harbour.ports harbour.sailings",
		"call refit(id)":                                                  " > harbour.log harbour.ports harbour.sailings",
		"select note from open_sailings":                                  "harbour.ports harbour.sailings > ",
		"insert into log(what) select name from ports where name is null": "harbour.ports > harbour.log",
	} {
		assert.Equal(t, want, does(sql), sql)
	}
	do(c, "create or replace view counted as select count(*) n from log")
	assert.Equal(t, "harbour.log > ", does("select n from counted"))
	do(c, "drop trigger noted")
	assert.Equal(t, " > harbour.sailings", does("update sailings set route = id"))
}

// An account that does not see everything is of no use, and which privileges it lacks is said.
func TestAnAccountThatDoesNotSeeEverything(t *testing.T) {
	harbour(t)
	cfg := driver.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr = "meagre", "Meagre#1", "tcp", server.Address()
	_, err := wire.Describe(context.Background(), cfg)
	assert.ErrorContains(t, err, "it lacks SHOW VIEW, TRIGGER on all databases; GRANT SHOW VIEW, TRIGGER ON *.* to it")
	l := newLarder(t, link.Settings{Catalog: &link.Account{User: "meagre", Password: "Meagre#1"}})
	c, err := connect(t, l.address, "ines", "Quay#7", "").Conn(context.Background())
	require.NoError(t, err)
	defer c.Close()
	do(c, "select name from harbour.ports")
	l.core.Databases(func(_ string, known, _ bool, _ []string) { assert.False(t, known) })
	cfg.User, cfg.Passwd = "larder", "Larder#1"
	one, err := wire.Describe(context.Background(), cfg)
	require.NoError(t, err)
	two, err := wire.Describe(context.Background(), cfg)
	require.NoError(t, err)
	assert.True(t, one.Same(two), "the same schema is told in the same order")
}

// What an account may read is told by its name, and what a role may by everybody's.
func TestPrivilegesAreRead(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	root := connect(t, server.Address(), "root", "", "")
	must := func(q string) {
		_, err := root.Exec(q)
		require.NoError(t, err, q)
	}
	must("create user petrel")
	defer must("drop user petrel")
	must("create role clerk")
	defer must("drop role clerk")
	described := func() map[string]uint64 {
		cfg, err := driver.ParseDSN("root@tcp(" + server.Address() + ")/")
		require.NoError(t, err)
		d, err := wire.Describe(context.Background(), cfg)
		require.NoError(t, err)
		return d.Privileges()
	}
	last := described()
	for _, c := range []struct{ does, changes string }{
		{"grant select on *.* to petrel", "petrel@%"}, {"grant select on skerrow.* to petrel", "petrel@%"}, {"grant update (ship) on skerrow.berths to petrel", "petrel@%"}, {"revoke select on *.* from petrel", "petrel@%"},
		{"grant select on skerrow.* to clerk", ""}, {"grant select on *.* to clerk", ""}, {"grant insert on skerrow.berths to clerk", ""}, {"revoke all, grant option from clerk", ""},
	} {
		must(c.does)
		now := described()
		for _, account := range []string{"petrel@%", "root@localhost", "ines@%", ""} {
			assert.Equal(t, account != c.changes, now[account] == last[account], "%s: %q", c.does, account)
		}
		last = now
	}
}

// A procedure can define a view anew. What is read through that then depends on other tables, from the call on.
func TestAProcedureThatDefinesAViewAnew(t *testing.T) {
	a := newAnswering(t)
	x, writer := a.enters(), a.enters()
	for _, q := range []string{
		"create or replace table quays_a (id int primary key, n int)", "insert into quays_a values (1, 1)", "create or replace table quays_b (id int primary key, n int)", "insert into quays_b values (1, 1)",
		"create or replace view quays_seen as select n from quays_a", "create or replace procedure turns() begin create or replace view quays_seen as select n from quays_b; end",
	} {
		a.ask(writer, q)
	}
	const read = "select n from quays_seen"
	hits := func() {
		for end := time.Now().Add(time.Minute); a.outcome(x, read) != "hit" && time.Now().Before(end); {
			time.Sleep(time.Millisecond)
		}
		require.Equal(t, "hit", a.outcome(x, read))
	}
	hits()
	a.ask(writer, "call turns()")
	hits()
	a.ask(writer, "update quays_b set n = 2 where id = 1")
	direct := connect(t, server.Address(), "root", "", "")
	want, err := asks(direct, read)
	require.NoError(t, err)
	require.Equal(t, "2", want)
	assert.Contains(t, a.ask(x, read), `"\x012"`)
}
