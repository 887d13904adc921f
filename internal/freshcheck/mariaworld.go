package freshcheck

import (
	"math/rand/v2"
	"slices"
)

// newMariaWorld makes a random schema of two databases, with the dependencies that a statement's text does not show, and the
// statements that go with it. Of the engines some do not roll back.
func newMariaWorld(r *rand.Rand) *world {
	w := &world{session: mariaSession, back: mariaResets}
	has := func() bool { return r.IntN(3) > 0 }
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	engine := func() string { return " engine=" + pick("innodb", "innodb", "innodb", "myisam", "aria", "memory") }
	w.add(
		"set sql_mode = '"+pick("STRICT_TRANS_TABLES", "")+"'",
		"create table a (id int primary key, k int not null default 0, n bigint not null default 0, s varchar(8) "+pick("", "collate utf8mb4_bin", "collate utf8mb4_unicode_ci", "character set latin1", "collate utf8mb4_nopad_bin")+" not null default 'x') engine=innodb",
		"create table b (id int auto_increment primary key, a_id int, k int default 0, n bigint default 0, key (k), foreign key (a_id) references a (id) "+pick("on delete cascade", "on delete set null", "on delete cascade on update cascade", "on update cascade on delete set null")+") engine=innodb",
		"create table d (id int auto_increment primary key, k int unique, n bigint default 0)"+engine(),
		"create table e (id tinyint unsigned primary key, k smallint default 0, n bigint default 0, s char(4) default 'e')"+pick(" engine=myisam", " engine=aria", " engine=memory"),
		"create table stamps (id int primary key, at timestamp null, day date) engine=innodb",
		"create table {db}_n.f (id int primary key, a_id int, n bigint default 0, foreign key (a_id) references {db}.a (id) "+pick("on delete cascade", "on delete set null on update cascade")+") engine=innodb",
		"insert into a select seq, seq % 3, 0, concat('s', seq) from seq_0_to_9",
		"insert into d (id, k) select seq + 1, seq from seq_0_to_4", "insert into e (id, k) select seq, seq % 3 from seq_0_to_9",
		"insert into stamps select seq, '2026-01-01 00:00' + interval seq hour, '2026-01-01' from seq_0_to_9", "insert into {db}_n.f select seq, seq, 0 from seq_0_to_9",
	)
	if has() {
		w.add("create table c (id int primary key, k int default 0, n bigint default 0)" + engine())
		if has() {
			w.add("alter table c engine=innodb partition by range (id) (partition low values less than (5), partition high values less than maxvalue)")
			w.writes = append(w.writes, "alter table c truncate partition low", "update c partition (low) set n = {v} where id = {i}")
			w.reads = append(w.reads, "select sum(n) from c partition (high)", "select n from c partition (low) where id = {i}")
		}
	} else {
		w.add("create table c (id int, k int default 0, n bigint default 0, twice bigint as (n * 2) " + pick("stored", "virtual") + ", primary key (id)) engine=innodb" + pick("", " with system versioning"))
		w.reads = append(w.reads, "select twice from c where id = {i}", "select sum(twice) from c where k = {k}")
	}
	w.add("insert into c (id, k, n) select seq, seq % 3, 0 from seq_0_to_9", "insert into b (a_id, k) select seq % 10, seq % 3 from seq_0_to_14")
	w.reads = append(w.reads, mariaReads...)
	w.writes = append(w.writes, mariaWrites...)
	w.wild = append(w.wild, "begin not atomic update c set n = {v} where id = {i}; end", "prepare px from 'update c set n = {v} where id = {i}'; execute px; deallocate prepare px", "execute immediate 'update c set n = {v} where id = {i}'")
	w.around = slices.DeleteFunc(slices.Clone(w.writes), func(sql string) bool { return sql == "begin" })
	w.mariaFeatures(has, pick)
	return w
}

var mariaReads = []string{
	"select n from a where id = {i}", "select n, s from a where id in ({i}, {j}) order by id", "select count(*), max(n) from a where k = {k}", "select n from a where id = '{i}'", "SELECT `n` FROM `a` WHERE `id`='{i}' LIMIT 1",
	"select sum(n), count(*) from b where a_id = {i}", "select n, a_id from b where id = {i}", "select n from c where id = {i}", "select sum(n) from c", "select n, id from d where k = {k}",
	"select a.n, b.n from a join b on b.a_id = a.id where a.id = {i} order by b.id", "select a.n, b.n from a, b where a.id = b.a_id and b.a_id = {i} order by b.id", "select a.n, b.n from a straight_join b using (k) where b.k = {k} order by a.id, b.id",
	"select a.id, b.id, b.n from a left join b on b.a_id = a.id and b.k = {k} where a.id = {i} order by b.id", "select n from a where s = 's{i}'", "select n from a where s = 'S{i}  '",
	"select n from a where id = {i} union all select n from c where id = {j} order by 1", "select (select n from c where c.id = a.id), n from a where id = {i}",
	"select count(*) from a where k = {k}", "select concat(at) from stamps where id = {i}", "select id from stamps where day = '2026-01-0{k}' order by id",
	"select x.n, y.n from a x join a y on y.k = x.id where x.id = {k} order by y.id", "select max(id) from d where id = {i}", "select n from e where id = {i}", "select sum(n), count(*) from e", "select n from e where s = 'E' and id = {i}",
	"select n from {db}_n.f where id = {i}", "select sum(n), count(*), sum(a_id) from {db}_n.f", "select f.n, a.n from {db}_n.f f join {db}.a on a.id = f.a_id where f.id = {i}", "select n from {db}.a where id = {i}",
	"with x as (select id, n from a where k = {k}) select sum(n), count(*) from x", "select group_concat(n order by id) from a where k = {k}", "select distinct k from b where n > 0 order by k",
}

var mariaWrites = []string{
	"update a set n = {v} where id = {i}", "update a set n = {v} where k = {k}", "update a set k = {k}, n = {v} where id in ({i}, {j})", "update a set s = 's{j}' where id = {i}", "update a set n = {v} where id = '{i}'",
	"update a set n = {v} where s = 's{i}'", "update a set n = {v} where s = 'S{i} '", "update a set k = {k} where k = {j}", "insert into a (id, k, n) values ({i}, {k}, {v}) on duplicate key update n = values(n)",
	"insert ignore into a (id, n, s) values ({i}, {v}, 's{j}   ')", "insert into a set id = {i}, n = {v}", "replace into a (id, k, n) values ({i}, {k}, {v})", "delete from a where id = {i}",
	"insert into b (a_id, k, n) select min(id), {k}, {v} from a where id >= {i}", "insert into b (a_id, n) values ({i}, {v}), ({j}, {v})",
	"update b set n = {v} where a_id = {i}", "update b set a_id = {j}, n = {v} where id = {i}", "delete from b where k = {k} and id > 9", "update a set id = id + 100 where id = {i}", "update ignore a set id = {i} where id > 99",
	"update c set n = {v} where id = {i}", "update c set n = {v}", "insert into c (id, k, n) values ({i}, {k}, {v}) on duplicate key update n = {v}", "delete from c where id = {i}", "replace into c (id, n) values ({i}, {v})",
	"insert into d (k, n) values ({k}, {v}) on duplicate key update n = values(n)", "insert into d (n) values ({v})", "update d set n = {v} where k in ({k}, {i})", "delete from d where id = {i}", "replace into d (k, n) values ({k}, {v})", "insert into d (id, n) values (null, {v})",
	"update e set n = {v} where id = {i}", "insert into e (id, n) values ({i}, {v}) on duplicate key update n = {v}", "insert ignore into e (id, n) values (30{i}, {v}), (-1, {v})", "delete from e where id = {i}", "update e set k = k + 1, n = {v} where id = {i}", "update e set s = 'Eel' where id = {i}", "delete from e where id = 255",
	"update {db}_n.f set n = {v} where id = {i}", "insert into {db}_n.f values ({i}, {j}, {v}) on duplicate key update n = {v}", "delete from {db}_n.f where id = {i}",
	"update stamps set at = at + interval 1 minute, day = '2026-01-0{k}' where id = {i}", "update a join b on b.a_id = a.id set a.n = {v}, b.n = {v} where a.id = {i}", "delete b from b join a on a.id = b.a_id where a.id = {i} and b.id > 9",
	"update a, c set a.n = {v}, c.n = {v} where a.id = {i} and c.id = {j}", "update a set n = {v} where id = (select k from d where id = {i})", "update a set n = {v} where id = {i} order by id limit 1",
	"update a set n = {v} where id = {i}; update c set n = {v} where id = {j}", "insert into a (id, n) values ({i}, {v}) returning id", "delete from c where id = {i} returning n", "set statement sql_mode = '' for update a set n = {v} where id = {i}",
	"begin", "begin", "commit", "rollback", "begin; update e set n = {v} where id = {i}; rollback", "begin; update a set n = {v} where id = {i}; rollback", "insert into e (id, n) values (77, {v}), ({i}, {v})", "truncate d", "insert into d (k, n) select seq, {v} from seq_0_to_4 where seq not in (select k from d where k is not null)",
	"insert into a (id, k, n) select {i}, {k}, {v} from dual where not exists (select 1 from a x where x.id = {i})", "select n from a where id = {i} for update", "update a set n = {v} where id between {i} and {j}", "update a set n = {v} where id = {i} or id = {j}",
}

// mariaFeatures adds what is hidden: views, triggers, routines, a second schema's names and the like.
func (w *world) mariaFeatures(has func() bool, pick func(...string) string) {
	if has() {
		w.add("create view v1 as select a.id, a.n, b.n as bn from a left join b on b.a_id = a.id", "create view v2 as select id, n from v1 where id < 6", "create "+pick("", "algorithm=merge ", "sql security invoker ")+"view va as select * from a where id < 8", "create view {db}_n.vf as select f.id, f.n, e.n as en from {db}_n.f f join {db}.e on e.id = f.id")
		w.reads = append(w.reads, "select bn from v1 where id = {i} order by 1", "select id, n from v2 order by 1, 2", "select n from va where id = {i}", "select n, en from {db}_n.vf where id = {i}")
		w.writes = append(w.writes, "update va set n = {v} where id = {i}", "delete from va where id = {i}", "update {db}_n.vf set n = {v} where id = {i}", "insert into va (id, n) values ({i}, {v})")
		w.rare = append(w.rare, "create or replace view v2 as select id, n + {k} as n from v1 where id < 6", "alter view va as select * from a where id < {i}")
	}
	if has() {
		w.add("create trigger follows " + pick("after", "before") + " update on a for each row update c set n = new.n where id = new.id")
		w.rare = append(w.rare, "drop trigger if exists follows", "create or replace trigger follows after update on a for each row update c set n = new.n where id = new.id", "create or replace trigger follows before insert on d for each row set new.n = new.n + 1")
	}
	if has() {
		w.add("create trigger clamps_i before insert on b for each row set new.k = new.k % 2", "create trigger clamps_u before update on b for each row set new.k = new.k % 2", "create trigger gone after delete on c for each row insert into e (id, n) values (old.id + 20, old.n) on duplicate key update n = old.n")
	}
	if has() {
		w.add("create function f_read(i int) returns bigint deterministic reads sql data return (select max(n) from c where id = i)",
			"create function f_write(i int, v bigint) returns bigint deterministic modifies sql data begin update d set n = v where id = i; return v; end",
			"create procedure p_hidden(i int, v bigint) begin execute immediate concat('update c set n = ', v, ' where id = ', i); end",
			"create procedure p_write(i int, v bigint) update a set n = v where id = i", "create procedure p_read(i int) begin select n from a where id = i; select count(*) from c; end",
			"create procedure {db}_n.p_half(i int, v bigint) begin start transaction; update {db}_n.f set n = v where id = i; rollback; update {db}_n.f set n = v where id = i + 1; end")
		w.reads = append(w.reads, "select f_read({i})", "select id, f_read(id) from a where id = {i}", "call p_read({i})")
		w.writes = append(w.writes, "select f_write({i}, {v})", "call p_write({i}, {v})", "call {db}_n.p_half({i}, {v})", "do f_write({i}, {v})", "set @x = f_write({i}, {v})")
		w.wild = append(w.wild, "call p_hidden({i}, {v})")
		w.rare = append(w.rare, "drop function if exists f_read; create function f_read(i int) returns bigint deterministic reads sql data return (select min(n) from a where id = i)")
	}
	if has() {
		w.add("create table {db}_n.a (id int primary key, n bigint default 0, k int default 0, s varchar(9) default '')", "insert into {db}_n.a (id) select seq from seq_0_to_9")
		w.writes = append(w.writes, "update {db}_n.a set n = {v} where id = {i}")
		w.rare = append(w.rare, "rename table {db}_n.a to {db}_n.aa", "rename table {db}_n.aa to {db}_n.a")
	}
	if has() {
		w.add("create sequence q cache 2")
		w.reads = append(w.reads, "select next_not_cached_value from q", "select nextval(q) > 0 from a where id = {i}")
		w.writes = append(w.writes, "select nextval(q)", "do setval(q, {v})", "insert into d (n) values (nextval(q) + {v})")
	}
	w.wild = append(w.wild, "set foreign_key_checks = 0; truncate a; insert into a (id, k, n) select seq, seq % 3, {v} from seq_0_to_9; set foreign_key_checks = 1")
	w.rare = append(w.rare, "revoke all privileges on {db}.* from {db}_u", "grant select on {db}.* to {db}_u", "grant select on {db}.* to {db}_r", "alter table a add column if not exists extra int", "alter table a drop column if exists extra", "create index if not exists by_k on a (k)",
		"alter table c alter column k set default {k}", "alter table e engine=myisam", "alter table e engine=innodb", "analyze table a", "optimize table e", "flush tables", "rename table c to cc, d to c, cc to d", "create or replace table swapped as select * from e", "set global sort_buffer_size = 300000")
}

// mariaResets make a session as it was; those that stand there twice are for what most statements change.
var mariaResets = []string{"set autocommit = 1", "set time_zone = default", "set sql_mode = default", resetsConnection, "set session transaction isolation level repeatable read", "set names utf8mb4", "unlock tables", entersDatabase + " {db}"}

// mariaSession change what a session sees, or how.
var mariaSession = []string{
	"begin", "begin", "begin", "start transaction with consistent snapshot", "start transaction read only", "begin; savepoint p", "commit", "commit", "commit", "rollback", "commit and chain", "rollback and chain", "savepoint p", "rollback to p", "release savepoint p", "set autocommit = 0", "set autocommit = 0", "set autocommit = 1", "set autocommit = 1",
	"set transaction isolation level read committed", "set session transaction isolation level read committed", "set session transaction isolation level read uncommitted", "set session transaction isolation level serializable", "set session transaction isolation level repeatable read", "set transaction isolation level serializable", "set @@tx_isolation = 'READ-COMMITTED'",
	"set transaction read only", "xa start '{db}x{k}'", "xa end '{db}x{k}'", "xa prepare '{db}x{k}'", "xa commit '{db}x{k}'", "xa rollback '{db}x{k}'", "xa commit '{db}x{k}' one phase",
	"set time_zone = '+09:00'", "set @@session.time_zone = '-05:00'", "set time_zone = default", "set sql_mode = 'ANSI_QUOTES'", "set sql_mode = ''", "set @@sql_mode = concat(@@sql_mode, ',PIPES_AS_CONCAT')", "set names latin1", "set names utf8mb4", "set character_set_results = null", "set collation_connection = utf8mb4_bin", "set lc_time_names = 'de_DE'",
	"set sql_select_limit = 1", "set sql_select_limit = default", "set group_concat_max_len = 4", "set group_concat_max_len = default", "set sql_auto_is_null = 1", "set max_sort_length = 8", "set system_versioning_asof = '2020-01-01'", "set system_versioning_asof = default",
	"use {db}_n", "use {db}", entersDatabase + " {db}_n", entersDatabase + " {db}", changesUser + " {db}_u", changesUser + " root", resetsConnection, resetsConnection, "set role {db}_r", "set role none",
	"create temporary table c (id int, n bigint, k int); insert into c values ({i}, {v}, 0)", "create temporary table {db}_n.a select 1 as id, {v} as n", "drop temporary table if exists c", "lock tables a read", "lock tables a write, c write, b write", "unlock tables", "set foreign_key_checks = 0", "set foreign_key_checks = 1",
	"set @jollylarder_caching = 'off'", "set @jollylarder_caching = null", "set @y = {i}", "prepare p1 from 'select n from a where id = ?'", "execute p1 using @y", "deallocate prepare p1", "handler a open", "handler a read first", "handler a close", "flush tables a with read lock", "set sql_log_bin = 1", "set timestamp = 1767225600", "set timestamp = default", "set default role none",
}
