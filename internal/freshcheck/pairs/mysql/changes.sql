update boats set seats = seats + 1 where id = 1
update boats set name = 'Auk2' where id = 1
update boats set note = 'x'
update low_priority ignore boats set seats = 3 where id = 2
update boats set seats = 4 order by id limit 1
insert into boats (name, seats) values ('Dunlin', 40)
insert into boats set name = 'Eider', seats = 50
insert into boats (id, name) values (1, 'Z') on duplicate key update name = concat(name, '!')
insert ignore into boats (id, name) values (1, 'Z'), (44, 'ZZ')
replace into boats (id, name) values (2, 'Replaced')
delete from boats where id = 1
delete from sailings where id = 1
delete quick from bookings where who = 'ann'
delete b, s from boats b join sailings s on s.boat_id = b.id where b.id = 2
delete from b using boats b where b.id = 3
update boats b join sailings s on s.boat_id = b.id set b.seats = 1, s.free = 2 where b.id = 1
update boats b, (select max(id) as m from sailings) x set b.seats = x.m where b.id = 1
update boats set id = 50 where id = 2
insert into boats (name, seats) select name, free from v5
insert into audit (what) values ('said') returning id
delete from audit returning *
truncate bookings
truncate table audit
set foreign_key_checks = 0; truncate boats; set foreign_key_checks = 1
insert into bookings (sailing_id, who) values (1, 'zed')
update bookings set who = upper(who)
insert into bookings (who) values ('ANN') on duplicate key update sailing_id = 4
insert into parts values (2, 'new')
update parts set k = 12 where k = 1
delete from parts where k = 11
alter table parts truncate partition p0
alter table parts drop partition p1
alter table parts exchange partition p0 with table exch
alter table parts reorganize partition p1 into (partition pa values less than (15), partition pb values less than (20))
alter table parts remove partitioning
alter table hashed coalesce partition 2
alter table parts convert partition p0 to table parted
update hashed set v = 100 where k = 3
select f_w()
select 1 from dual where f_w() = 1
set @x = f_w()
do f_w()
select f_w() into @q
call p_w()
call p_out(@n)
call p_dyn('boats')
call p_dyn('{db}_n.boats')
call p_set()
call p_temp()
call p_block()
call p_read(2)
begin not atomic update boats set seats = 1; end
begin not atomic execute immediate 'update boats set seats = 2'; end
execute immediate 'update boats set seats = 9 where id = 1'
execute immediate concat('up', 'date boats set seats = 8 where id = 1')
prepare zp from 'update boats set seats = ? where id = 2'
	execute zp using @nothing
	execute zp using 123
	deallocate prepare zp
set @s = 'update boats set seats = 55'; prepare zq from @s; execute zq; deallocate prepare zq
set statement max_statement_time = 5 for update boats set seats = 31 where id = 1
set statement sql_mode = '' for insert into boats (name, seats) values ('longer', 'x')
select nextval(sq)
select next value for sq
select setval(sq, 500)
alter sequence sq restart 77
insert into with_default () values ()
create or replace function f_pure(i int) returns int deterministic no sql return i + 100
drop function f_pl; create function f_pl(i int) returns varchar(40) no sql return 'changed'
drop function f_lie
create or replace function f_sql(i int) returns bigint return 5
alter function f_pure comment 'pure'
create or replace view v1 as select id, name, 77 as n from boats
alter view v2 as select id, name, n from v1 where n > 1
drop view v2
rename table v2 to v22
create or replace procedure p_read(i int) select 1
drop procedure p_read
alter table boats modify mood enum('gale','calm','windy')
alter table boats add column extra int default 3
alter table boats add column extra int default 3 first
alter table boats drop column note
alter table boats rename column note to remark
alter table boats change seats places int
alter table boats modify seats bigint
alter table boats modify price decimal(10,3)
alter table boats modify c char(8)
alter table boats alter column seats set default 99
alter table boats convert to character set latin1
alter table boats modify ci varchar(20) collate utf8mb4_bin
alter table boats modify cs varchar(20) collate utf8mb4_general_ci
alter table boats modify name varchar(40) collate utf8mb4_bin not null
alter table boats auto_increment = 1000
alter table boats rename to ships
alter table boats rename to {db}_n.ships
alter table boats drop column g
alter table boats modify g int as (seats * 3) virtual
alter table boats modify gp int as (seats + 100) persistent
alter table boats comment = 'ships'
alter table boats force
rename table boats to b2, sailings to boats, b2 to sailings
rename table {db}_n.boats to {db}_n.b3
rename table boats to {db}_n.moved
drop table {db}_n.boats
drop table if exists bookings, audit
drop table merged_b
alter table merged union = (merged_b)
insert into merged values (3, 3)
update merged_a set v = 50
update merged set v = 60
insert into mem values (2, 'n')
update aria_t set v = 's'
insert into csv_t values (2, 'd')
alter table mem engine = innodb
alter table aria_t rename column v to w
update versioned set v = 11 where id = 1
delete from versioned where id = 2
delete history from versioned
alter table versioned drop system versioning
update periods for portion of p from '2027-03-01' to '2027-06-01' set v = 6
delete from periods for portion of p from '2027-03-01' to '2027-06-01'
update texts set body = 'no ship' where id = 1
insert into texts values (3, 'another boat')
update places set at = point(30, 30) where id = 1
update nets set a = '::2'
delete from tree where id = 1
update tree set up = null where id = 3
update checked set v = 9
alter table checked modify v int
update `Odd Name` set `from` = 'z'
update nokey set b = 9 where a = 1 limit 1
delete from nokey where a = 1
update two_keys set b = 20 where b = 2
replace into two_keys values (1, 2, 9)
insert into two_keys values (3, 2, 0) on duplicate key update v = v + 1
update two_keys set a = 10 where a = 1
update dyn set d = column_add(d, 'a', 5)
update stamped set v = 2
update bigs set d = d + 1 where id = 18446744073709551615
update boats set ci = 'ABC' where id = 1
update boats set cs = 'abc' where cs = 'AbC'
update boats set mood = 2 where id = 1
update boats set j = json_set(j, '$.a', 2) where id = 1
update boats set d = '2027-04-01' where d = 20270301
update boats set ts = '2027-03-01 05:00:00'
update boats set name = 'auk' where name = 'AUK'
update boats set seats = 15 where name = 'auk '
update boats set seats = 16 where id = '1'
update boats set seats = 17 where id = 0x31
update boats set seats = 18 where id = '1abc'
update boats set seats = 19 where id = 1.0
update boats set seats = 20 where id = true
update boats set seats = 21 where id <=> 1
update boats set seats = 22 where id in (select boat_id from sailings)
update boats set seats = 23 where exists (select 1 from v5 where v5.name = boats.name)
update boats b set b.seats = 24 where b.id between 1 and 2
update cols_ci set k = 'Anna' where k = 'ANN'
delete from cols_ci where k = 'ann'
update gen_key set doc = '{"k": 6}' where id = 1
insert into gen_key (id, doc) values (2, '{"k": 7}')
update hidden set secret = 4
alter table hidden alter column secret set default 8
alter table hidden modify secret int
update comp set v = 'changed'
update v3 set seats = 5 where id = 1
insert into v3 (name, seats) values ('via', 7)
delete from v3 where id = 3
update v5 set free = 0 where name = 'Auk'
update {db}_n.vv set seats = 66 where id = 2
update {db}_n.boats set seats = 88
insert into {db}_n.boats values (1, 'One', 1)
insert into boats (name) select concat('s', seq) from seq_1_to_3
insert into boats (name) values (f_pl(1))
with x as (select 1 as id) select * from x
insert into audit (what) with x as (select 'cte' as w) select w from x
create trigger t2 before update on boats for each row set new.seats = 1
	update boats set name = 'trig' where id = 1
create or replace trigger booked after insert on bookings for each row update boats set seats = 0
	insert into bookings (who) values ('new')
drop trigger booked
	insert into bookings (who) values ('new')
drop trigger left_it
	delete from bookings
create trigger hid after insert on mem for each row delete from aria_t
	insert into mem values (9, 'x')
create index ix on boats (seats)
create unique index ux on boats (name)
drop index who on bookings
alter table sailings drop foreign key sails
	delete from boats where id = 1
alter table sailings rename index boat_id to bid
alter table nokey add primary key (a, b)
alter table two_keys drop primary key
analyze table boats
optimize table boats
check table boats
repair table aria_t
flush tables
flush tables boats
flush status
create table copyb as select * from boats
create table likeb like boats
create or replace table mem (id int, v varchar(20)) as select 5 as id, 'z' as v
create table if not exists boats (id int)
create temporary table boats (id int, name varchar(40), seats int)
create temporary table boats select 7 as id, 'tmp' as name, 70 as seats
	drop temporary table boats
create temporary table bookings (id int); create temporary table sailings (id int, boat_id int)
	insert into sailings (id, boat_id) values (1, 1)
	alter table sailings rename to mem
create or replace temporary table mem (id int)
	drop table mem
create temporary table {db}_n.boats (id int, name varchar(9))
create temporary sequence sq
begin
	update boats set seats = 7 where id = 3
	commit
begin
	update boats set seats = 8 where id = 3
	rollback
begin
	savepoint a
	update boats set seats = 9
	rollback to a
	commit
begin
	update aria_t set v = 'kept'
	update boats set seats = 12
	rollback
start transaction with consistent snapshot
start transaction read only
set autocommit = 0
	update boats set seats = 13
	create table commits (id int)
set autocommit = 0
	update boats set seats = 14
	set autocommit = 1
set session transaction isolation level read uncommitted
	begin
set session transaction isolation level serializable
	begin
xa start '{db}x1'
	update boats set seats = 41 where id = 3
	xa end '{db}x1'
	xa prepare '{db}x1'
	xa commit '{db}x1'
xa start '{db}x2'
	update boats set seats = 42 where id = 3
	xa end '{db}x2'
	xa prepare '{db}x2'
	xa rollback '{db}x2'
lock tables boats write
	update boats set seats = 43
	unlock tables
lock tables boats read
flush tables with read lock
	unlock tables
handler boats open
	handler boats read first
set names latin1
set names utf8mb4 collate utf8mb4_bin
set character set latin1
set character_set_results = binary
set character_set_results = null
set collation_connection = utf8mb4_bin
set character_set_connection = latin1
set time_zone = '+09:00'
set lc_time_names = 'de_DE'
set sql_mode = 'ANSI_QUOTES'
set sql_mode = 'PIPES_AS_CONCAT'
set sql_mode = ''
set sql_mode = 'NO_BACKSLASH_ESCAPES'
set sql_mode = 'PAD_CHAR_TO_FULL_LENGTH'
set sql_mode = 'ORACLE'
set sql_mode = 'ONLY_FULL_GROUP_BY'
set sql_mode = concat(@@sql_mode, ',NO_UNSIGNED_SUBTRACTION')
set old_mode = 'NO_PROGRESS_INFO,UTF8_IS_UTF8MB3'
set group_concat_max_len = 4
set sql_select_limit = 1
set sql_auto_is_null = 1
set div_precision_increment = 1
set max_sort_length = 8
set default_week_format = 1
set timestamp = 1767225600
set insert_id = 700
	insert into boats (name) values ('numbered')
set last_insert_id = 5
set @v = 3
set @v := (select max(seats) from boats)
select @v := 5
set system_versioning_asof = '2020-01-01'
set system_versioning_asof = now()
set foreign_key_checks = 0
	delete from boats where id = 1
set unique_checks = 0
set check_constraint_checks = 0
	update checked set v = -1
set sql_log_bin = 0
	update boats set seats = 71
set optimizer_switch = 'derived_merge=off'
set sql_big_selects = 0
set max_join_size = 1
set updatable_views_with_limit = 0
set lock_wait_timeout = 5
set default_storage_engine = myisam
set tx_read_only = 1
set role {db}_r
set role none
set role {db}_r
	reset connection
set default role {db}_r
set password = password('')
use {db}_n
database {db}_n
user {db}_u
reset connection
grant select on {db}.boats to {db}_u
grant insert, update on {db}.* to {db}_u
revoke all privileges on {db}.* from {db}_u
revoke all privileges, grant option from {db}_u
rename user {db}_u to {db}_v; rename user {db}_v to {db}_u
alter user {db}_u account lock
drop user {db}_u
drop role {db}_r
grant {db}_r to {db}_u
create user {db}_w; drop user {db}_w
create database {db}_m; drop database {db}_m
drop database {db}_n
alter database {db} character set latin1
create event ev on schedule at '2030-01-01' do update boats set seats = 0
insert into mysql.db (host, db, user, select_priv) values ('%', '{db}_n', '{db}_q', 'Y'); flush privileges; delete from mysql.db where user = '{db}_q'; flush privileges
select * from boats for update
select * from boats lock in share mode
select sql_calc_found_rows * from boats limit 1
	select found_rows()
select 1; update boats set seats = 72; select 2
select 1; select nosuch; update boats set seats = 73
update boats set seats = 74; set time_zone = '+01:00'
update boats set seats = 75 where id = 1; begin
/*!50000 update boats set seats = 76 */
/*M!100100 update boats set seats = 77 */
explain update boats set seats = 79
analyze update boats set seats = 80
analyze format = json delete from boats where id = 3
explain extended select f_w()
select benchmark(1, f_w())
select * from (select f_w() as x) y
select ifnull(f_w(), 0)
create view vw as select f_w() as w
	select * from vw
create or replace view v4 as select f_w() as m
	select m from v4
create function f_deep() returns int return f_w() + 1
	select f_deep()
create procedure p_deep() call p_w()
	call p_deep()
create or replace function f_pure(i int) returns int begin update boats set seats = 81 where id = i; return 1; end
	select f_pure(2)
insert into boats (name) values ('a'), ('b'); delete from boats where name = 'a'
insert into bookings (who) values ('tx'), ('tx')
insert into checked values (2, 2), (3, -1)
insert into aria_t values (2, 'x'), (1, 'dup')
insert into merged_a values (5, 5), (1, 1)
update aria_t set id = 1
signal sqlstate '45000'
select sleep(0)
select get_lock('{db}', 0)
	select release_all_locks()
checksum table boats
show create table boats
select f_loop()
