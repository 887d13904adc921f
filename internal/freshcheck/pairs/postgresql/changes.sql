update boats set seats = seats + 1 where id = 1
update boats set name = 'Auk2' where id = 1
update only boats set note='x'
insert into boats (name, seats) values ('Dunlin', 40)
delete from boats where id = 1
update boats set id = 50 where id = 2
insert into boats (id, name) values (1,'Z') on conflict (id) do update set name = excluded.name || '!'
with w as (update boats set seats = 0 where id=1 returning *) select count(*) from w
with w as (delete from bookings returning *) insert into audit(what) select who from w
merge into boats b using (values (1, 99)) x(id, s) on b.id = x.id when matched then update set seats = x.s
truncate bookings
truncate boats cascade
truncate trunc_a, trunc_b
truncate trunc_a cascade
truncate parts1
truncate audit restart identity
insert into bookings (sailing_id, who) values (1, 'zed')
delete from sailings where id = 1
insert into parts values (2,'new')
update parts set k = 12 where k = 1
delete from parts where k=11
insert into parts1 values (3,'x')
alter table parts detach partition parts1
alter table parts detach partition parts2 concurrently
create table parts3 partition of parts for values from (20) to (30)
update par set x = 100
insert into chi values (5,5,5)
alter table chi no inherit par
refresh materialized view mv
insert into boats (name) values ('q');refresh materialized view concurrently mv
select f_w()
call p_w()
do $$ begin update boats set seats = 1; end $$
do $$ begin execute 'upd'||'ate boats set seats = 2'; end $$
select nextval('sq')
select setval('boats_id_seq', 500)
alter sequence sq restart with 77
alter sequence boats_id_seq minvalue 0
insert into dflt default values
create or replace function f_imm(int) returns int language sql immutable as $$ select $1 + 100 $$
create or replace function f_pl(int) returns text language sql stable as $$ select 'changed' $$
alter function f_imm(int) rename to f_imm2
drop function f_lie(int)
create or replace view v1 as select b.id, b.name, 77::bigint n from boats b
alter view v2 rename to v3
drop view v2
create view boats2 as select 1
alter type mood add value 'aaa' before 'calm'
alter type mood rename value 'windy' to 'gale'
alter domain posint add check (value < 1000)
alter type pairt add attribute c int cascade
alter type pairt rename attribute a to aa cascade
alter table boats add column extra int default 3
alter table boats drop column note
alter table boats rename column seats to places
alter table boats rename to ships
alter table boats alter column seats type bigint
alter table boats alter c type char(8)
alter table boats alter nm type numeric(10,3)
alter table boats alter nm type numeric(10,1) using nm
alter table boats set (fillfactor=70)
alter table sailings alter column left_seats set default 9
alter table boats disable trigger all
create schema s3; create table s3.boats(id int)
drop table s2.boats
drop table sailings cascade
drop schema s2 cascade
drop owned by {db}_a
create table public.newt (id int)
set search_path = s2, public
set search_path = public
set datestyle='German'
set timezone='Asia/Tokyo'
set extra_float_digits=0
set app.who = 'me'
set lc_time='C'
set default_text_search_config='english'
set role {db}_a
reset role
set xmloption=document
set intervalstyle='iso_8601'
set bytea_output='escape'
set lc_messages='C'
set lc_numeric='C'
set client_min_messages='debug1'
set standard_conforming_strings=off
set transform_null_equals=on
set array_nulls=off
set quote_all_identifiers=on
set pg_trgm.similarity_threshold=0.1
set row_security=off
set plan_cache_mode='force_generic_plan'
set statement_timeout='10s'
reset all
discard all
select set_config('search_path','s2,public',false)
select set_config('timezone','Europe/Paris',false)
create temp table boats (id int, name text, seats int)
create temp view v1 as select 1 id, 'tmp' as name, 0 as n
select 1 into temp table audit
create temp sequence sq
copy (select 1) to stdout
comment on table boats is 'ships'
comment on column boats.name is 'the name'
grant select on boats to {db}_a
revoke select on boats from {db}_a
alter role {db}_a createdb
grant {db}_b to {db}_a
alter default privileges grant select on tables to {db}_a
alter table boats owner to {db}_a
reassign owned by {db}_a to postgres
alter role {db}_a set work_mem='8MB'
alter role {db}_a rename to {db}_x
alter policy pp on rls using (true)
create policy p2 on rls for select using (own='x')
alter table rls disable row level security
alter table rls no force row level security
drop policy pp on rls
create trigger t2 before update on boats for each row execute function tr()
drop trigger t1 on bookings
alter table bookings disable trigger t1
create rule r4 as on update to unl do instead nothing
update unl set v = 'w'
drop rule rr on audit
create index ix on boats(seats)
create index iy on boats(name)
	drop index iy
reindex table boats
cluster boats using boats_pkey
vacuum full boats
vacuum boats
analyze boats
create statistics st2 on name, id from boats
alter statistics st1 rename to st9
drop statistics st1
create extension lo
drop extension hstore cascade
alter extension pg_trgm update
create collation "coll1" (provider=icu, locale='de')
alter table boats alter name type text collate "C"
begin; update boats set seats=7 where id=3; commit
begin; update boats set seats=8 where id=3; rollback
begin; savepoint a; update boats set seats=9; rollback to a; commit
begin; insert into deferr values (5, 2); commit
begin; update boats set seats=71 where id=3; prepare transaction '{db}z'
	commit prepared '{db}z'
prepare zp as update boats set seats = $1 where id = 2
	execute zp(123)
	deallocate zp
begin; declare cx cursor for select * from boats for update; fetch cx; update boats set seats=3 where current of cx; commit
select lo_create(1)
select lo_create(7001)
	select lo_put(7001, 0, 'abc')
	select lo_unlink(7001)
select lo_from_bytea(0, 'abc')
explain analyze update boats set seats = 1234
create table copyb as select * from boats
select * into copyb2 from boats
explain (analyze) create table copyb3 as select f_w()
alter system set work_mem='5MB'
alter database {db} set timezone='UTC'
select pg_reload_conf()
update s2.vv set seats = 55 where id = 3
update tree set up = null where id = 3
delete from tree where id = 1
update "Odd Name" set "from" = 'z'
update arr set a[1] = 9
update arr set b.a = 3
update excl set r='[9,10)'
alter table sailings drop constraint sailings_boat_id_fkey
alter table boats drop constraint boats_pkey cascade
alter table sailings rename constraint sailings_boat_id_fkey to fk9
alter index boats_pkey rename to pk9
create publication pb for table boats
alter table boats replica identity full
alter table boats set unlogged
select pg_advisory_lock(1)
notify zz
listen zz
select pg_notify('zz','a')
create aggregate agg2(int) (sfunc=int4pl, stype=int)
alter aggregate agg_cat(text) rename to agg_dog
drop operator ~>~ (boats, int)
create or replace function op_f(boats, int) returns bool language sql stable as $$ select false $$
select * from crosstab('update boats set seats=66 returning id, name, seats') as ct(id int, a int)
select query_to_xml('update boats set seats=67 returning 1', true,false,'')
select * from ts_stat('with x as (select f_w()) select to_tsvector(''a'')')
select f_w() from boats limit 1
select 1 where f_w() = 1
create view vw as select f_w()
	select * from vw
select count(*) from boats where f_w() = 1
begin
	update boats set seats = 7 where id = 3
	prepare transaction '{db}y'
	rollback prepared '{db}y'
begin isolation level repeatable read
	select 1 from boats
begin isolation level serializable read only deferrable
begin
	lock table boats
	update boats set name = 'locked' where id = 2
	commit
begin
	create table inside (id int)
	alter table boats rename column name to title
	rollback
begin
	set local timezone = 'Asia/Tokyo'
	commit
begin
	declare c1 cursor with hold for select id from boats
	commit
	fetch c1
alter table boats set schema s2x; create schema s4; alter table boats set schema s4
create function f_new() returns int language plpgsql as $$ begin update boats set seats = 90; return 1; end $$
	select f_new()
create or replace function tr() returns trigger language plpgsql as $$ begin update boats set seats = 91; return coalesce(new, old); end $$
	insert into bookings (who) values ('tr')
create trigger t9 after insert on unl for each row execute function tr()
	insert into unl values (9)
create view boats9 as select * from boats
	update boats9 set seats = 92
create domain d9 as int check (value > f_w())
	select 5::d9
explain (analyze, costs off) insert into unl values (33)
copy boats (id, name) from program 'true'
alter table sailings alter column price type text
alter table sailings drop column gen
alter table tree drop constraint tree_up_fkey
alter view v1 rename column n to m
alter function f_sql(int) volatile
alter table rls add column seen int default 4
alter policy pp on rls to {db}_a
alter table par add column z int default 2
create table chi2 () inherits (par); insert into chi2 values (9, 9)
create unlogged table unl2 as select * from unl
alter sequence boats_id_seq increment 5
alter type mood add value 'stormy'
	update boats set m = 'stormy' where id = 1
set session authorization {db}_a
	reset session authorization
