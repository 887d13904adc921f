//go:build safeguards

package freshcheck

import (
	"testing"

	"jollylarder/internal/core/freshness"
)

// smallMaria is a world of MariaDB's in which scripts show what safeguards are for.
var smallMaria = &world{schema: []string{
	"create table a (id int primary key, k int, n int default 0) engine=innodb", "create table c (id int primary key, k int, n int default 0) engine=innodb", "create table e (id int auto_increment primary key, n int) engine=innodb",
	"create table m (id int primary key, n int) engine=myisam", "create table stamps (id int primary key, at timestamp null) engine=innodb", "create table {db}_n.f (id int primary key, a int, foreign key (a) references {db}.a (id) on delete cascade) engine=innodb",
	"create table t (s varchar(8) primary key, n int) engine=innodb", "create table u (id int primary key, k int unique, n int) engine=innodb", "create table small (id tinyint unsigned primary key, n int) engine=innodb",
	"create table b (id int primary key, k int, n int default 0) engine=innodb", "create trigger bends before update on b for each row set new.k = new.k + 1",
	"create function steps() returns int modifies sql data begin update {db}.a set n = n + 1; return 1; end", "create view stepping as select steps() as x",
	"create view turning as select n from a where id = 1", "create procedure turns() begin create or replace view turning as select n from c where id = 1; end",
	"create trigger follows after update on c for each row insert into e (n) values (new.n)",
	"insert into a select seq, seq, 0 from seq_0_to_4", "insert into c select seq, seq, 0 from seq_0_to_4", "insert into b select seq, seq, 0 from seq_0_to_4", "insert into m select seq, 0 from seq_0_to_4", "insert into u select seq, seq, 0 from seq_0_to_4",
	"insert into stamps values (1, '2026-01-01 00:00')", "insert into {db}_n.f values (1, 1)", "insert into t values ('abc', 0)", "insert into small values (255, 0), (1, 0)",
}}

const (
	readsA    = "select n from a where id = 1"
	updatesA  = "update a set n = 5 where id = 1"
	committed = "set session transaction isolation level read committed"
)

// neededByMaria has for each safeguard what happens when it is missed.
var neededByMaria = map[string]need{
	"clock moved": {freshness.ClockMoved, Script{asks(0, readsA), asks(0, readsA), sends(1, updatesA), asks(0, readsA)}},
	"pending at sending": {freshness.PendingAtSending, Script{
		asks(2, readsA), {session: 1, kind: beginStuck, sql: updatesA}, asks(0, readsA), {session: 1, kind: release}, asks(2, readsA),
	}},
	"other columns": {freshness.OtherColumns, Script{asks(0, readsA), sends(1, "update a set n = 5 where k = 1"), asks(0, readsA)}},
	"new keys wait": {freshness.NewKeysWait, Script{
		{session: 1, kind: beginStuck, sql: updatesA}, asks(0, "select n from a where k = 1"), {session: 1, kind: release}, asks(0, "select n from a where k = 1"),
	}},
	"schema meanwhile": {freshness.SchemaMeanwhile, Script{
		{session: 1, kind: beginStuck, sql: updatesA}, sends(2, "create trigger mirrors after update on a for each row update c set n = new.n where id = new.id"),
		asks(0, "select n from c where id = 1"), asks(0, "select n from c where id = 1"), {session: 1, kind: release}, asks(0, "select n from c where id = 1"),
	}},
	"own writes": {freshness.OwnWrites, Script{sends(0, committed), asks(0, readsA), asks(0, readsA), sends(0, "begin"), sends(0, updatesA), asks(0, readsA)}},
	"assigned": {freshness.Assigned, Script{
		asks(0, "select count(*) from a where k = 2"), asks(0, "select count(*) from a where k = 2"), sends(1, "update a set k = k + 1 where k = 1"), asks(0, "select count(*) from a where k = 2"),
	}},
	"unique found": {freshness.UniqueFound, Script{asks(0, "select n from e where id = 1"), sends(1, "insert into e (n) values (5)"), asks(0, "select n from e where id = 1")}},
	"isolation": {freshness.Isolation, Script{
		sends(0, "begin"), asks(0, readsA), sends(1, updatesA), asks(2, readsA), asks(0, readsA),
	}},
	"hidden": {freshness.Hidden, Script{asks(0, "select sum(n) from e"), sends(1, "insert into e (n) values (1)"), asks(0, "select sum(n) from e"), sends(1, "update c set n = 5 where id = 1"), asks(0, "select sum(n) from e")}},
	"settings in key": {freshness.SettingsInKey, Script{
		asks(0, "select concat(at) from stamps where id = 1"), sends(1, "set time_zone = '+09:00'"), asks(1, "select concat(at) from stamps where id = 1"),
	}},
	"unknown effects": {freshness.UnknownEffects, Script{asks(0, readsA), sends(1, "execute immediate 'update a set n = 5'"), asks(0, readsA)}},
	"lost connections": {freshness.LostConnections, Script{
		asks(0, readsA), {session: 1, kind: beginStuck, sql: updatesA}, {session: 1, kind: cutLate},
		asks(0, readsA), asks(0, readsA), {kind: arrives}, asks(0, readsA),
	}},
	"at once": {freshness.AtOnce, Script{
		asks(0, "select n from m where id = 1"), sends(1, "begin"), sends(1, "update m set n = 5 where id = 1"), asks(0, "select n from m where id = 1"),
	}},
	"text in key":      {freshness.TextInKey, Script{asks(0, "select n+1 from a where id = 1"), asks(0, "select n + 1 from a where id = 1")}},
	"stored as given":  {freshness.StoredAsGiven, Script{asks(0, "select n from small where id = 255"), sends(1, "insert ignore into small (id, n) values (300, 1)"), sends(1, "replace into small values (255, 1)"), asks(0, "select n from small where id = 255"), sends(1, "set sql_mode = ''"), sends(1, "replace into small (id, n) values (300, 7)"), asks(0, "select n from small where id = 255")}},
	"cascades":         {freshness.Cascades, Script{asks(0, "select count(*) from {db}_n.f"), sends(1, "delete from a where id = 1"), asks(0, "select count(*) from {db}_n.f")}},
	"notations":        {freshness.Notations, Script{asks(0, readsA), sends(1, "update a set n = 5 where id = '1e0'"), asks(0, readsA)}},
	"folding":          {freshness.Folding, Script{asks(0, "select n from t where s = 'abc'"), sends(1, "update t set n = 5 where s = 'ABC'"), asks(0, "select n from t where s = 'abc'")}},
	"sole keys":        {freshness.SoleKeys, Script{asks(0, "select n from u where id = 2"), sends(1, "replace into u (id, k, n) values (9, 2, 5)"), asks(0, "select n from u where id = 2")}},
	"before triggers":  {freshness.BeforeTriggers, Script{asks(0, "select count(*) from b where k = 2"), asks(0, "select count(*) from b where k = 2"), sends(1, "update b set k = 1 where k = 1"), asks(0, "select count(*) from b where k = 2")}},
	"temporary tables": {freshness.TemporaryTables, Script{asks(0, readsA), sends(0, "create temporary table a select 1 as id, 9 as n"), asks(0, readsA)}},
	"implicit commits": {freshness.ImplicitCommits, Script{asks(0, readsA), asks(0, readsA), sends(1, "begin"), sends(1, updatesA), sends(1, "begin"), asks(0, readsA)}},
	"older privileges": {freshness.OlderPrivileges, Script{
		sends(0, changesUser+" {db}_u"), sends(1, "revoke select on {db}.* from {db}_u"), asks(0, readsA), asks(0, readsA), sends(2, changesUser+" {db}_u"), asks(2, readsA),
	}},
	"defining bodies": {freshness.DefiningBodies, Script{
		asks(0, "select n from turning"), asks(0, "select n from turning"), sends(1, "call turns()"), asks(0, "select n from turning"), sends(1, "update c set n = 5 where id = 1"), asks(0, "select n from turning"),
	}},
	"blind reads": {freshness.BlindReads, Script{
		asks(2, "select sum(n) from a"), sends(0, "begin"), sends(1, "create table x1 (id int)"), sends(0, "select x from stepping"), asks(2, "select sum(n) from a"), asks(2, "select sum(n) from a"), sends(0, "commit"), asks(2, "select sum(n) from a"),
	}},
}

// Each safeguard is needed in front of MariaDB, too.
func TestEachSafeguardIsNeededBeforeMariaDB(t *testing.T) {
	eachIsNeeded(t, mariaChecker(t), smallMaria, neededByMaria)
}
