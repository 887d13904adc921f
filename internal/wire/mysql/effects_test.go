package mysql_test

import (
	"fmt"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/protocoltest"
)

// effects are the tables of a small port with everything by which a write of one comes to change another: references that
// cascade, also into another database, triggers, routines, views that can be written, events of engines that do not roll
// back. HERE stands for one database, THERE for the other.
var effects = []string{
	"create table HERE.lines (id int primary key, name varchar(20))", "create table HERE.ships (id int primary key, line int, name varchar(20), foreign key (line) references HERE.lines (id) on delete cascade on update cascade)",
	"create table THERE.berths (id int primary key, ship int, foreign key (ship) references HERE.ships (id) on delete set null)", "create table HERE.log (n int auto_increment primary key, what varchar(60)) engine=myisam",
	"create table HERE.counts (what varchar(20) primary key, n int)", "create table THERE.parts (id int, line int) partition by hash (id) partitions 3", "create table HERE.doubled (id int primary key, n int, twice int as (2 * n) stored)",
	"create view HERE.big as select id, name from HERE.ships where id < 100", "create view HERE.seen as select l.name, count(*) n from HERE.lines l join HERE.ships s on s.line = l.id group by l.name",
	"create trigger HERE.counted after insert on HERE.ships for each row update HERE.counts set n = n + 1 where what = 'ships'",
	"create trigger HERE.told after delete on HERE.ships for each row insert into HERE.log (what) values (concat('gone ', old.id))",
	"create trigger HERE.moved before update on HERE.doubled for each row set new.n = new.n + 1",
	"create procedure HERE.launch(i int) begin insert into HERE.ships values (i, 1, 'new'); insert into THERE.parts values (i, 1); end",
	"create procedure HERE.text(i int) begin execute immediate concat('update HERE.counts set n = ', i, ' where what = ''lines'''); end",
	"create procedure HERE.half(i int) begin start transaction; update HERE.counts set n = i where what = 'half'; rollback; update HERE.counts set n = n + 1 where what = 'half'; end",
	"create procedure HERE.few() begin create or replace view HERE.big as select id, name from HERE.lines; end", "create procedure HERE.many() begin create or replace view HERE.big as select id, name from HERE.ships where id < 100; end",
	"create procedure HERE.untold() begin drop trigger if exists HERE.told; alter table HERE.counts add column if not exists extra int default 4; end",
	"create function HERE.bump(i int) returns int modifies sql data begin update HERE.counts set n = n + i where what = 'bumps'; return i; end",
	"insert into HERE.lines values (1, 'north'), (2, 'south'), (3, 'isles')", "insert into HERE.counts values ('ships', 0), ('lines', 3), ('half', 0), ('bumps', 0)",
	"insert into HERE.ships values (1, 1, 'Tern'), (2, 1, 'Skua'), (3, 2, 'Gannet'), (4, 3, 'Fulmar')", "insert into THERE.berths values (1, 1), (2, 3), (3, 4)",
	"insert into HERE.doubled values (1, 1, default), (2, 2, default)", "insert into THERE.parts values (1, 1), (2, 2), (3, 3)",
}

// looks are reads of all of it.
var looks = []string{
	"select * from lines order by id", "select * from ships order by id", "select * from THERE.berths order by id", "select what from log order by n", "select * from counts order by what", "select * from THERE.parts order by id",
	"select * from doubled order by id", "select * from big order by id", "select * from seen order by name", "select n from counts where what = 'ships'", "select s.name, b.id from ships s join THERE.berths b on b.ship = s.id order by b.id",
	"select (select count(*) from log) + (select count(*) from ships)", "with s as (select line, count(*) n from ships group by line) select * from s order by line",
}

// deeds are what somebody may do.
var deeds = []string{
	"delete from lines where id = 3", "update lines set id = 9 where id = 2", "update lines set id = 2 where id = 9", "replace into lines values (1, 'north again')", "insert into lines values (3, 'isles'), (2, 'south')", "delete from ships where id = 3",
	"insert into ships values (3, 1, 'Gannet')", "insert into ships select id + 10, line, name from ships where id < 3", "insert ignore into ships values (4, 1, 'Fulmar'), (1, 1, 'twice')", "update big set name = concat(name, '!') where id < 3",
	"delete from big where id > 10", "insert into big (id, name) values (50, 'by the view')", "call launch(20)", "call launch(21)", "call text(7)", "call text(8)", "call half(5)", "call few()", "call many()", "call untold()", "select bump(2)", "select bump(3) from lines limit 1",
	"update doubled set n = n + 1 where id = 1", "insert into doubled (id, n) values (1, 5) on duplicate key update n = n + 10", "update THERE.parts set id = id + 1 order by id desc", "alter table THERE.parts truncate partition p1", "insert into THERE.parts select id, id from lines",
	"update lines l join ships s on s.line = l.id set l.name = 'joined', s.name = upper(s.name) where l.id = 1", "delete s from ships s join lines l on l.id = s.line where l.id = 2", "insert into log (what) values ('by hand')",
	"update lines set name = 'x' where id = (select min(line) from ships)", "begin", "commit", "rollback", "savepoint a", "rollback to a", "set autocommit = 0", "set autocommit = 1", "truncate table THERE.berths", "insert into THERE.berths values (1, 1), (2, 2)",
	"create or replace trigger HERE.more after update on HERE.lines for each row insert into HERE.log (what) values ('a line')", "drop trigger if exists HERE.more", "alter table counts add column if not exists extra int default 4",
	"alter table counts drop column if exists extra", "create or replace view HERE.big as select id, name from HERE.ships where id < 3", "create or replace view HERE.big as select id, name from HERE.ships where id < 100",
	"set foreign_key_checks = 0", "set foreign_key_checks = 1", "prepare p from 'update counts set n = n + 1 where what = ?'", "set @w = 'lines'", "execute p using @w", "execute immediate 'update counts set n = 77 where what = ''ships'''",
	"insert into ships values (1, 1, 'duplicate')", "rename table THERE.parts to THERE.pieces", "rename table THERE.pieces to THERE.parts", "create temporary table counts (what varchar(20), n int)", "drop temporary table if exists counts",
	"insert into counts values ('temporary', 1)", "lock tables lines write, log write, ships write, counts write, THERE.berths write", "unlock tables", "delete from lines where id = 1", "load_it", "update lines, counts set lines.name = 'both', counts.n = 3 where lines.id = 1 and what = 'lines'",
	"insert into lines (id, name) values (30, 'r') returning id", "delete from lines where id = 30 returning name", "insert into counts select 'made', count(*) from ships on duplicate key update n = values(n)", "xa start 'xHERE'", "xa end 'xHERE'", "xa prepare 'xHERE'", "xa commit 'xHERE'", "xa rollback 'xHERE'",
	"handler lines open", "handler lines close", "analyze table lines", "optimize table log", "repair table log", "flush tables", "begin not atomic update counts set n = 9 where what = 'half'; end", "set statement sql_mode='' for update counts set n = 12 where what = 'lines'", "use THERE", "use HERE",
}

// flags are what a column's description has behind its name.
var flags = regexp.MustCompile(`(?m)^(\d+ "\\x03def.*)\\f.*$`)

// Whatever somebody does, and however it comes to change what somebody else reads, nobody is given an old answer.
func TestHiddenEffects(t *testing.T) {
	fewer(t)
	require.NoError(t, hiddenEffects(newAnswering(t), func() {}, "begin"))
}

// hiddenEffects has deeds be done in random order, with one connection directly and with the other in the way told of, and
// looks at everything after each. Before looks await is called; begins is what who does something begins with.
func hiddenEffects(a *answering, await func(), begins ...string) error {
	t := a.t
	addresses := [2]string{server.Address(), a.address}
	var schemas [2][2]string
	enters := func(address string) *conversing {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		x, err := enters(c, "skerrow", 0)
		require.NoError(t, err)
		return x
	}
	ask := func(side int, x *conversing, sql string) string {
		here, there := schemas[side][0], schemas[side][1]
		require.NoError(t, x.SetDeadline(time.Now().Add(time.Minute))) // each waits for locks of its own
		heard, err := x.Ask(strings.NewReplacer("THERE", there, "HERE", here).Replace(sql))
		require.NoError(t, err, sql)
		heard = strings.NewReplacer(there, "THERE", here, "HERE").Replace(heard)
		return flags.ReplaceAllString(heard, "$1") // which rest on the plan
	}
	for side := range schemas {
		n := databases.Add(1)
		schemas[side] = [2]string{fmt.Sprintf("p%04d", n), fmt.Sprintf("q%04d", n)}
	}
	return protocoltest.Search(t, func(t *rapid.T) error {
		var clients [2][2]*conversing // the one who does something, and the one who looks
		for side := range clients {
			for i := range clients[side] {
				address := addresses[side]
				if i == 0 && a.around {
					address = addresses[0]
				}
				clients[side][i] = enters(address)
				defer clients[side][i].Close()
			}
			x := enters(addresses[side])
			for _, q := range append([]string{"xa rollback 'xHERE'", "drop database if exists THERE", "drop database if exists HERE", "create database HERE", "create database THERE"}, effects...) {
				ask(side, x, q)
			}
			x.Close()
			for _, x := range clients[side] {
				ask(side, x, "use HERE")
				ask(side, x, "set lock_wait_timeout = 1, innodb_lock_wait_timeout = 1")
			}
		}
		var script []string
		var differ error
		both := func(client int, sql string, times int) {
			want := ask(0, clients[0][client], sql)
			for range times {
				if got := ask(1, clients[1][client], sql); want != got && differ == nil {
					differ = fmt.Errorf("%s\ndirectly:\n%s\nthrough:\n%s\nafter\n%s", sql, want, got, strings.Join(script, "\n"))
				}
			}
		}
		look := func() {
			await()
			for _, q := range looks {
				both(1, q, 2)
			}
		}
		for before, end := a.hits(), time.Now().Add(time.Minute); a.hits() == before && time.Now().Before(end); { // until the schema is known
			look()
		}
		both(0, rapid.SampledFrom(begins).Draw(t, "begins"), 1)
		for range rapid.IntRange(1, 12).Draw(t, "deeds") {
			deed := rapid.SampledFrom(deeds).Draw(t, "deed")
			script = append(script, deed)
			both(0, deed, 1)
			if strings.HasPrefix(deed, "lock") || strings.HasPrefix(deed, "flush") {
				continue // others would wait
			}
			if rapid.IntRange(0, 3).Draw(t, "looks itself") == 0 {
				both(0, rapid.SampledFrom(looks).Draw(t, "look"), 1)
			}
			locked := false
			for _, s := range script {
				locked = (locked || strings.HasPrefix(s, "lock")) && s != "unlock tables"
			}
			if !locked {
				look()
			}
			if differ != nil {
				return differ
			}
		}
		return differ
	})
}

// A row that the server may add only after its reply: until it is certain to be there, nothing is cached that it would
// change.
func TestInsertDelayed(t *testing.T) {
	a := newAnswering(t)
	x := a.enters()
	a.ask(x, "create table if not exists buoys (id int primary key) engine = MyISAM")
	defer a.ask(x, "drop table buoys")
	const reads = "select count(*) from buoys"
	require.Eventually(t, func() bool { return a.outcome(x, reads) == "hit" }, time.Minute, time.Millisecond)
	a.ask(x, "insert into buoys values (1)")
	a.outcome(x, reads)
	assert.Equal(t, "hit", a.outcome(x, reads))
	a.ask(x, "insert delayed into buoys values (2)")
	for range 5 {
		assert.Equal(t, "miss", a.outcome(x, reads))
	}
}
